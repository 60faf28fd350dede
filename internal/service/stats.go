package service

import (
	"time"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/store"
)

// Stats is what an operator wants to know of a running service.
type Stats struct {
	Ready           bool
	Applied, Clock  uint64        // the newest change in memory, and the newest that the database was heard to have
	Silence         time.Duration // since the database was heard last
	Listening       bool          // the connection that hears of changes at once is there
	Collections     int
	Places, Shapes  int
	WaitingWrites   int
	ImportsUnderWay int
	Work            admission.Load
	Connections     store.PoolStats
	KeptOrders      int
	KeptOrderBytes  int
	RoomFree        int64 // bytes, where RoomKnown
	RoomKnown       bool
	Writes          WriteStats
}

// WriteStats counts what the queue has done.
type WriteStats struct {
	Edits, Groups, Failed uint64
	Took                  time.Duration // in transactions, together
	ClockWait             time.Duration // of that: until the clock was free
}

// Stats returns how the service is.
func (s *Service) Stats() Stats {
	h := s.heard.Load()
	out := Stats{
		Ready: s.Ready() == nil, Applied: s.seen.Load(), Clock: h.change, Silence: time.Since(h.at), Listening: s.store.Listening(),
		WaitingWrites: int(s.queue.waiting.Load()), Work: s.desk.Load(), Connections: s.store.PoolStats(), Writes: s.queue.stats(),
	}
	out.Writes.ClockWait = s.store.ClockWait()
	out.RoomFree, out.RoomKnown = s.room()
	s.underway.Range(func(any, any) bool { out.ImportsUnderWay++; return true })
	s.orders.mu.Lock()
	out.KeptOrders, out.KeptOrderBytes = s.orders.kept.Len(), s.orders.bytes
	s.orders.mu.Unlock()
	s.mu.RLock()
	defer s.mu.RUnlock()
	out.Collections = len(s.byID)
	for _, c := range s.byID {
		out.Places += c.set.Snapshot().Len()
		out.Shapes += c.shapes.Snapshot().Len()
	}
	return out
}

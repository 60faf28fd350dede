package service

import (
	"time"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/replica"
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
	Behind          int // collections that are being brought up to the others
	ImportsUnderWay int
	Listeners       int
	Work            admission.Load
	Connections     store.PoolStats
	KeptOrders      int
	KeptOrderBytes  int64
	RoomFree        int64 // bytes, if RoomKnown
	RoomKnown       bool
	Writes          replica.WriteStats
}

// Stats returns how the service is.
func (s *Service) Stats() Stats {
	memory := s.replica.Stats()
	out := Stats{
		Ready: s.Ready() == nil, Applied: memory.Applied, Clock: memory.Clock, Silence: memory.Silence,
		Listening:     s.store.Listening(),
		WaitingWrites: memory.Waiting, Behind: memory.Behind, Work: s.desk.Load(), Connections: s.store.PoolStats(),
		Writes: memory.Writes,
	}
	out.RoomFree, out.RoomKnown = s.room()
	out.ImportsUnderWay, out.Listeners = s.Underway(), s.live.Len()
	out.KeptOrders, out.KeptOrderBytes = s.orders.Len(), s.orders.Bytes()
	all, _ := s.replica.Collections() // none, while they are loaded anew
	out.Collections = len(all)
	for _, c := range all {
		out.Places += c.Places().Len()
		out.Shapes += c.Shapes().Len()
	}
	return out
}

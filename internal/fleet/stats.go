package fleet

import "time"

// Stats is what an operator watches of the devices.
type Stats struct {
	Devices, Groups int
	WaitingBytes    int64  // of positions that wait to be written, about
	Written         uint64 // positions that were kept by this process
	Transactions    uint64 // of positions
	Took            time.Duration
	Heard           uint64 // positions that came over the bus
	Others          int64  // processes
}

// Stats returns how the fleet is.
func (f *Fleet) Stats() Stats {
	f.mu.RLock()
	devices, groups := len(f.devices), len(f.groups)
	f.mu.RUnlock()
	return Stats{
		Devices: devices, Groups: groups, WaitingBytes: f.queue.waiting.Load(), Written: f.queue.written.Load(),
		Transactions: f.queue.groups.Load(), Took: time.Duration(f.queue.took.Load()), Heard: f.others.heard.Load(),
		Others: f.others.there.Load(),
	}
}

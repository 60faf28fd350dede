// Package fleet has the devices: who they are, where each was last, and what its track is made of.
//
// What a device says goes one way: [Fleet.Report] checks it, a queue writes it with what else waits,
// in one transaction, and only then it counts: in memory, for listeners, and for who sent it. Devices
// and groups themselves are rows with versions; each process follows these.
//
// # Snapshots
//
// What is asked about many devices is answered from a [Snapshot], which never changes: a tree of places
// for each group, and for each device what is known of it. A new one is published when something has
// changed, at most every publishEvery. So a view shows all devices as of one moment, whoever moves
// meanwhile.
//
// # Locks
//
// There are two: turn, of which whoever writes positions holds one part until these are taken in, and whoever
// reads devices anew holds the whole; and mu, which guards what changes in memory. Who needs both takes turn
// first. Only turn is held across I/O; readers take neither, but for looking up a device by its id.
package fleet

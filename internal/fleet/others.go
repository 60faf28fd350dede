package fleet

import (
	"context"
	"encoding/binary"
	"errors"
	"math"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"idlebeacon/internal/bus"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/store"
)

const (
	// beatEvery is how often it is noted that this process runs, and beatsFor for how long that holds.
	beatEvery, beatsFor = 5 * time.Second, 20 * time.Second
	// pollEvery is how often positions of other processes are looked for, without a bus or after it has lost some.
	pollEvery = time.Second
	// overlap is how long a position may take from when it was received until it is in the database, nearly always, and
	// longestOverlap always.
	overlap, longestOverlap = 2 * time.Second, 90 * time.Second
	// wholeEvery is how often all within longestOverlap is looked through.
	wholeEvery = time.Minute
)

// others are the other processes on the database. What they keep comes over the bus, or is read from the database.
// Taking in a position a second time does no harm.
type others struct {
	fleet   *Fleet
	bus     bus.Bus
	id      string
	there   atomic.Int64 // how many there are
	recheck atomic.Bool
	heard   atomic.Uint64 // positions that came over the bus
	heardTo atomic.Int64  // the moment up to which it was heard what the others keep, but for what is on its way
}

func newOthers(f *Fleet, b bus.Bus) (*others, error) {
	o := &others{fleet: f, bus: b, id: uuid.NewString()}
	if b == nil {
		return o, nil
	}
	f.mu.RLock()
	identity := f.identity
	f.mu.RUnlock()
	return o, b.Subscribe(subjectOf(identity), o.take)
}

func subjectOf(identity string) string { return "idlebeacon." + identity + ".positions" }

// leave notes that this process takes no positions any more.
func (o *others) leave(ctx context.Context) {
	if err := o.fleet.store.Leave(ctx, o.id); err != nil && ctx.Err() == nil {
		o.fleet.log.Warn("it could not be noted that this process has ended", "error", err)
	}
}

// run looks for other processes, and for what they have kept, until ctx ends.
func (o *others) run(ctx context.Context) {
	ticker := time.NewTicker(pollEvery)
	defer ticker.Stop()
	var beat, whole, polled time.Time
	lost := uint64(0)
	for {
		now := time.Now()
		missed := o.recheck.Swap(false)
		some := o.there.Load() > 0
		if now.Sub(beat) >= beatEvery {
			if n, err := o.fleet.store.Beat(ctx, o.id, beatsFor); err == nil {
				if missed = missed || some && n == 0; n > 0 { // what the last of them kept before it left may be missing
					some = true
				}
				o.there.Store(int64(n))
				beat = now
			}
		}
		if o.bus != nil {
			if l := o.bus.Lost(); l != lost {
				lost, missed = l, true
			}
		}
		if !some {
			o.heardTo.Store(int64(motion.MomentOf(now)))
		}
		if some && (missed || o.bus == nil || now.Sub(whole) >= wholeEvery) {
			reach := now.Sub(polled) + overlap
			if missed || now.Sub(whole) >= wholeEvery {
				reach, whole = max(reach, longestOverlap), now
			}
			if err := o.poll(ctx, min(reach, time.Hour)); err == nil {
				polled = now
				o.heardTo.Store(int64(motion.MomentOf(now)))
			} else if ctx.Err() == nil {
				o.recheck.Store(true)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// poll takes in what was received within some time.
func (o *others) poll(ctx context.Context, reach time.Duration) error {
	const together = 2000
	var some []store.DevicePosition
	take := func() {
		o.takeIn(some)
		some = some[:0]
	}
	err := o.fleet.store.PositionsReceived(ctx, o.fleet.moment().Add(-reach), math.MaxInt64, func(p store.DevicePosition) {
		if some = append(some, p); len(some) == together {
			take()
		}
	})
	take()
	return err
}

// takeIn takes in positions that another process has kept.
func (o *others) takeIn(positions []store.DevicePosition) {
	if len(positions) == 0 {
		return
	}
	f := o.fleet
	unknown := false
	fresh := positions[:0:0]
	f.mu.Lock()
	for i := range positions {
		a := f.takeIn(&positions[i])
		if unknown = a.gone || unknown; a.Arrival != motion.Repeated && !a.gone {
			fresh = append(fresh, positions[i])
		}
	}
	f.mu.Unlock()
	nudge(f.moved)
	f.hand(fresh)
	if unknown { // a device that another process has just made
		f.Wake()
	}
}

// take takes in a message of the bus.
func (o *others) take(message []byte) {
	positions, err := decodePositions(message)
	if err != nil {
		o.fleet.log.Warn("a message of the bus cannot be read; is another version on it?", "error", err)
		o.recheck.Store(true)
		return
	}
	o.heard.Add(uint64(len(positions)))
	o.takeIn(positions)
}

// tellOthers tells the other processes of positions that were kept, by their numbers.
func (f *Fleet) tellOthers(identity string, all []store.DevicePosition, fresh []int) {
	if f.others == nil || f.others.bus == nil || len(fresh) == 0 {
		return
	}
	subject := subjectOf(identity)
	message := []byte{busVersion}
	send := func() {
		if err := f.others.bus.Publish(subject, message); err != nil {
			f.log.Debug("the bus does not take positions", "error", err) // others read them from the database
		}
		message = message[:1]
	}
	for _, i := range fresh {
		if message = appendPosition(message, &all[i]); len(message) > bus.MaxMessage-motion.MaxReport {
			send()
		}
	}
	if len(message) > 1 {
		send()
	}
}

// busVersion is that of the form that positions have on the bus.
const busVersion = 1

// appendPosition appends a position in the form that it has on the bus: its numbers in little endian, and its
// properties with their length.
func appendPosition(dst []byte, p *store.DevicePosition) []byte {
	for _, n := range [...]uint64{
		uint64(p.Device), uint64(p.Time), uint64(p.Received), math.Float64bits(p.At.Lon), math.Float64bits(p.At.Lat),
	} {
		dst = binary.LittleEndian.AppendUint64(dst, n)
	}
	for _, n := range [...]float32{p.Accuracy, p.Altitude, p.AltitudeAccuracy, p.Heading, p.Speed} {
		dst = binary.LittleEndian.AppendUint32(dst, math.Float32bits(n))
	}
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(p.Properties)))
	return append(dst, p.Properties...)
}

var errGarbled = errors.New("it is cut off, or of another form")

// decodePositions reads a message.
func decodePositions(b []byte) (all []store.DevicePosition, err error) {
	if len(b) == 0 || b[0] != busVersion {
		return nil, errGarbled
	}
	b = b[1:]
	const fixed = 5*8 + 5*4 + 4
	for len(b) > 0 {
		if len(b) < fixed {
			return nil, errGarbled
		}
		var p store.DevicePosition
		word := func() uint64 { n := binary.LittleEndian.Uint64(b); b = b[8:]; return n }
		half := func() uint32 { n := binary.LittleEndian.Uint32(b); b = b[4:]; return n }
		p.Device, p.Time, p.Received = int64(word()), motion.Moment(word()), motion.Moment(word())
		p.At.Lon, p.At.Lat = math.Float64frombits(word()), math.Float64frombits(word())
		for _, to := range [...]*float32{&p.Accuracy, &p.Altitude, &p.AltitudeAccuracy, &p.Heading, &p.Speed} {
			*to = math.Float32frombits(half())
		}
		size := int(half())
		if size > len(b) || size > motion.MaxProperties || p.Validate() != nil {
			return nil, errGarbled
		}
		if size > 0 {
			p.Properties = append([]byte(nil), b[:size]...)
		}
		b = b[size:]
		all = append(all, p)
	}
	return all, nil
}

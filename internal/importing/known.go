package importing

import (
	"sync/atomic"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/replica"
)

// knownSample is how many features show where a collection is.
const knownSample = 4096

// A whereabouts is where a collection was when it had so many features.
type whereabouts struct {
	known *doubts.Known
	count int
}

type whereaboutsKey struct{} // of what is kept beside a collection

// suit lets a file be read for a collection: by where its features are, and by what they have to be.
func suit(options *formats.Options, c *replica.Copy) error {
	rules, err := c.Rules()
	if err != nil {
		return err
	}
	options.Known = Known(c)
	if rules != nil {
		options.Check, options.Wanted = rules.Check, map[string]formats.Type{}
		for name, kind := range rules.Kinds() {
			options.Wanted[name] = typesOfKinds[kind]
		}
	}
	return nil
}

// typesOfKinds are the types of columns whose values are of one kind.
var typesOfKinds = map[schema.Kind]formats.Type{
	schema.Text: formats.Text, schema.Number: formats.Number, schema.Boolean: formats.Boolean,
	schema.Date: formats.Date, schema.Moment: formats.Timestamp,
}

// Known returns where the features of a collection are, which tells what does not fit them;
// nil if there are none. It is found out anew when a tenth more or fewer are there.
func Known(c *replica.Copy) *doubts.Known {
	beside := c.Beside(whereaboutsKey{}, func() any { return new(atomic.Pointer[whereabouts]) })
	kept := beside.(*atomic.Pointer[whereabouts])
	count := c.Len()
	if w := kept.Load(); w != nil && count > w.count*9/10 && count <= w.count*11/10 {
		return w.known
	}
	if count == 0 {
		return nil
	}
	sample := append(c.Places().Sample(knownSample), c.Shapes().Sample(knownSample)...)
	w := &whereabouts{doubts.KnownFrom(sample, count), count}
	kept.Store(w)
	return w.known
}

// Package doubts says which positions are possible but likely wrong: those with longitude and
// latitude swapped, and those at 0, 0.
package doubts

import (
	"fmt"

	"idlebeacon/internal/core/axes"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// The kinds of doubts.
const (
	KindSwapped = "swapped" // longitude and latitude
	KindZero    = "zero"    // the position is likely missing
)

// A Doubt is a position that is possible but likely wrong. What it is about is kept
// as it is, unless a fix says otherwise.
type Doubt struct {
	Kind   string // KindSwapped or KindZero
	Fix    string // the name of the fix for it
	Reason string
}

// Zero is the doubt about a place at longitude 0, latitude 0.
var Zero = &Doubt{KindZero, "skip_zero", "is at longitude 0, latitude 0, which mostly means that its position is " +
	"missing"}

// Swapped is the doubt about a position that likely has longitude and latitude swapped; how
// says what tells so.
func Swapped(p geo.Point, how string) *Doubt {
	return &Doubt{
		KindSwapped,
		"swap_doubtful",
		fmt.Sprintf("longitude %v, latitude %v %s if the two are swapped", p.Lon, p.Lat, how),
	}
}

// About returns what is doubtful about where a feature is, or nil. known is
// where the others of its collection are, nil if that is not known.
func About(f *feature.Feature, known *Known) *Doubt {
	switch {
	case f.Shape == nil && f.At == geo.Point{}:
		return Zero
	case known != nil && known.judge.SwappedAmong(f.At):
		return Swapped(f.At, "lies far from the rest of the collection, and among it")
	}
	return nil
}

// Known is where the features of a collection are, to which those of a file are compared.
type Known struct {
	cloud *axes.Cloud
	judge *axes.Judge
}

// KnownFrom returns where a collection is by the positions of some of its features, which
// stand for as many as total.
func KnownFrom(sample []geo.Point, total int) *Known {
	cloud := axes.CloudOf(sample, total)
	return &Known{cloud: cloud, judge: axes.NewJudge(nil, cloud)}
}

// Cloud returns where the features are, nil if nothing is known.
func (k *Known) Cloud() *axes.Cloud {
	if k == nil {
		return nil
	}
	return k.cloud
}

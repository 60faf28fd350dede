package index

import (
	"cmp"
	"math/bits"

	"idlebeacon/internal/core/geo"
)

// MaxCategory is the greatest number of a category.
const MaxCategory = 1<<categoryBits - 1

const (
	categoryBits = 10
	tagBits      = 32 - categoryBits
)

// An Entry is one point of the index.
type Entry struct {
	Key   Key
	Ref   uint32 // what the point stands for, in the owner's own numbering
	label uint32 // the category, and the tag that stands for its identity
}

// NewEntry returns an entry. Its category is the owner's number for it, 0 to
// [MaxCategory]. Its identity is a hash of what makes the point the same one after
// it was changed or moved; see [Summary.Members]. It need not be a good one: only that
// different points have different ones counts.
func NewEntry(key Key, ref uint32, category uint16, identity uint64) Entry {
	return Entry{Key: key, Ref: ref, label: uint32(category)<<tagBits | uint32(mix(identity)>>(64-tagBits))}
}

// Category returns the number of e's category.
func (e Entry) Category() uint16 { return categoryOf(e.label) }

// categoryOf returns the number of the category of an entry with a label.
func categoryOf(label uint32) uint16 { return uint16(label >> tagBits) }

// Renumbered returns e, of the same place and identity, with another Ref and category.
func (e Entry) Renumbered(ref uint32, category uint16) Entry {
	return Entry{Key: e.Key, Ref: ref, label: uint32(category)<<tagBits | e.label&(1<<tagBits-1)}
}

// member returns e's share of Summary.Members: its tag, spread over 64 bits so that
// sums differ.
func (e Entry) member() uint64 { return memberOf(e.label) }

// memberOf is member of the entry with a label.
func memberOf(label uint32) uint64 { return mix(uint64(label & (1<<tagBits - 1))) }

// mix spreads what tells numbers apart over all 64 bits: the finishing steps of
// SplitMix64 (G. L. Steele, D. Lea, C. H. Flood, "Fast Splittable Pseudorandom Number
// Generators", OOPSLA 2014).
func mix(x uint64) uint64 {
	x = (x + 1) * 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

func compare(a, b Entry) int {
	if c := cmp.Compare(a.Key, b.Key); c != 0 {
		return c
	}
	return cmp.Compare(a.Ref, b.Ref)
}

// The bits of Key and then Ref, taken in pairs, are the path of an entry through
// the tree: at each of maxDepth levels one of four ways. The first MaxLevel of them
// are the cells of the map; the others tell apart entries on one spot.
const maxDepth = MaxLevel + 16

// way returns which of the four ways e goes at the given level, below maxDepth.
func (e Entry) way(level uint8) int {
	if level < MaxLevel {
		return int(e.Key>>(62-2*level)) & 3
	}
	return int(e.Ref>>(30-2*(level-MaxLevel))) & 3
}

// common returns how many levels a and b have in common, up to maxDepth.
func common(a, b Entry) uint8 {
	if x := a.Key ^ b.Key; x != 0 {
		return uint8(bits.LeadingZeros64(uint64(x)) / 2)
	}
	if x := a.Ref ^ b.Ref; x != 0 {
		return MaxLevel + uint8(bits.LeadingZeros32(x)/2)
	}
	return maxDepth
}

// Common returns the deepest level at which one cell holds the spots of two keys, and all keys
// between them.
func Common(a, b Key) uint8 {
	if x := a ^ b; x != 0 {
		return uint8(bits.LeadingZeros64(uint64(x)) / 2)
	}
	return MaxLevel
}

// A Summary describes a set of entries without listing them. The zero value
// describes the empty set.
type Summary struct {
	Count      int
	SumX, SumY uint64      // sums of the spots' coordinates
	Extent     geo.SpotBox // the smallest box that holds all; meaningless if Count is 0
	// Members is a hash of which entries the set holds, by their identities: two
	// sets with the same members have the same, others hardly ever.
	Members uint64
}

// Mean returns the spot at the arithmetic mean of the entries' coordinates,
// rounded down. It lies in Extent. The set must not be empty.
func (s *Summary) Mean() geo.Spot {
	m := s.Moments()
	return m.Mean()
}

// Moments returns those of the entries.
func (s *Summary) Moments() Moments { return Moments{s.Count, s.SumX, s.SumY} }

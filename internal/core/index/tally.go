package index

import "math/bits"

// A Share says how many entries of a set have a category.
type Share struct {
	Category uint16
	Count    uint32
}

// A Tally counts a set of entries by category: in ascending order of Category,
// none with a Count of 0.
type Tally []Share

// counted returns t with one entry of a category more. It may change t.
func (t Tally) counted(category uint16) Tally {
	i := t.find(category)
	if i < len(t) && t[i].Category == category {
		t[i].Count++
		return t
	}
	t = append(t, Share{})
	copy(t[i+1:], t[i:])
	t[i] = Share{category, 1}
	return t
}

// uncounted returns t with one entry of a category less. It may change t.
func (t Tally) uncounted(category uint16) Tally {
	i := t.find(category)
	if t[i].Count--; t[i].Count == 0 {
		return append(t[:i], t[i+1:]...)
	}
	return t
}

// find returns where category is or belongs in t.
func (t Tally) find(category uint16) int {
	low, high := 0, len(t)
	for low < high {
		if mid := (low + high) / 2; t[mid].Category < category {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low
}

// A TallySum adds up tallies. The zero value is that of none.
type TallySum struct {
	counts [MaxCategory + 1]uint32
	there  [(MaxCategory + 1) / 64]uint64 // the categories with a count, a bit for each
}

// Add adds a tally of entries that are not in the sum yet.
func (s *TallySum) Add(t Tally) {
	for _, share := range t {
		s.add(share.Category, share.Count)
	}
}

func (s *TallySum) add(category uint16, count uint32) {
	s.counts[category] += count
	s.there[category/64] |= 1 << (category % 64)
}

// addLabels adds the entries with some labels.
func (s *TallySum) addLabels(labels []uint32) {
	for _, label := range labels {
		s.add(categoryOf(label), 1)
	}
}

// Take returns the sum, in room if that is enough, and empties s.
func (s *TallySum) Take(room Tally) Tally {
	t := room[:0]
	for i, word := range s.there {
		for ; word != 0; word &= word - 1 {
			category := 64*i + bits.TrailingZeros64(word)
			t = append(t, Share{uint16(category), s.counts[category]})
			s.counts[category] = 0
		}
		s.there[i] = 0
	}
	return t
}

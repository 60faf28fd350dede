package formats

import (
	"idlebeacon/internal/core/axes"
)

// A Survey is what all rows of a file tell together: of which types its columns are, how
// its text is encoded, and which of its positions are likely wrong. It is made while the
// file is read. What the first rows show may not hold for all: see [File.Holds].
type Survey struct {
	whole    bool // all of the file has been seen
	encoding encoding
	crs      string // the reference system that the file names after its features, or ""
	names    []string
	columns  map[string]*columnSurvey
	cloud    *axes.Cloud
	judge    *axes.Judge // once the file has been seen

	rows        int
	leftOut     map[string]int // by what it is
	leftOutKeys []string       // in the order in which they were met
	closed      occurrence
	fixes       map[string]*fixSurvey // that would change something, by name
	changed     map[string]int        // rows that a fix that was asked for has changed
}

// A fixSurvey is which rows a fix would change.
type fixSurvey struct {
	rows  int
	alone int // that would then lie where nothing else of the file is
}

func newSurvey() *Survey {
	return &Survey{
		columns: map[string]*columnSurvey{}, cloud: &axes.Cloud{}, leftOut: map[string]int{},
		fixes: map[string]*fixSurvey{}, changed: map[string]int{},
	}
}

// again returns a survey for reading the file once more: it knows what s knows, and counts
// anew what a row at a time shows.
func (s *Survey) again() *Survey {
	out := newSurvey()
	out.whole, out.encoding, out.crs = true, s.encoding, s.crs
	out.names, out.columns, out.cloud, out.judge = s.names, s.columns, s.cloud, s.judge
	return out
}

// column returns the survey of a column. There is none of a column beyond the first
// MaxColumns.
func (s *Survey) column(name string) *columnSurvey {
	c := s.columns[name]
	if c == nil && !s.whole && len(s.columns) < MaxColumns {
		c = &columnSurvey{}
		s.columns[name] = c
		s.names = append(s.names, name)
	}
	return c
}

// reading returns how the values of a column are read.
func (s *Survey) reading(name string, asked map[string]Type) reading {
	c := s.columns[name]
	if t, is := asked[name]; is {
		return c.as(t)
	}
	return c.best()
}

// leave counts something that has no place in a feature.
func (s *Survey) leave(what string, n int) {
	if n == 0 {
		return
	}
	const most = 100 // different things
	if _, known := s.leftOut[what]; !known {
		if len(s.leftOut) == most {
			what = "other elements"
		}
		if _, known := s.leftOut[what]; !known {
			s.leftOutKeys = append(s.leftOutKeys, what)
		}
	}
	s.leftOut[what] += n
}

// fixable counts a row that a fix would change.
func (s *Survey) fixable(fix string, alone bool) {
	f := s.fixes[fix]
	if f == nil {
		f = &fixSurvey{}
		s.fixes[fix] = f
	}
	if f.rows++; alone {
		f.alone++
	}
}

// notes returns what people should know of the file.
func (s *Survey) notes(o *Options) (notes []Note) {
	if s.encoding.told() {
		notes = append(notes, Note{Kind: EncodingNote, What: s.encoding.name})
	}
	if s.crs != "" {
		notes = append(notes, Note{Kind: CRSNote, What: s.crs})
	}
	if s.closed.count > 0 {
		notes = append(notes, Note{Kind: ClosedNote, Count: s.closed.count, Row: s.closed.row})
	}
	for _, what := range s.leftOutKeys {
		notes = append(notes, Note{Kind: LeftOutNote, What: what, Count: s.leftOut[what]})
	}
	types := o.types()
	for _, name := range s.names {
		_, asked := types[name]
		notes = append(notes, s.columns[name].notes(name, s.reading(name, types), asked)...)
	}
	for _, name := range Fixes {
		asked := *o.Fix.named(name)
		if f := s.fixes[name]; f != nil && !asked {
			notes = append(notes, Note{
				Kind: FixNote, What: name, Count: f.rows, Of: s.rows, Alone: f.alone, Set: []Setting{{"fix", name}},
			})
		}
		if asked && s.changed[name] == 0 {
			notes = append(notes, Note{Kind: IdleFixNote, What: name})
		}
	}
	if s.judge != nil && o.Within == nil {
		if sides := s.judge.Sides(); sides != nil {
			notes = append(notes, Note{Kind: MirroredNote, Sides: sides, Set: []Setting{
				{"within", sides[0].Box.String()}, {"within", sides[1].Box.String()},
			}})
		}
	}
	return notes
}

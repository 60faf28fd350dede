package importing

import (
	"encoding/json"

	"idlebeacon/internal/core/axes"
	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
)

// A reportRecord is an Report as the database keeps it. Its names are those of the
// database, and stay when those of the program change.
type reportRecord struct {
	Import    string            `json:"import"`
	Rows      int               `json:"rows"`
	Created   int               `json:"created"`
	Replaced  int               `json:"replaced"`
	Unchanged int               `json:"unchanged"`
	Rejected  int               `json:"rejected"`
	WithoutID int               `json:"without_id"`
	Doubtful  int               `json:"doubtful"`
	Mended    int               `json:"mended"`
	Repeated  int               `json:"repeated"`
	Kept      int               `json:"kept"`
	DryRun    bool              `json:"dry_run"`
	Notes     []noteRecord      `json:"notes"`
	Errors    []rejectionRecord `json:"errors"`
	Doubts    []doubtRecord     `json:"doubts"`
	Stopped   string            `json:"stopped"`
}

type noteRecord struct {
	Kind   formats.NoteKind `json:"kind"`
	Column string           `json:"column"`
	Type   formats.Type     `json:"type"`
	What   string           `json:"what"`
	Count  int              `json:"count"`
	Of     int              `json:"of"`
	Alone  int              `json:"alone"`
	Row    int              `json:"row"`
	Value  string           `json:"value"`
	Sides  []sideRecord     `json:"sides"`
	Set    []settingRecord  `json:"set"`
}

type sideRecord struct {
	Count int           `json:"count"`
	Box   boxRecord     `json:"box"`
	Spots []pointRecord `json:"spots"`
}

type boxRecord struct {
	West  float64 `json:"west"`
	South float64 `json:"south"`
	East  float64 `json:"east"`
	North float64 `json:"north"`
}

type pointRecord struct {
	Lon float64 `json:"lon"`
	Lat float64 `json:"lat"`
}

type settingRecord struct {
	Option string `json:"option"`
	Value  string `json:"value"`
}

type rejectionRecord struct {
	Row    int    `json:"row"`
	Line   int    `json:"line"`
	Reason string `json:"reason"`
	Fix    string `json:"fix"`
}

type doubtRecord struct {
	Row    int    `json:"row"`
	Line   int    `json:"line"`
	Kind   string `json:"kind"`
	Fix    string `json:"fix"`
	Reason string `json:"reason"`
}

// record returns what the database keeps of a report.
func (r *Report) record() reportRecord {
	out := reportRecord{
		Import: r.Import, Rows: r.Rows, Created: r.Created, Replaced: r.Replaced, Unchanged: r.Unchanged,
		Rejected:  r.Rejected,
		WithoutID: r.WithoutID, Doubtful: r.Doubtful, Mended: r.Mended, Repeated: r.Repeated, Kept: r.Kept,
		DryRun: r.DryRun, Stopped: r.Stopped,
	}
	for _, n := range r.Notes {
		note := noteRecord{n.Kind, n.Column, n.Type, n.What, n.Count, n.Of, n.Alone, n.Row, n.Value, nil, nil}
		for _, s := range n.Sides {
			side := sideRecord{Count: s.Count, Box: boxRecord(s.Box)}
			for _, p := range s.Spots {
				side.Spots = append(side.Spots, pointRecord(p))
			}
			note.Sides = append(note.Sides, side)
		}
		for _, s := range n.Set {
			note.Set = append(note.Set, settingRecord(s))
		}
		out.Notes = append(out.Notes, note)
	}
	for _, e := range r.Errors {
		out.Errors = append(out.Errors, rejectionRecord{e.Row, e.Line, e.Reason, e.Fix})
	}
	for _, d := range r.Doubts {
		out.Doubts = append(out.Doubts, doubtRecord{d.Row, d.Line, d.Kind, d.Fix, d.Reason})
	}
	return out
}

// parseReport reads what the database has kept of a report.
func parseReport(text string) (*Report, error) {
	var r reportRecord
	if err := json.Unmarshal([]byte(text), &r); err != nil {
		return nil, err
	}
	out := &Report{
		Import: r.Import, Rows: r.Rows, Created: r.Created, Replaced: r.Replaced, Unchanged: r.Unchanged,
		Rejected:  r.Rejected,
		WithoutID: r.WithoutID, Doubtful: r.Doubtful, Mended: r.Mended, Repeated: r.Repeated, Kept: r.Kept,
		DryRun: r.DryRun, Stopped: r.Stopped,
		Errors: []formats.RowError{}, Doubts: []RowDoubt{},
	}
	for _, n := range r.Notes {
		note := formats.Note{
			Kind: n.Kind, Column: n.Column, Type: n.Type, What: n.What, Count: n.Count, Of: n.Of, Alone: n.Alone,
			Row: n.Row, Value: n.Value,
		}
		for _, s := range n.Sides {
			side := axes.Side{Count: s.Count, Box: geo.Box(s.Box)}
			for _, p := range s.Spots {
				side.Spots = append(side.Spots, geo.Point(p))
			}
			note.Sides = append(note.Sides, side)
		}
		for _, s := range n.Set {
			note.Set = append(note.Set, formats.Setting(s))
		}
		out.Notes = append(out.Notes, note)
	}
	for _, e := range r.Errors {
		out.Errors = append(out.Errors, formats.RowError{Row: e.Row, Line: e.Line, Reason: e.Reason, Fix: e.Fix})
	}
	for _, d := range r.Doubts {
		out.Doubts = append(
			out.Doubts,
			RowDoubt{d.Row, d.Line, doubts.Doubt{Kind: d.Kind, Fix: d.Fix, Reason: d.Reason}},
		)
	}
	return out, nil
}

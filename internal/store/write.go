package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/feature"
)

// An Op is what a change did.
type Op string

// The kinds of change.
const (
	Created  Op = "create"
	Replaced Op = "replace"
	Deleted  Op = "delete"
	Filled   Op = "fill"  // put many features into a collection that was empty, in one change
	Joined   Op = "merge" // put many features into a collection that was not empty, in one change
)

// A Way is how a change came to be made.
type Way string

// The ways of changes.
const (
	ByEdit       Way = "edit"       // an app or program asked for just that
	ByConsole    Way = "console"    // somebody asked for it in the console
	ByCommand    Way = "command"    // somebody asked for it on the command line
	BySuggestion Way = "suggestion" // somebody suggested it, and an editor has accepted that
	ByUndo       Way = "undo"       // it takes back other changes
	ByImport     Way = "import"     // it was in a file
)

// An Origin is whom and what a change comes from.
type Origin struct {
	Actor string // who asked for it; "" if that is not known
	Way   Way
}

// A Write is edits that somebody asks for together.
type Write struct {
	Origin   Origin
	Edits    []Edit
	Together bool   // all edits are done, or none is
	Retry    *Retry // nil if the caller would not know it again
	// Accepts is the suggestion that it carries out, which has to be open: otherwise no edit is done, and
	// their error is ErrDecided. Nil if there is none.
	Accepts *Acceptance
}

// An EditKind says what an Edit asks for.
type EditKind int

// The kinds of edit.
const (
	Create EditKind = iota // add a feature; ErrExists if its id is taken
	Put                    // add a feature, or replace the one with its id
	Alter                  // change the feature with this id; ErrNoFeature if there is none
	Delete                 // take out the feature with this id; ErrNoFeature if there is none
)

// An Edit asks for one change to one feature.
type Edit struct {
	Kind       EditKind
	Collection int64           // the collection's key
	Feature    feature.Feature // for Alter and Delete only the ID counts; the ID must not be empty
	// Change returns what Alter makes of the feature that is there. It is cheap, as all edits
	// wait for it, and may be called several times. Its error is that of the edit.
	Change func(was *feature.Feature) (feature.Feature, error)
	Bytes  int // about how many Change holds on to
	// Since, if it is not nil, are the changes of which one has to be the feature's newest:
	// otherwise the edit is not done, and its error is ErrChanged.
	Since []uint64
	// MadeBy is who counts as having made a feature that is not there; "" for who asks for it.
	MadeBy string
	// OnlyBy, if it is not "", is who has to have made the feature that is there: otherwise the
	// edit is not done, and its error is ErrNotOwn.
	OnlyBy string
}

// Size returns about how many bytes of memory e takes until it is done.
func (e *Edit) Size() int {
	const fixed, position = 500, 100 // as numbers and as text
	size := fixed + e.Bytes + len(e.Feature.ID) + 3*len(e.Feature.Properties.JSON())
	if e.Feature.Shape != nil {
		size += position * e.Feature.Shape.Positions()
	}
	return size
}

// A Change is one committed edit.
type Change struct {
	Number     uint64
	Collection int64
	FeatureID  string // "" if the change is to the collection itself
	Op         Op
	// Now is the feature after the change, nil if it is gone. Changes read back
	// from the database have the feature as it is when they are read.
	Now *feature.Feature
	At  time.Time // when it was made
}

// An Outcome is what became of one Edit: a change, or an error, or neither if
// the feature already was as asked.
type Outcome struct {
	Change *Change
	Err    error
	// Now is the feature as it is, whatever became of the edit; nil if there is none.
	Now *Stored
	Was *Stored // what a change has replaced or taken out
	// Earlier is what became of the edit when it was sent before: nothing was done now, and
	// Now is nil.
	Earlier *Earlier
}

// notifyChannel is the channel on which writers wake the other processes.
const notifyChannel = "idlebeacon_changes"

type rowKey struct {
	collection int64
	id         string
}

// Apply carries out the edits of some writes in one transaction, in their order, each seeing
// those before it, and returns their outcomes one after the other. An edit that cannot be
// done does not keep the others from being done: its outcome has the error. If an import is
// being written into a collection, no edit is done of a write with an edit there, and all its
// outcomes have ErrImporting. The error of Apply itself means that nothing was written or, if
// it is ErrUnknownOutcome, that it is not known. The state is that of before the edits.
func (s *Store) Apply(ctx context.Context, writes []Write) (State, []Outcome, error) {
	var edits []Edit
	for i := range writes {
		edits = append(edits, writes[i].Edits...)
	}
	var outcomes []Outcome
	state, err := s.write(ctx, func(tx *gorm.DB, c *clock) error {
		b, err := readBatch(tx, edits)
		if err == nil {
			b.earlier, err = readRetries(tx, writes)
		}
		if err == nil {
			b.open, err = lockOpen(tx, writes)
		}
		if err != nil {
			return err
		}
		outcomes = outcomes[:0]
		for i := range writes {
			done, err := b.write(&writes[i], c)
			if err != nil {
				return err
			}
			outcomes = append(outcomes, done...)
		}
		return b.flush(tx, c.at)
	})
	if err != nil {
		return state, nil, fmt.Errorf("writing %d edits: %w", len(edits), err)
	}
	return state, outcomes, nil
}

// A batch is the edits of one transaction under way: the rows they touch, as
// they will be, and the changes made.
type batch struct {
	collections map[int64]bool         // those that are there: whether they can be edited now
	rows        map[rowKey]*featureRow // nil if there is none
	touched     map[rowKey]bool        // rows that differ from the database
	changes     []changeRow
	earlier     map[retryKey]retryRow // writes that were done before
	retries     []retryRow            // that are to be known again
	open        map[int64]bool        // the suggestions that writes carry out, as long as they are open
	accepted    []acceptedRow

	origin      Origin // of the edits that are being done
	transaction uint64
}

// A changeRow is a row of the journal.
type changeRow struct {
	number      uint64
	transaction uint64 // the number of the first change that was asked for together with this one
	origin      Origin
	collection  int64
	featureID   string // "" if the change is to the collection itself
	op          Op
	before      *string // what it replaced or deleted, as JSON: a GeoJSON feature, or a collectionRecord
}

// readBatch reads the rows that edits are about.
func readBatch(tx *gorm.DB, edits []Edit) (*batch, error) {
	b := &batch{collections: map[int64]bool{}, rows: map[rowKey]*featureRow{}, touched: map[rowKey]bool{}}
	var keys array[int64]
	var ids array[string]
	for i := range edits {
		keys = append(keys, edits[i].Collection)
		ids = append(ids, edits[i].Feature.ID)
	}
	var there []struct {
		Key  int64
		Free bool
	}
	// The lock is shared with other edits. An import has it alone, and edits do not wait for
	// that, as they hold the clock.
	err := tx.Raw("SELECT key, "+fmt.Sprintf(tryEditing, "key")+" AS free FROM collections WHERE key = ANY (?)", keys).
		Scan(&there).
		Error
	if err != nil {
		return nil, err
	}
	for _, c := range there {
		b.collections[c.Key] = c.Free
	}
	var rows []featureRow
	err = tx.Raw(`SELECT `+boundedColumns+`, f.together FROM (SELECT f.*, sum(coalesce(octet_length(f.geometry::text), 0) +
			octet_length(f.properties::text)) OVER () AS together
		FROM (SELECT DISTINCT * FROM unnest(?::bigint[], ?::text[]) AS k (key, id)) AS k
		JOIN features f ON f.collection_key = k.key AND f.id = k.id COLLATE "C") f`, keys, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for i := range rows {
		if rows[i].Together > MaxBatchBytes {
			return nil, ErrTooLarge
		}
		b.rows[rowKey{rows[i].CollectionKey, rows[i].ID}] = &rows[i]
	}
	return b, nil
}

// MaxBatchBytes is how many bytes the features may have together, as they are, that edits of one
// transaction are about.
const MaxBatchBytes = 128 << 20

// boundedColumns are the featureColumns without contents if the rows, f, have more bytes together than they
// may.
var boundedColumns = strings.Replace(featureColumns, "f.geometry, f.properties", fmt.Sprintf(
	"CASE WHEN f.together <= %[1]d THEN f.geometry END AS geometry, CASE WHEN f.together <= %[1]d THEN f.properties END "+
		"AS properties", MaxBatchBytes), 1)

// ErrTooLarge reports edits of features that are too large to be edited together.
var ErrTooLarge = errors.New("store: the features are too large to be edited together")

// importing reports whether an import is being written into the collection of an edit.
func (b *batch) importing(edits []Edit) bool {
	return slices.ContainsFunc(edits, func(e Edit) bool {
		free, there := b.collections[e.Collection]
		return there && !free
	})
}

// write carries out a write on the rows in memory.
func (b *batch) write(w *Write, c *clock) ([]Outcome, error) {
	if earlier, known := b.known(w); known {
		return earlier.again(w)
	}
	if b.importing(w.Edits) {
		return slices.Repeat([]Outcome{{Err: ErrImporting}}, len(w.Edits)), nil
	}
	if w.Accepts != nil && !b.open[w.Accepts.Key] {
		return slices.Repeat([]Outcome{{Err: ErrDecided}}, len(w.Edits)), nil
	}
	b.origin, b.transaction = w.Origin, c.newest+1
	before := b.mark(w, c)
	outcomes := make([]Outcome, len(w.Edits))
	failed := false
	for k := range w.Edits {
		var err error
		if outcomes[k], err = b.do(&w.Edits[k], c); err != nil {
			return nil, err
		}
		failed = failed || outcomes[k].Err != nil
	}
	switch {
	case failed && w.Together:
		before.restore(b, c)
		for k := range outcomes {
			if outcomes[k].Err == nil {
				outcomes[k] = Outcome{Err: ErrLeft}
			}
		}
	case failed:
	case w.Retry != nil:
		if err := b.remember(w, outcomes); err != nil {
			return nil, err
		}
	}
	if !failed && w.Accepts != nil {
		b.accept(w, outcomes)
	}
	return outcomes, nil
}

// accept notes that a write has carried out a suggestion.
func (b *batch) accept(w *Write, outcomes []Outcome) {
	row := acceptedRow{Acceptance: *w.Accepts, by: w.Origin.Actor}
	for i := range outcomes {
		if c := outcomes[i].Change; c != nil {
			row.change = c.Number
		}
	}
	delete(b.open, w.Accepts.Key)
	b.accepted = append(b.accepted, row)
}

// A mark is the state of a batch before a write that may have to be taken back.
type mark struct {
	rows    map[rowKey]*featureRow
	touched map[rowKey]bool
	changes int
	newest  uint64
}

func (b *batch) mark(w *Write, c *clock) *mark {
	if !w.Together {
		return nil
	}
	m := &mark{map[rowKey]*featureRow{}, map[rowKey]bool{}, len(b.changes), c.newest}
	for i := range w.Edits {
		key := rowKey{w.Edits[i].Collection, w.Edits[i].Feature.ID}
		m.rows[key], m.touched[key] = b.rows[key], b.touched[key]
	}
	return m
}

func (m *mark) restore(b *batch, c *clock) {
	maps.Copy(b.rows, m.rows)
	maps.Copy(b.touched, m.touched)
	b.changes, c.newest = b.changes[:m.changes], m.newest
}

// do carries out one edit on the rows in memory. What keeps that one from being done
// is in its outcome.
func (b *batch) do(e *Edit, c *clock) (Outcome, error) {
	key := rowKey{e.Collection, e.Feature.ID}
	row := b.rows[key]
	if !b.collections[e.Collection] {
		return Outcome{Err: ErrNoCollection}, nil
	}
	var old *Stored
	if row != nil {
		stored, err := row.stored()
		if err != nil {
			return Outcome{}, err
		}
		old = &stored
	}
	now := e.Feature
	switch {
	case e.Kind == Create && row != nil:
		return Outcome{Err: ErrExists, Now: old}, nil
	case (e.Kind == Delete || e.Kind == Alter) && row == nil:
		return Outcome{Err: ErrNoFeature}, nil
	case e.OnlyBy != "" && row != nil && row.MadeBy != e.OnlyBy:
		return Outcome{Err: ErrNotOwn, Now: old}, nil
	case e.Since != nil && (row == nil || !slices.Contains(e.Since, row.Change)):
		return Outcome{Err: ErrChanged, Now: old}, nil
	case e.Kind == Alter:
		var err error
		if now, err = e.Change(&old.Feature); err != nil {
			return Outcome{Err: err, Now: old}, nil
		}
	}
	change := Change{Collection: e.Collection, FeatureID: e.Feature.ID, Op: Created, At: c.at}
	var before *string
	madeBy := ""
	if b.origin.Way != ByImport {
		madeBy = cmp.Or(e.MadeBy, b.origin.Actor)
	}
	if row != nil {
		madeBy = row.MadeBy
		if e.Kind != Delete && old.Equal(&now) {
			return Outcome{Now: old}, nil
		}
		text := string(old.AppendJSON(nil))
		before = &text
		change.Op = Replaced
	}
	change.Number = c.next()
	outcome := Outcome{Change: &change, Was: old}
	if e.Kind == Delete {
		change.Op = Deleted
		b.rows[key] = nil
	} else {
		change.Now = &now
		outcome.Now = &Stored{now, change.Number}
		b.rows[key] = &featureRow{
			CollectionKey: e.Collection, ID: now.ID, NumberID: now.NumberID, Lon: now.At.Lon, Lat: now.At.Lat,
			Elevation: now.Elevation,
			Geometry:  geometryColumn(&now), Properties: now.Properties.JSON(), Change: change.Number, MadeBy: madeBy,
		}
	}
	b.touched[key] = true
	b.changes = append(
		b.changes,
		changeRow{change.Number, b.transaction, b.origin, e.Collection, e.Feature.ID, change.Op, before},
	)
	return outcome, nil
}

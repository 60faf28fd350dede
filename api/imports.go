package api

import (
	"encoding/json"
	"time"
)

// ImportReport says what became of an imported file.
type ImportReport struct {
	Import    string     `json:"import,omitempty"` // the id of the import; absent of a dry run
	Rows      int        `json:"rows"`
	Created   int        `json:"created"`
	Replaced  int        `json:"replaced"`
	Unchanged int        `json:"unchanged"`
	Rejected  int        `json:"rejected"`
	WithoutID int        `json:"without_id"`
	Doubtful  int        `json:"doubtful"` // rows whose positions are likely wrong, imported as they are
	Mended    int        `json:"mended"`   // rows whose positions were likely wrong and mended as asked
	Repeated  int        `json:"repeated"` // rows whose id came again later in the file: the last one counts
	Kept      int        `json:"kept"`     // of the rejected rows: those that can be had as a file, to be corrected
	DryRun    bool       `json:"dry_run"`
	Notes     []FileNote `json:"notes"`  // what to know of the file as a whole
	Errors    []RowError `json:"errors"` // the first of the rejected rows
	Doubts    []RowDoubt `json:"doubts"` // the first of the doubtful rows
	// Of an inspection: why the file cannot be read to its end, or its rows have no positions
	Stopped string `json:"stopped,omitempty"`
}

// Import is the import of one file, under way or over.
type Import struct {
	ID         string        `json:"id"`
	Collection string        `json:"collection"`
	FileName   string        `json:"file_name,omitempty"`
	Status     string        `json:"status"` // "accepted", "running", "successful", "failed" or "dismissed"
	Format     string        `json:"format,omitempty"`
	BytesRead  int64         `json:"bytes_read"`
	BytesTotal int64         `json:"bytes_total,omitempty"` // absent if it is not known
	Rows       int64         `json:"rows"`                  // read so far
	StartedAt  time.Time     `json:"started_at"`
	EndedAt    *time.Time    `json:"ended_at,omitempty"`
	Problem    string        `json:"problem,omitempty"` // why it failed
	Report     *ImportReport `json:"report,omitempty"`  // when it is over; in lists without the rows
	Links      []Link        `json:"links"`
}

// Ended reports whether the import is over.
func (i *Import) Ended() bool {
	return i.Status == "successful" || i.Status == "failed" || i.Status == "dismissed"
}

// Imports is a list of imports, the newest first.
type Imports struct {
	Imports []Import `json:"imports"`
	Links   []Link   `json:"links"`
}

// FileNote describes something about a file as a whole.
type FileNote struct {
	Kind   string `json:"kind"`             // such as "misfit", "left_out" or "mirrored"
	Text   string `json:"text"`             // a sentence for people
	Column string `json:"column,omitempty"` // that it is about
	Type   string `json:"type,omitempty"`   // that its values have, or would have
	About  string `json:"about,omitempty"`  // the encoding, reference system, kind of element, or fix
	Count  int    `json:"count,omitempty"`  // of the values, rows or elements
	Of     int    `json:"of,omitempty"`     // as many as there are in all
	// Of the rows of a fix: those that would lie where nothing else of the file is
	Alone int        `json:"alone,omitempty"`
	Row   int        `json:"row,omitempty"`   // the first of them
	Value string     `json:"value,omitempty"` // the first of them
	Sides []FileSide `json:"sides,omitempty"` // of a file with two parts that mirror each other
	Set   []Setting  `json:"set,omitempty"`   // what to set in order to have it otherwise
}

// FileSide is one of two parts of a file that mirror each other.
type FileSide struct {
	Count int          `json:"count"`
	BBox  [4]float64   `json:"bbox"`  // west, south, east, north in degrees
	Spots [][2]float64 `json:"spots"` // where most of them are: longitude, latitude
}

// Setting is a parameter of reading a file, and a value for it.
type Setting struct {
	Option string `json:"option"`
	Value  string `json:"value"`
}

// RowError says why a row could not be used.
type RowError struct {
	Row    int    `json:"row"`
	Line   int    `json:"line,omitempty"`
	Reason string `json:"reason"`
	Fix    string `json:"fix,omitempty"` // the name of the fix that would mend it
}

// RowDoubt says what is doubtful about a row.
type RowDoubt struct {
	Row    int    `json:"row"`
	Line   int    `json:"line,omitempty"`
	Kind   string `json:"kind"` // "swapped" or "zero"
	Fix    string `json:"fix"`  // the name of the fix for it
	Reason string `json:"reason"`
}

// Inspection reports what was recognised in a file.
type Inspection struct {
	Format           string          `json:"format"`
	Options          FileOptions     `json:"options"` // the file is read with, as recognised and asked for
	Columns          []Column        `json:"columns"`
	NameProperty     string          `json:"name_property"`
	CategoryProperty string          `json:"category_property"`
	Report           ImportReport    `json:"report"` // of all rows
	Whole            bool            `json:"whole"`  // it was not only the beginning of a file
	Features         []InspectedItem `json:"features"`
	Style            *StyleDocument  `json:"style"` // that would be proposed for the categories found
}

// FileOptions say how to read a file. The zero value finds everything out.
type FileOptions struct {
	Format         string            `json:"format,omitempty"` // such as "csv" or "kml"
	LonColumn      string            `json:"lon_column,omitempty"`
	LatColumn      string            `json:"lat_column,omitempty"`
	GeometryColumn string            `json:"geometry_column,omitempty"`
	IDColumn       string            `json:"id_column,omitempty"`
	Types          map[string]string `json:"type,omitempty"`     // of columns that are not to be guessed
	Fixes          []string          `json:"fix,omitempty"`      // what to mend, such as "decimal_comma"
	NoValue        []string          `json:"no_value,omitempty"` // words that stand for no value, such as "n/a"
	Encoding       string            `json:"encoding,omitempty"` // of the text, such as "windows-1252"
	CRS            string            `json:"crs,omitempty"`      // of the positions, such as "EPSG:32629"
	Within         string            `json:"within,omitempty"`   // where the features are: "west,south,east,north"
}

// Column is a column of a table, or a property of a file that has no columns.
type Column struct {
	Name    string   `json:"name"`
	Role    string   `json:"role,omitempty"` // "longitude", "latitude", "geometry" or "id"
	Type    string   `json:"type"`
	Samples []string `json:"samples,omitempty"`
}

// InspectedItem is a feature of a file.
type InspectedItem struct {
	Type       string          `json:"type"`
	ID         string          `json:"id,omitempty"`
	Geometry   Geometry        `json:"geometry"`
	Properties json.RawMessage `json:"properties"`
}

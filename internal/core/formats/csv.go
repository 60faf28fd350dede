package formats

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// Usual names of the coordinate, geometry and id columns, in the order in which they
// are looked for.
var (
	usualLons       = []string{"longitude", "lon", "lng", "long", "x"}
	usualLats       = []string{"latitude", "lat", "y"}
	usualGeometries = []string{"geometry", "wkt", "geom"}
	usualPairs      = []string{"coordinates", "coords", "lat_lon", "latlon"} // if there are none of the others
	usualIDs        = []string{"id"}
)

// A csvSource reads CSV (RFC 4180) with a header row, separated by commas,
// semicolons or tabs. Every column but those of the position, the geometry and the
// id becomes a property.
type csvSource struct {
	csv          *csv.Reader
	guard        *guard
	header       []string
	names        []string // of the properties, "" for the other columns
	lon, lat, id int      // columns; -1 if there is none
	geometry     int
	missing      error // what keeps the rows from having positions; only with Options.Unplaced
	separator    rune
	row          int  // rows read, the header included
	skipped      int  // lines before the header
	told         bool // the last columns are those that report why rows were rejected before
	mender       *mender
}

// MaxColumns is how many columns a table may have.
const MaxColumns = 4096

// rejectedColumns are the last columns of a file of rejected rows. They are for its
// reader, and left out when it is imported.
var rejectedColumns = []string{"rejected_row", "rejected_reason"}

func openCSV(b *bufio.Reader, guard *guard, mender *mender, options Options, survey *Survey) (Reader, error) {
	r := &csvSource{csv: csv.NewReader(b), guard: guard, id: -1, geometry: -1, mender: mender}
	if told := separatorLine(b); told > 0 {
		_, _ = b.Discard(told) // just peeked at
		guard.tape = guard.tape[told:]
		r.skipped = 1
	}
	separator, err := findSeparator(b)
	if err != nil {
		return nil, err
	}
	r.csv.Comma, r.separator = separator, separator
	r.csv.FieldsPerRecord = -1 // a row of another length is an error of that row
	header, err := r.read()
	if err != nil {
		return nil, notUsable("the header row cannot be read: %v", err)
	}
	if len(header) > MaxColumns {
		return nil, notUsable(
			"it has %d columns, the most is %d; leave out those that are not needed",
			len(header),
			MaxColumns,
		)
	}
	seen := make(map[string]bool, len(header))
	for i, name := range header {
		header[i] = strings.TrimSpace(name)
		if wellformed.Text(name) != nil {
			return nil, notUsable("the name of column %d is not valid UTF-8 text; save the file as UTF-8", i+1)
		}
		if header[i] != "" && seen[header[i]] {
			return nil, notUsable("two columns are named %q; give each its own name", header[i])
		}
		seen[header[i]] = true
	}
	r.header = header
	if err := r.findPosition(options); err != nil {
		return nil, err
	}
	if r.id, err = r.column("id", "id_column", options.IDColumn, usualIDs); err != nil && options.IDColumn != "" {
		return nil, err
	}
	r.names = slices.Clone(header)
	r.told = slices.Equal(header[max(0, len(header)-len(rejectedColumns)):], rejectedColumns)
	for i, name := range header {
		if name == "" {
			r.names[i] = fmt.Sprintf("column %d", i+1)
		}
	}
	for _, i := range []int{r.lon, r.lat, r.geometry, r.id} {
		if i >= 0 {
			r.names[i] = ""
		}
	}
	if r.told {
		clear(r.names[len(r.names)-len(rejectedColumns):])
	}
	for _, name := range slices.Sorted(maps.Keys(options.Types)) {
		if !slices.Contains(r.names, name) {
			return nil, &OptionError{"type", notUsable("there is no column %q for the type %s; the columns are %s",
				name, options.Types[name], quoteAll(header))}
		}
	}
	typed := newTypedReader(r, options, survey)
	typed.check = options.Check // here a row is still what it is in the file
	roles := map[int]Role{r.geometry: GeometryRole, r.lon: LonRole, r.lat: LatRole, r.id: IDRole}
	return &csvReader{typedReader: typed, source: r, roles: roles}, nil
}

// findPosition finds the columns with the positions of the rows.
func (r *csvSource) findPosition(options Options) error {
	var err, noLon, noLat error
	if r.geometry, err = r.column("geometry", "geometry_column", options.GeometryColumn, usualGeometries); err != nil &&
		options.GeometryColumn != "" {
		return err
	}
	r.lon, noLon = r.column("longitude", "lon_column", options.LonColumn, usualLons)
	r.lat, noLat = r.column("latitude", "lat_column", options.LatColumn, usualLats)
	missing := cmp.Or(noLon, noLat)
	named := options.LonColumn != "" || options.LatColumn != ""
	if missing != nil && r.geometry < 0 && !named {
		if name := pick(r.header, usualPairs); name != "" {
			r.geometry = slices.Index(r.header, name)
		}
	}
	switch {
	case missing == nil && r.lon == r.lat:
		return notUsable("column %q cannot be both the longitude and the latitude", r.header[r.lon])
	case missing == nil:
	case r.geometry >= 0 && !named:
		r.lon, r.lat = -1, -1
	case options.Unplaced && (noLon == nil || options.LonColumn == "") && (noLat == nil || options.LatColumn == ""):
		r.missing = missing
	case options.LonColumn == "" && options.LatColumn != "" && noLat != nil:
		return noLat // what was named is not there
	default:
		return missing
	}
	return nil
}

// A csvReader tells all columns of its file, in their order.
type csvReader struct {
	*typedReader
	source *csvSource
	roles  map[int]Role
}

// Columns implements Reader.
func (r *csvReader) Columns() []Column {
	header := r.source.header
	var records [][]string // some, for samples
	for _, row := range r.sample[:min(len(r.sample), maxSamples)] {
		if len(row.values) == len(header) {
			records = append(records, row.values)
		}
	}
	if r.source.told {
		header = header[:len(header)-len(rejectedColumns)]
	}
	columns := make([]Column, len(header))
	for i, name := range header {
		columns[i] = Column{Name: name, Role: r.roles[i], Type: Text}
		for _, record := range records {
			columns[i].Samples = append(columns[i].Samples, sample(record[i]))
		}
		property := r.source.names[i]
		if c := r.survey.columns[property]; c != nil && property != "" {
			columns[i] = Column{Name: property, Type: r.readings[property].of, Samples: c.samples}
		}
	}
	return columns
}

// separatorLine returns the length of a first line that only gives the separator, as some
// spreadsheets write it, or 0 if there is none.
func separatorLine(b *bufio.Reader) int {
	start, _ := b.Peek(len("sep=;\r\n"))
	line, _, whole := strings.Cut(string(start), "\n")
	told := strings.TrimSuffix(strings.ToLower(line), "\r")
	if !whole || len(told) != len("sep=;") || !strings.HasPrefix(told, "sep=") || !strings.Contains(",;\t", told[4:]) {
		return 0
	}
	return len(line) + 1
}

// findSeparator returns the separator that the header row uses most.
func findSeparator(b *bufio.Reader) (rune, error) {
	start, err := b.Peek(b.Size())
	if len(start) == 0 && err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	line, _, _ := strings.Cut(string(start), "\n")
	best, most := ',', 0
	for _, separator := range ",;\t" {
		count, quoted := 0, false
		for _, c := range line {
			switch {
			case c == '"':
				quoted = !quoted
			case c == separator && !quoted:
				count++
			}
		}
		if count > most {
			best, most = separator, count
		}
	}
	return best, nil
}

// column returns the number of the column with the given name or, without one,
// of the column with a usual name.
func (r *csvSource) column(what, option, name string, usual []string) (int, error) {
	if name == "" {
		if name = pick(r.header, usual); name == "" {
			name = withUnit(r.header, usual)
		}
		if name == "" {
			return -1, notUsable("no column for the %s: looked for %s among the columns %s; name it with %s",
				what, strings.Join(usual, ", "), quoteAll(r.header), option)
		}
	}
	for i, h := range r.header {
		if h == strings.TrimSpace(name) {
			return i, nil
		}
	}
	return -1, &OptionError{
		option,
		notUsable("there is no column %q for the %s (%s); the columns are %s", name, what, option, quoteAll(r.header)),
	}
}

// degreesUnit is what may follow the name of a column to tell that it has degrees.
var degreesUnit = regexp.MustCompile(
	`(?i)[\s_.]*[(\[]?\s*(deg|degs|degree|degrees|decimal|dd|°|wgs[\s_]?84)\s*[)\]]?$`,
)

// withUnit returns the only name that is one of the usual ones with a unit after it, such
// as "Latitude (deg)", or "".
func withUnit(names, usual []string) (found string) {
	for _, name := range names {
		bare := degreesUnit.ReplaceAllString(strings.TrimSpace(name), "")
		if bare == name || pick([]string{bare}, usual) == "" {
			continue
		}
		if found != "" {
			return ""
		}
		found = name
	}
	return found
}

func quoteAll(names []string) string {
	const most = 40
	quoted := make([]string, 0, len(names))
	for i, name := range names {
		if i == most {
			quoted = append(quoted, fmt.Sprintf("and %d more", len(names)-most))
			break
		}
		quoted = append(quoted, strconv.Quote(name))
	}
	return strings.Join(quoted, ", ")
}

// read returns the next record. A *RowError is about that record alone.
func (r *csvSource) read() ([]string, error) {
	from := r.csv.InputOffset()
	r.guard.newRowAt(from)
	r.row++
	record, err := r.csv.Read()
	var syntax *csv.ParseError
	switch {
	case err == nil:
		return record, nil
	case errors.Is(err, errRowTooLong):
		return nil, notUsable("row %d is longer than %d bytes; look for a quote that is not closed", r.row, MaxRowBytes)
	case errors.As(err, &syntax):
		return nil, &RowError{
			Row:    r.row,
			Line:   syntax.Line + r.skipped,
			Reason: syntax.Err.Error(),
			Source: r.guard.cut(from, r.csv.InputOffset()),
		}
	default:
		return nil, err
	}
}

func (r *csvSource) next() (textRow, error) {
	record, err := r.read()
	var bad *RowError
	switch {
	case errors.As(err, &bad):
		return textRow{err: bad}, nil
	case err != nil:
		return textRow{}, err
	}
	line, _ := r.csv.FieldPos(0)
	line += r.skipped
	row := textRow{number: r.row, line: line}
	if len(record) != len(r.header) {
		row.err = rejection(
			r.row,
			line,
			invalid.New("", "has %d fields", len(record)).Wanted("%d, as in the header", len(r.header)),
			r.text(record),
		)
		return row, nil
	}
	row.names, row.values = r.names, record
	err = r.place(&row, record)
	row.applied, row.closed = r.mender.taken()
	if err != nil {
		row.err = rejection(r.row, line, err, r.text(record))
	}
	return row, nil
}

// text writes a record as a line of the file, without its end and without what says
// why it was rejected before.
func (r *csvSource) text(record []string) []byte {
	if n := len(record) - len(rejectedColumns); r.told && n > 0 {
		record = record[:n]
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = r.separator
	_ = w.Write(record) // to memory
	w.Flush()
	return keep(b.Bytes())
}

// place sets the id and the geometry of a row.
func (r *csvSource) place(row *textRow, record []string) error {
	f := &row.feature
	if r.missing != nil {
		return r.missing
	}
	if r.id >= 0 {
		f.ID = strings.TrimSpace(record[r.id])
		if err := feature.CheckID(f.ID); err != nil {
			return invalid.Renamed(fmt.Sprintf("id (column %q)", r.header[r.id]), err)
		}
	}
	if r.geometry >= 0 && (r.lon < 0 || strings.TrimSpace(record[r.geometry]) != "") {
		g, err := r.mender.geometry(record[r.geometry])
		if err == nil {
			err = r.mender.check(&g)
		}
		if err != nil {
			return invalid.In(fmt.Sprintf("geometry (column %q)", r.header[r.geometry]), err)
		}
		f.SetGeometry(g)
		return nil
	}
	var err error
	if f.At.Lon, err = r.mender.degrees(record[r.lon]); err != nil {
		return invalid.In(fmt.Sprintf("longitude (column %q)", r.header[r.lon]), err)
	}
	if f.At.Lat, err = r.mender.degrees(record[r.lat]); err != nil {
		return invalid.In(fmt.Sprintf("latitude (column %q)", r.header[r.lat]), err)
	}
	return r.mender.checkPoint(&f.At)
}

// geometry reads a geometry in Well-Known Text or GeoJSON, or a point as its latitude and
// longitude.
func (m *mender) geometry(value string) (geometry.Geometry, error) {
	value = strings.TrimSpace(value)
	switch {
	case strings.HasPrefix(value, "{"):
		return geometry.Parse([]byte(value))
	case pairStart.MatchString(value):
		at, err := m.pair(value)
		return geometry.OfPoint(geometry.Position{Point: at}), err
	}
	return geometry.ParseWKT(value)
}

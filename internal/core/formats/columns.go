package formats

import (
	"slices"
	"strings"
	"time"
)

// A kind is one way to read the values of a column. Several may fit it.
type kind int

const (
	jsonNumber kind = iota
	boolean
	isoDate
	timestamp
	commaNumber
	pointNumber
	yearFirstDate
	dayFirstDate
	monthFirstDate
	kinds
)

// An occurrence is how often something was seen, and where first.
type occurrence struct {
	count, row int
	value      string
}

func (o *occurrence) note(row int, value string) {
	if o.count == 0 {
		o.row, o.value = row, sample(value)
	}
	o.count++
}

// and returns both together.
func (o occurrence) and(other occurrence) occurrence {
	if o.count == 0 || other.count > 0 && other.row < o.row {
		o.row, o.value = other.row, other.value
	}
	o.count += other.count
	return o
}

// A columnSurvey is what all values of a column show, seen so far.
type columnSurvey struct {
	values    int               // that are not empty
	other     occurrence        // those that no kind fits
	misfits   [kinds]occurrence // further ones that one kind does not fit
	commaOnly occurrence        // numbers that have to have a decimal comma
	pointOnly occurrence        // numbers that have to have a decimal point
	words     []string          // usual words for no value among others, at most maxWords
	worded    int               // how many values are such words
	samples   []string          // the first few different ones
}

const (
	maxSamples      = 3
	maxSampleLength = 200 // bytes
	maxWords        = 5
)

// sample returns the beginning of a value, for people.
func sample(value string) string {
	if len(value) <= maxSampleLength {
		return value
	}
	return strings.ToValidUTF8(value[:maxSampleLength], "") + "…"
}

// look takes in one value that is not empty.
func (c *columnSurvey) look(row int, value string) {
	c.values++
	if len(c.samples) < maxSamples {
		if s := sample(value); !slices.Contains(c.samples, s) {
			c.samples = append(c.samples, s)
		}
	}
	switch b := value[0]; {
	case value == "true" || value == "false":
		for k := range kinds {
			if k != boolean {
				c.misfits[k].note(row, value)
			}
		}
	case b >= '0' && b <= '9' || b == '-' || b == '+' || strings.HasPrefix(value, "−"):
		c.lookAtNumber(row, value)
	default:
		c.others(row, value)
	}
}

func (c *columnSurvey) others(row int, value string) {
	c.other.note(row, value)
	if len(value) <= 13 && strings.IndexByte("nNuUkKiIsS-?#\\(\xe2", value[0]) >= 0 &&
		usualNoValues[strings.ToLower(value)] {
		c.worded++
		if len(c.words) < maxWords && !slices.Contains(c.words, value) {
			c.words = append(c.words, value)
		}
	}
}

// lookAtNumber takes in a value that begins as numbers and dates do.
func (c *columnSurvey) lookAtNumber(row int, value string) {
	var fits [kinds]bool
	fits[jsonNumber] = isNumber(value)
	switch {
	case fits[jsonNumber] && digits(value):
		fits[commaNumber], fits[pointNumber] = true, true
	default:
		_, fits[commaNumber] = localNumber(value, ',')
		_, fits[pointNumber] = localNumber(value, '.')
		fits[isoDate] = Date.fits(value)
		fits[timestamp] = Timestamp.fits(value)
		if !fits[jsonNumber] {
			_, fits[yearFirstDate] = localDate(value, yearFirst)
			_, fits[dayFirstDate] = localDate(value, dayFirst)
			_, fits[monthFirstDate] = localDate(value, monthFirst)
		}
	}
	if fits == [kinds]bool{} {
		c.others(row, value)
		return
	}
	switch {
	case fits[commaNumber] && !fits[pointNumber] && !fits[jsonNumber]:
		c.commaOnly.note(row, value)
	case fits[pointNumber] && !fits[commaNumber]:
		c.pointOnly.note(row, value)
	}
	for k := range kinds {
		if !fits[k] {
			c.misfits[k].note(row, value)
		}
	}
}

// misfit returns the values that a kind does not fit.
func (c *columnSurvey) misfit(k kind) occurrence { return c.misfits[k].and(c.other) }

// fits reports whether a kind fits all values, of which there have to be some.
func (c *columnSurvey) fits(k kind) bool { return c.values > 0 && c.misfit(k).count == 0 }

// A reading is how the values of a column are read.
type reading struct {
	of   Type // one of Types
	kind kind // jsonNumber, boolean and so on; of no meaning if of is Text
}

var plainText = reading{of: Text}

// kindsOf are the kinds that values of a type may be, the one that standards spell first.
var kindsOf = map[Type][]kind{
	Number: {jsonNumber, commaNumber, pointNumber}, Boolean: {boolean}, Timestamp: {timestamp},
	Date: {
		isoDate,
		yearFirstDate,
		dayFirstDate,
		monthFirstDate,
	}, DecimalComma: {commaNumber}, DecimalPoint: {pointNumber},
}

// best returns the reading that fits all values, of text if there is none: a code with
// a leading zero, a plus sign or spaces keeps its column as text, and so do numbers and
// dates in a notation that may mean something else.
func (c *columnSurvey) best() reading {
	for _, t := range []Type{Number, Boolean, Date, Timestamp} {
		if c.fits(kindsOf[t][0]) {
			return reading{t, kindsOf[t][0]}
		}
	}
	if k, only := c.onlyDate(); only {
		return reading{Date, k}
	}
	return plainText
}

// onlyDate returns the order of the parts of all values, if exactly one is possible.
func (c *columnSurvey) onlyDate() (found kind, only bool) {
	for _, k := range kindsOf[Date][1:] {
		if c.fits(k) {
			if only {
				return found, false
			}
			found, only = k, true
		}
	}
	return found, only
}

// as returns the reading of a type that is asked for.
func (c *columnSurvey) as(t Type) reading {
	switch t {
	case Number:
		switch {
		case c.fits(jsonNumber):
		case c.commaOnly.count > 0 && c.pointOnly.count == 0:
			return reading{t, commaNumber}
		case c.pointOnly.count > 0 && c.commaOnly.count == 0 &&
			c.misfit(pointNumber).count < c.misfit(jsonNumber).count:
			return reading{t, pointNumber}
		}
	case Date:
		if k, only := c.onlyDate(); only {
			return reading{t, k}
		}
	case Text:
		return plainText
	}
	return reading{t, kindsOf[t][0]}
}

// notes returns what people should know of the column called name, read as r, which was
// asked for or found.
func (c *columnSurvey) notes(name string, r reading, asked bool) []Note {
	note := Note{Column: name, Type: r.of, Of: c.values}
	at := func(kind NoteKind, o occurrence) Note {
		n := note
		n.Kind, n.Count, n.Row, n.Value = kind, o.count, o.row, o.value
		return n
	}
	typed := func(t Type) Setting { return Setting{"type", listEscape.Replace(name) + ":" + string(t)} }
	switch {
	case c.values == 0:
		return nil
	case r.of != Text:
		var notes []Note
		if notation := r.kind.notation(); notation != "" && (r.of != DecimalComma && r.of != DecimalPoint) {
			n := at(NotationNote, c.example(r.kind))
			n.What = notation
			notes = append(notes, n)
		}
		if misfit := c.misfit(r.kind); misfit.count > 0 {
			n := at(MisfitNote, misfit)
			n.Set = c.noValueSettings(misfit)
			if r.of == Number && r.kind == jsonNumber && c.fits(commaNumber) {
				n.Set = append(n.Set, typed(DecimalComma), typed(DecimalPoint))
			}
			notes = append(notes, n)
		}
		return notes
	case asked: // as text
		return nil
	}
	// Of a column that stays text: would it be something else but for a few values, or in
	// another notation?
	words := c.worded
	comma, point := c.misfit(commaNumber).count-words, c.misfit(pointNumber).count-words
	if c.values > words && min(comma, point) == 0 && c.misfit(jsonNumber).count > words {
		n := at(NumbersNote, c.example(commaNumber))
		n.What, n.Set = "a decimal comma", []Setting{typed(DecimalComma)}
		if point == 0 {
			n = at(NumbersNote, c.example(pointNumber))
			n.What, n.Set = "a decimal point", []Setting{typed(DecimalPoint)}
		}
		if comma == 0 && point == 0 {
			n.What, n.Set = "a decimal comma or of thousands", []Setting{typed(DecimalComma), typed(DecimalPoint)}
		}
		n.Set = append(n.Set, c.noValueSettings(c.other)...)
		return []Note{n}
	}
	for _, t := range []Type{Number, Boolean, Date, Timestamp} {
		misfit := c.misfit(kindsOf[t][0])
		if few := misfit.count*20 <= c.values || misfit.count == words && words*2 <= c.values; misfit.count > 0 &&
			few &&
			c.values >= 5 {
			n := at(NearlyNote, misfit)
			n.Type = t
			if n.Set = c.noValueSettings(misfit); n.Set == nil {
				n.Set = []Setting{typed(t)}
			}
			return []Note{n}
		}
	}
	return nil
}

// noValueSettings returns the settings that take the usual words for no value as such,
// if all misfits are some of these.
func (c *columnSurvey) noValueSettings(misfit occurrence) (set []Setting) {
	if misfit.count != c.worded {
		return nil
	}
	for _, word := range c.words {
		set = append(set, Setting{"no_value", listEscape.Replace(word)})
	}
	return set
}

// listEscape writes an element of a list of a query.
var listEscape = strings.NewReplacer(`\`, `\\`, ",", `\,`)

// example returns a value that shows the notation of a kind.
func (c *columnSurvey) example(k kind) occurrence {
	switch {
	case k == commaNumber && c.commaOnly.count > 0:
		return c.commaOnly
	case k == pointNumber && c.pointOnly.count > 0 && c.misfits[jsonNumber].count == 0:
		return c.pointOnly
	case k == commaNumber || k == pointNumber:
		return c.misfits[jsonNumber]
	}
	return c.misfits[isoDate]
}

// notation says how the values of a kind are spelled, "" if that is as standards have it.
func (k kind) notation() string {
	return map[kind]string{
		commaNumber: "a decimal comma", pointNumber: "a decimal point and separated thousands",
		yearFirstDate: "the year first", dayFirstDate: "the day first", monthFirstDate: "the month first",
	}[k]
}

// read returns a value as JSON, and whether the reading fits it. It is for readings that
// are not of text.
func (r reading) read(value string) (json string, ok bool) {
	switch r.kind {
	case commaNumber:
		return localNumber(value, ',')
	case pointNumber:
		return localNumber(value, '.')
	case yearFirstDate, dayFirstDate, monthFirstDate:
		date, ok := localDate(value, dateOrder(r.kind-yearFirstDate))
		return `"` + date + `"`, ok
	case jsonNumber:
		return value, isNumber(value)
	case boolean:
		return value, value == "true" || value == "false"
	}
	return "", false // dates and timestamps are kept as the texts they are
}

// fits reports whether value is one of t, just as JSON or RFC 3339 would spell it.
func (t Type) fits(value string) bool {
	switch t {
	case Date:
		if len(value) != len(time.DateOnly) {
			return false
		}
		_, err := time.Parse(time.DateOnly, value)
		return err == nil
	case Timestamp:
		if len(value) < len("2006-01-02T15:04:05Z") || value[4] != '-' {
			return false
		}
		_, err := time.Parse(time.RFC3339, value)
		return err == nil
	}
	return true
}

// Package filter reads conditions on the properties of features and says which
// features meet them. The language is a subset of CQL2 Text (OGC 21-065r2):
//
//	berths >= 4 AND condition IN ('good', 'fair')
//	depth BETWEEN 2 AND 6 OR depth IS NULL
//	NOT (note LIKE '%rope%') AND checked >= DATE('2026-04-01')
//	CASEI(name) LIKE CASEI('north%')
//	S_WITHIN(geometry, POLYGON((-22.2 -38.6, -22 -38.6, -22 -38.4, -22.2 -38.6)))
//	S_INTERSECTS(geometry, ITEM('waters', 'north-harbour'))
//
// A property that a feature does not have is null. As in SQL, comparing null, or
// values of different kinds, is neither true nor false; a feature is chosen only
// where the whole condition is true.
//
// If a condition is not well formed, a [SyntaxError] reports where and what was
// expected.
package filter

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// Limits of a condition.
const (
	MaxLength = 4000 // characters
	maxDepth  = 60   // of parentheses and NOT
)

// A Kind is what a Value is.
type Kind uint8

// The kinds of values. Objects and arrays count as Other: they are not null, and
// compare with nothing.
const (
	Null Kind = iota
	Bool
	Number
	Text
	Other
	Position // of a place
	Shape    // of an area or path
	instant  // a moment, of a literal
	day      // a date, of a literal
)

// A Value is the value of a property. The zero value is null.
type Value struct {
	Kind   Kind
	Number float64 // 0 or 1 for Bool; of a Position its longitude
	Text   string
	lat    float64 // of a Position
	shape  Shaped  // of a Shape
	time   *time.Time
}

// Geometry is the name that stands for the geometry of a feature itself among the properties
// of a condition. No property has such a name.
const Geometry = "\x00geometry"

// Shaped is the geometry of an area or path. It is asked for only if its box does not
// tell enough.
type Shaped interface {
	Box() geo.Box
	Outline() geometry.Geometry
}

// PositionValue returns the Value of where a place is.
func PositionValue(p geo.Point) Value { return Value{Kind: Position, Number: p.Lon, lat: p.Lat} }

// ShapeValue returns the Value of the geometry of an area or path.
func ShapeValue(s Shaped) Value { return Value{Kind: Shape, shape: s} }

// TextValue returns the Value of a text.
func TextValue(s string) Value { return Value{Kind: Text, Text: s} }

// NumberValue returns the Value of a number.
func NumberValue(n float64) Value { return Value{Kind: Number, Number: n} }

// BoolValue returns the Value of a truth value.
func BoolValue(b bool) Value {
	v := Value{Kind: Bool}
	if b {
		v.Number = 1
	}
	return v
}

// JSONValue returns the Value of a JSON value, which is compact and well formed.
func JSONValue(raw []byte) Value {
	switch raw[0] {
	case 'n':
		return Value{}
	case 't', 'f':
		return BoolValue(raw[0] == 't')
	case '{', '[':
		return Value{Kind: Other}
	case '"':
		var text string
		if err := json.Unmarshal(raw, &text); err != nil {
			return Value{Kind: Other} // cannot be: it is well formed
		}
		return TextValue(text)
	}
	n, err := strconv.ParseFloat(string(raw), 64)
	if err != nil && !errors.Is(err, strconv.ErrRange) { // out of range, it is infinite
		return Value{Kind: Other}
	}
	return NumberValue(n)
}

// A Filter is a condition that was read by Parse. It is immutable.
type Filter struct {
	root       condition
	properties []string
	text       string
	versions   string // of the items that it names, once they are bound
}

// Properties returns the names of the properties that the condition asks for.
func (f *Filter) Properties() []string { return f.properties }

// String returns the condition in a canonical form: conditions that differ only in
// spaces, in the case of words, or in needless parentheses have the same. One that is bound
// to items differs with their versions.
func (f *Filter) String() string { return f.text + f.versions }

// Matches reports whether a feature meets the condition. The values are those of
// its Properties, in their order.
func (f *Filter) Matches(values []Value) bool { return f.MatchesSource(list(values)) }

// A Source gives the values of a feature when they are asked for, so that no more of it is read than tells whether it
// meets a condition.
type Source interface {
	// Value returns the value of the property with a number in [Filter.Properties]. Whoever asks must not change it.
	Value(number int) *Value
}

// A list is a Source of values that have been read.
type list []Value

func (l list) Value(number int) *Value { return &l[number] }

// MatchesSource reports whether a feature meets the condition.
func (f *Filter) MatchesSource(s Source) bool { return met(f.root, s) }

// met reports whether c is true of s. What is unknown need not be told from what is false, so less may have to be read.
func met(c condition, s Source) bool {
	switch c := c.(type) {
	case *and:
		for _, p := range c.parts {
			if !met(p, s) {
				return false
			}
		}
		return true
	case *or:
		return slices.ContainsFunc(c.parts, func(p condition) bool { return met(p, s) })
	}
	return c.holds(s) == isTrue
}

// truth is the outcome of a condition.
type truth int8

const (
	isFalse truth = iota
	isUnknown
	isTrue
)

func truthOf(b bool) truth {
	if b {
		return isTrue
	}
	return isFalse
}

// A condition is a part of a Filter.
type condition interface {
	holds(s Source) truth
	write(b *strings.Builder)
}

// An operand is a literal or a property.
type operand struct {
	literal  Value
	property int // index of the property plus one; 0 for a literal
	name     string
	fold     bool // compared without regard to case; the literal is folded already
}

// value returns the value of o, which must not be changed.
func (o *operand) value(s Source) *Value {
	if o.property == 0 {
		return &o.literal
	}
	v := s.Value(o.property - 1)
	if o.fold && v.Kind == Text {
		folded := TextValue(foldCase(v.Text))
		return &folded
	}
	return v
}

// foldCase makes texts that differ only in case the same.
func foldCase(s string) string { return strings.ToLower(strings.ToUpper(s)) }

type (
	and     struct{ parts []condition }
	or      struct{ parts []condition }
	not     struct{ part condition }
	always  struct{ is bool }
	compare struct {
		left, right operand
		op          relation
	}
	between struct{ of, low, high operand }
	in      struct {
		of   operand
		list []operand
	}
	like struct {
		of      operand
		pattern operand
		match   *pattern
	}
	isNull struct{ of operand }
)

func (c *and) holds(s Source) truth {
	result := isTrue
	for _, p := range c.parts {
		if result = min(result, p.holds(s)); result == isFalse {
			break
		}
	}
	return result
}

func (c *or) holds(s Source) truth {
	result := isFalse
	for _, p := range c.parts {
		if result = max(result, p.holds(s)); result == isTrue {
			break
		}
	}
	return result
}

func (c *not) holds(s Source) truth { return isTrue - c.part.holds(s) }

func (c *always) holds(Source) truth { return truthOf(c.is) }

func (c *compare) holds(s Source) truth {
	return compared(c.left.value(s), c.op, c.right.value(s))
}

// A relation is how the left side of a comparison may stand to the right.
type relation uint8

const (
	less relation = 1 << iota
	equal
	greater
)

// relations are the signs of relations. Those that begin like others come before them.
var relations = []struct {
	sign string
	is   relation
}{
	{"=", equal}, {"<>", less | greater}, {"<=", less | equal}, {">=", greater | equal}, {"<", less}, {">", greater},
}

func (r relation) String() string {
	for _, known := range relations {
		if known.is == r {
			return known.sign
		}
	}
	return "?"
}

func compared(a *Value, op relation, b *Value) truth {
	if a.Kind == Text && b.Kind == Text && op == equal {
		return truthOf(a.Text == b.Text)
	}
	order, ok := order(a, b)
	switch {
	case !ok:
		return isUnknown
	case order < 0:
		return truthOf(op&less != 0)
	case order > 0:
		return truthOf(op&greater != 0)
	}
	return truthOf(op&equal != 0)
}

// order compares two values of the same kind: negative if a is less, and
// reports whether they can be compared. Texts are compared by Unicode code points.
// A text is compared with a moment or a date by what it says in RFC 3339.
func order(a, b *Value) (int, bool) {
	switch {
	case a.Kind == Text && b.Kind >= instant:
		t, ok := readTime(a.Text, b.Kind)
		return t.Compare(*b.time), ok
	case b.Kind == Text && a.Kind >= instant:
		t, ok := readTime(b.Text, a.Kind)
		return a.time.Compare(t), ok
	case a.Kind != b.Kind:
		return 0, false
	}
	switch a.Kind {
	case Number, Bool:
		switch {
		case a.Number < b.Number:
			return -1, true
		case a.Number > b.Number:
			return 1, true
		}
		return 0, true
	case Text:
		return strings.Compare(a.Text, b.Text), true
	case instant, day:
		return a.time.Compare(*b.time), true
	}
	return 0, false
}

// readTime reads a date, or a moment. A moment without an offset is in UTC. If
// a date is meant, the moments of a day count as that day.
func readTime(s string, kind Kind) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339, "2006-01-02", "2006-01-02T15:04:05", "2006-01-02 15:04:05"} {
		t, err := time.Parse(layout, s)
		if err != nil {
			continue
		}
		if kind == day {
			t = time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
		}
		return t, true
	}
	return time.Time{}, false
}

func (c *between) holds(s Source) truth {
	v := c.of.value(s)
	return min(compared(v, greater|equal, c.low.value(s)), compared(v, less|equal, c.high.value(s)))
}

func (c *in) holds(s Source) truth {
	v, result := c.of.value(s), isFalse
	for i := range c.list {
		if result = max(result, compared(v, equal, c.list[i].value(s))); result == isTrue {
			break
		}
	}
	return result
}

func (c *isNull) holds(s Source) truth { return truthOf(c.of.value(s).Kind == Null) }

func (c *like) holds(s Source) truth {
	v := c.of.value(s)
	if v.Kind != Text {
		return isUnknown
	}
	return truthOf(c.match.matches(v.Text))
}

func (c *and) write(b *strings.Builder)    { writeAll(b, c.parts, " AND ") }
func (c *or) write(b *strings.Builder)     { writeAll(b, c.parts, " OR ") }
func (c *not) write(b *strings.Builder)    { b.WriteString("NOT "); c.part.write(b) }
func (c *always) write(b *strings.Builder) { b.WriteString(strings.ToUpper(fmt.Sprint(c.is))) }
func (c *isNull) write(b *strings.Builder) { c.of.write(b); b.WriteString(" IS NULL") }

func writeAll(b *strings.Builder, parts []condition, between string) {
	b.WriteByte('(')
	for i, p := range parts {
		if i > 0 {
			b.WriteString(between)
		}
		p.write(b)
	}
	b.WriteByte(')')
}

func (c *compare) write(b *strings.Builder) {
	c.left.write(b)
	b.WriteString(" " + c.op.String() + " ")
	c.right.write(b)
}

func (c *between) write(b *strings.Builder) {
	c.of.write(b)
	b.WriteString(" BETWEEN ")
	c.low.write(b)
	b.WriteString(" AND ")
	c.high.write(b)
}

func (c *in) write(b *strings.Builder) {
	c.of.write(b)
	b.WriteString(" IN (")
	for i := range c.list {
		if i > 0 {
			b.WriteString(", ")
		}
		c.list[i].write(b)
	}
	b.WriteByte(')')
}

func (c *like) write(b *strings.Builder) {
	c.of.write(b)
	b.WriteString(" LIKE ")
	c.pattern.write(b)
}

func (o *operand) write(b *strings.Builder) {
	if o.fold {
		b.WriteString("CASEI(")
		defer b.WriteByte(')')
	}
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	switch v := o.literal; {
	case o.property > 0:
		b.WriteString(inQuotes(o.name))
	case v.Kind == Bool:
		b.WriteString(strings.ToUpper(fmt.Sprint(v.Number == 1)))
	case v.Kind == Number:
		fmt.Fprint(b, v.Number)
	case v.Kind == instant:
		b.WriteString("TIMESTAMP(" + quote(v.Text) + ")")
	case v.Kind == day:
		b.WriteString("DATE(" + quote(v.Text) + ")")
	default:
		b.WriteString(quote(v.Text))
	}
}

// Quote returns the name of a property as it stands in a condition: in double quotes
// where it would otherwise be read as something else.
func Quote(name string) string {
	if f, err := Parse(name + " IS NULL"); err == nil && len(f.properties) == 1 && f.properties[0] == name {
		return name
	}
	return inQuotes(name)
}

func inQuotes(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func isNameStart(r rune) bool { return r == '_' || unicode.IsLetter(r) }
func isNamePart(r rune) bool  { return isNameStart(r) || unicode.IsDigit(r) || r == '.' || r == ':' }

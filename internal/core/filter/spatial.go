package filter

import (
	"slices"
	"strings"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
)

// An Item is another item that a condition names, whose geometry it compares with.
type Item struct{ Collection, ID string }

// A spatial condition compares the geometry of a feature with another.
type spatial struct {
	of     operand // the geometry of the feature
	within bool    // S_WITHIN, or S_INTERSECTS
	source string  // the other geometry as it is written
	item   *Item   // that it is of, or nil
	region *geometry.Region
}

// Items returns the items that the condition names. It holds for nothing until it is bound
// to them.
func (f *Filter) Items() []Item {
	var items []Item
	each(f.root, func(c *spatial) {
		if c.item != nil && !slices.Contains(items, *c.item) {
			items = append(items, *c.item)
		}
	})
	return items
}

// Bind returns the condition with the geometries of the items that it names. find returns
// that of one, and a text that differs whenever the geometry does.
func (f *Filter) Bind(find func(Item) (region *geometry.Region, version string, err error)) (*Filter, error) {
	if len(f.Items()) == 0 {
		return f, nil
	}
	bound, err := parse(f.text) // whose parts nobody else has
	if err != nil {
		return nil, err
	}
	each(bound.root, func(c *spatial) {
		if c.item == nil || err != nil {
			return
		}
		var version string
		if c.region, version, err = find(*c.item); err == nil && c.within && !c.region.HasAreas() {
			err = invalid.New("", "item %q of collection %q is no area", c.item.ID,
				c.item.Collection).Wanted("one, for S_WITHIN")
		}
		bound.versions += "#" + version
	})
	return bound, err
}

// each calls f with the spatial conditions of a condition.
func each(c condition, f func(*spatial)) {
	switch c := c.(type) {
	case *and:
		for _, part := range c.parts {
			each(part, f)
		}
	case *or:
		for _, part := range c.parts {
			each(part, f)
		}
	case *not:
		each(c.part, f)
	case *spatial:
		f(c)
	}
}

func (c *spatial) holds(s Source) truth {
	if c.region == nil {
		return isUnknown
	}
	v := c.of.value(s)
	switch {
	case v.Kind == Position && c.within:
		return truthOf(c.region.WithinPoint(geo.Point{Lon: v.Number, Lat: v.lat}))
	case v.Kind == Position:
		return truthOf(c.region.IntersectsPoint(geo.Point{Lon: v.Number, Lat: v.lat}))
	case v.Kind != Shape:
		return isUnknown
	case !boxesMeet(v.shape.Box(), c.region.Box()):
		return isFalse
	}
	outline := v.shape.Outline()
	if c.within {
		return truthOf(c.region.Within(&outline))
	}
	return truthOf(c.region.Intersects(&outline))
}

func boxesMeet(a, b geo.Box) bool {
	return slices.ContainsFunc(
		a.SpotBoxes(),
		func(s geo.SpotBox) bool { return slices.ContainsFunc(b.SpotBoxes(), s.Overlaps) },
	)
}

func (c *spatial) write(b *strings.Builder) {
	name := "S_INTERSECTS"
	if c.within {
		name = "S_WITHIN"
	}
	b.WriteString(name + "(geometry, " + c.source + ")")
}

const aGeometry = "a geometry in Well-Known Text such as POLYGON((...)), BBOX(west, south, east, north), or " +
	"ITEM('collection', 'id')"

// spatial reads the rest of S_INTERSECTS(...) or S_WITHIN(...), from its parenthesis.
func (p *parser) spatial(within bool) (condition, error) {
	if err := p.next(); err != nil {
		return nil, err
	}
	if !p.is("geometry") {
		e := p.expected("geometry, which stands for where an item is")
		e.Hint = ""
		return nil, e
	}
	c := &spatial{of: p.property(Geometry), within: within}
	if err := p.next(); err != nil {
		return nil, err
	}
	if !p.is(",") {
		return nil, p.expected("a comma")
	}
	if err := p.next(); err != nil {
		return nil, err
	}
	name := p.token
	if name.kind != wordToken {
		return nil, p.expected(aGeometry)
	}
	inner, ok := p.parenthesised()
	if !ok {
		return nil, &SyntaxError{Position: name.position, Found: name.source, Want: aGeometry}
	}
	if err := c.read(strings.ToUpper(name.text), inner); err != nil {
		return nil, &SyntaxError{Position: name.position, Found: name.source, Want: aGeometry, Hint: err.Error()}
	}
	if err := p.next(); err != nil {
		return nil, err
	}
	return c, p.require(")", ")")
}

// parenthesised takes what is in parentheses, from the next character on, without them.
func (p *parser) parenthesised() (inner string, ok bool) {
	text := strings.TrimLeft(p.rest, " ")
	before := len(p.rest) - len(text)
	depth, quoted := 0, false
	for i := range len(text) {
		switch c := text[i]; {
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(':
			depth++
		case c == ')':
			depth--
		}
		if depth == 0 {
			if i == 0 {
				return "", false
			}
			p.take(before + i + 1)
			return text[1:i], true
		}
	}
	return "", false
}

// read reads the other geometry of a condition.
func (c *spatial) read(name, inner string) error {
	var g geometry.Geometry
	switch name {
	case "ITEM":
		return c.readItem(inner)
	case "BBOX":
		box, err := geo.ParseBox(inner)
		if err != nil {
			return err
		}
		c.source = "BBOX(" + box.String() + ")"
		g = boxGeometry(box)
	default:
		var err error
		if g, err = geometry.ParseWKT(name + "(" + inner + ")"); err == nil {
			g.CloseRings()
			err = g.Validate()
		}
		if err != nil {
			return err
		}
		c.source = string(g.AppendWKT(nil))
	}
	c.region = geometry.Prepare(&g)
	if c.within && !c.region.HasAreas() {
		return invalid.New("", "is no area").Wanted("one, for S_WITHIN")
	}
	return nil
}

// boxGeometry returns the area of a box, in two halves where it would be taken to go around
// the other way.
func boxGeometry(box geo.Box) geometry.Geometry {
	width := box.East - box.West
	if box.CrossesAntimeridian() {
		width += 360
	}
	half := func(west, east float64) [][]geometry.Position {
		at := func(lon, lat float64) geometry.Position {
			return geometry.Position{Point: geo.Point{Lon: lon, Lat: lat}}
		}
		return [][]geometry.Position{{
			at(west, box.South), at(east, box.South), at(east, box.North), at(west, box.North), at(west, box.South),
		}}
	}
	if width < 180 {
		return geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{half(box.West, box.East)}}
	}
	middle := geo.WrapLon(box.West + width/2)
	return geometry.Geometry{
		Type:     geometry.MultiPolygon,
		Polygons: [][][]geometry.Position{half(box.West, middle), half(middle, box.East)},
	}
}

// readItem reads the collection and the id of an item.
func (c *spatial) readItem(inner string) error {
	var texts []string
	rest := strings.TrimSpace(inner)
	for i := range 2 {
		text, end, ok := quoted(rest)
		if !ok || !strings.HasPrefix(rest, "'") {
			return invalid.New("", "has another form").Wanted("a collection and an id in single quotes")
		}
		texts = append(texts, text)
		rest = strings.TrimSpace(rest[end:])
		if i == 0 {
			var more bool
			if rest, more = strings.CutPrefix(rest, ","); !more {
				return invalid.New("", "has another form").Wanted("a collection and an id in single quotes")
			}
			rest = strings.TrimSpace(rest)
		}
	}
	if rest != "" {
		return invalid.New("", "has more in it").Wanted("a collection and an id")
	}
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	c.item = &Item{texts[0], texts[1]}
	c.source = "ITEM(" + quote(texts[0]) + ", " + quote(texts[1]) + ")"
	return nil
}

package geometry

import (
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// AppendWKT appends g as Well-Known Text (OGC 06-103r4 section 7) to dst, with Z
// where any position has an elevation.
func (g *Geometry) AppendWKT(dst []byte) []byte {
	name := map[Type]string{
		Point: "POINT", MultiPoint: "MULTIPOINT", LineString: "LINESTRING", MultiLineString: "MULTILINESTRING",
		Polygon: "POLYGON", MultiPolygon: "MULTIPOLYGON", Collection: "GEOMETRYCOLLECTION",
	}[g.Type]
	dst = append(dst, name...)
	elevated := false
	g.All(func(all []Position) bool {
		for _, p := range all {
			elevated = elevated || p.Elevated
		}
		return !elevated
	})
	if g.Type == Collection {
		return wktList(append(dst, ' '), g.Members, func(dst []byte, m Geometry) []byte { return m.AppendWKT(dst) })
	}
	if elevated {
		dst = append(dst, " Z"...)
	}
	dst = append(dst, ' ')
	position := func(dst []byte, p Position) []byte {
		dst = AppendNumber(append(AppendNumber(dst, p.Lon), ' '), p.Lat)
		if elevated {
			dst = AppendNumber(append(dst, ' '), p.Elevation)
		}
		return dst
	}
	line := func(dst []byte, all []Position) []byte { return wktList(dst, all, position) }
	area := func(dst []byte, rings [][]Position) []byte { return wktList(dst, rings, line) }
	switch g.Type {
	case Point:
		return line(dst, g.Points)
	case MultiPoint:
		return wktList(dst, g.Points, func(dst []byte, p Position) []byte { return line(dst, []Position{p}) })
	case LineString:
		return line(dst, g.Lines[0])
	case MultiLineString:
		return area(dst, g.Lines)
	case Polygon:
		return area(dst, g.Polygons[0])
	}
	return wktList(dst, g.Polygons, area)
}

func wktList[T any](dst []byte, all []T, one func([]byte, T) []byte) []byte {
	dst = append(dst, '(')
	for i := range all {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		dst = one(dst, all[i])
	}
	return append(dst, ')')
}

// ParseWKT reads a geometry in Well-Known Text. It checks its form but not its
// content; that is for Validate.
func ParseWKT(text string) (Geometry, error) {
	p := &wktParser{rest: text}
	g, err := p.geometry(0)
	if err == nil && p.peek() != "" {
		err = invalid.New("", "has %.20q after its end", p.rest)
	}
	return g, err
}

type wktParser struct {
	rest     string
	elevated bool // positions have three numbers
}

// peek returns the next token: a word, a number, a parenthesis or a comma.
func (p *wktParser) peek() string {
	p.rest = strings.TrimLeft(p.rest, " \t\r\n")
	if p.rest == "" {
		return ""
	}
	if strings.IndexByte("(),", p.rest[0]) >= 0 {
		return p.rest[:1]
	}
	if end := strings.IndexAny(p.rest, " \t\r\n(),"); end >= 0 {
		return p.rest[:end]
	}
	return p.rest
}

func (p *wktParser) next() string {
	token := p.peek()
	p.rest = p.rest[len(token):]
	return token
}

func (p *wktParser) want(token string) error {
	if got := p.next(); got != token {
		return invalid.New("", "has %.20q", got).Wanted("%q", token)
	}
	return nil
}

func (p *wktParser) geometry(depth int) (g Geometry, err error) {
	if depth > MaxDepth {
		return g, invalid.New("", "is nested too deep").Wanted("at most %d levels", MaxDepth)
	}
	name := strings.ToUpper(p.next())
	p.elevated = strings.HasSuffix(name, "Z")
	name = strings.TrimSuffix(name, "Z")
	switch strings.ToUpper(p.peek()) {
	case "Z":
		p.elevated = true
		p.next()
	case "M", "ZM":
		return g, invalid.New("", "has measures (%s), which cannot be kept", p.peek())
	case "EMPTY":
		return g, invalid.New("", "is empty")
	}
	line := func() ([]Position, error) { return wktParse(p, p.position) }
	area := func() ([][]Position, error) { return wktParse(p, line) }
	switch name {
	case "POINT":
		g.Type = Point
		if g.Points, err = line(); err == nil && len(g.Points) != 1 {
			err = invalid.New("", "is a POINT of %d positions", len(g.Points)).Wanted("one")
		}
	case "MULTIPOINT":
		g.Type = MultiPoint
		g.Points, err = wktParse(p, func() (Position, error) {
			if p.peek() != "(" { // both forms are in use
				return p.position()
			}
			one, err := line()
			if err != nil || len(one) != 1 {
				return Position{}, invalid.New("", "has a point that is not one position")
			}
			return one[0], nil
		})
	case "LINESTRING":
		g.Type, g.Lines = LineString, make([][]Position, 1)
		g.Lines[0], err = line()
	case "MULTILINESTRING":
		g.Type = MultiLineString
		g.Lines, err = area()
	case "POLYGON":
		g.Type, g.Polygons = Polygon, make([][][]Position, 1)
		g.Polygons[0], err = area()
	case "MULTIPOLYGON":
		g.Type = MultiPolygon
		g.Polygons, err = wktParse(p, area)
	case "GEOMETRYCOLLECTION":
		g.Type = Collection
		g.Members, err = wktParse(p, func() (Geometry, error) { return p.geometry(depth + 1) })
	default:
		err = invalid.New("", "begins with %.30q", name).
			Wanted("POINT, LINESTRING, POLYGON, their MULTI kinds, or GEOMETRYCOLLECTION")
	}
	return g, err
}

func wktParse[T any](p *wktParser, one func() (T, error)) (all []T, err error) {
	if err := p.want("("); err != nil {
		return nil, err
	}
	for {
		v, err := one()
		if err != nil {
			return nil, err
		}
		all = append(all, v)
		switch token := p.next(); token {
		case ",":
		case ")":
			return all, nil
		default:
			return nil, invalid.New("", "has %.20q", token).Wanted("a comma or )")
		}
	}
}

func (p *wktParser) position() (Position, error) {
	var v [3]float64
	n := 2
	if p.elevated {
		n = 3
	}
	for i := range n {
		token := p.next()
		var err error
		if v[i], err = strconv.ParseFloat(token, 64); err != nil {
			return Position{}, invalid.New("", "has %.20q", token).Wanted("a number")
		}
	}
	out := Position{Elevation: v[2], Elevated: p.elevated}
	out.Lon, out.Lat = v[0], v[1]
	return out, nil
}

package feature

import (
	"bytes"
	"encoding/json"
	"strings"

	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// A Patch is a merge patch (RFC 7396) of a feature as it stands in GeoJSON: its members replace
// those of the feature, null takes them out, and objects are merged member by member.
type Patch struct {
	id         []byte             // nil if it says nothing of it
	geometry   []byte             // likewise
	whole      *geometry.Geometry // that the patch has, if it says all of it
	properties []byte
	raw        []byte
}

// JSON returns the patch as it was read; nil of one that was not. It must not be changed.
func (p *Patch) JSON() []byte { return p.raw }

// ParsePatch reads a patch. What is wrong with it whatever it is applied to is a *invalid.Error.
func ParsePatch(raw []byte) (p Patch, err error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || raw[0] != '{' || !json.Valid(raw) {
		return p, invalid.New("body", "is not a JSON object").
			Wanted(`the members to change, such as {"properties": {"name": "Gull Steps", "depth": null}}`)
	}
	if err := wellformed.JSON(raw); err != nil {
		return p, invalid.In("body", err)
	}
	// The feature and its properties are around what may be nested.
	if err := checkContent("body", raw, maxDepth+1); err != nil {
		return p, err
	}
	p.raw = raw
	for _, m := range membersOf(raw).list {
		switch m.name {
		case "type":
			if string(m.value) != `"Feature"` {
				return p, invalid.New("type", "cannot be changed")
			}
		case "id":
			p.id = m.value
		case "geometry":
			p.geometry = m.value
		case "properties":
			p.properties = m.value
		}
	}
	if len(p.properties) > MaxPropertiesBytes {
		return p, invalid.New("properties", "is %d bytes", len(p.properties)).Wanted("at most %d", MaxPropertiesBytes)
	}
	if p.properties != nil && p.properties[0] != '{' && string(p.properties) != "null" {
		return p, invalid.New("properties", "is not a JSON object")
	}
	if string(p.geometry) == "null" {
		return p, invalid.New("geometry", "cannot be taken out: an item is somewhere")
	}
	if says := membersOf(p.geometry).at; len(says) == 2 && has(says, "type") && has(says, "coordinates") {
		g, err := readGeometry(p.geometry, asItIs)
		if err != nil {
			return p, err
		}
		p.whole = &g
	}
	return p, nil
}

func has(members map[string]int, name string) bool { _, there := members[name]; return there }

// Apply returns f with the patch applied. Properties keep their order; new ones come last. The
// id cannot be changed. What is wrong with the feature that comes of it is a *invalid.Error.
func (p *Patch) Apply(f *Feature) (Feature, error) {
	out := *f
	if p.id != nil {
		if id, err := parseID(p.id); err != nil || id != f.ID {
			return out, invalid.New("id", "cannot be changed").
				Hinted("to give the item another id, add it anew and take this one out")
		}
	}
	switch {
	case p.whole != nil:
		out.SetGeometry(*p.whole)
	case p.geometry != nil:
		was := f.Geometry()
		g, err := readGeometry(merged(was.AppendJSON(nil), p.geometry), asItIs)
		if err != nil {
			return out, err
		}
		out.SetGeometry(g)
	}
	if p.properties != nil {
		var err error
		if out.Properties, err = ParseProperties(merged(f.Properties.JSON(), p.properties)); err != nil {
			return out, err
		}
	}
	return out, out.Validate()
}

// merged returns a JSON value with a merge patch applied (RFC 7396, section 2). Both are well
// formed.
func merged(value, patch []byte) []byte {
	if patch[0] != '{' {
		return patch
	}
	changes := membersOf(patch)
	out := []byte{'{'}
	add := func(quoted, value []byte) {
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(append(append(out, quoted...), ':'), value...)
	}
	if len(value) > 0 && value[0] == '{' {
		for _, m := range membersOf(value).list {
			change, there := changes.take(m.name)
			switch {
			case !there:
				add(m.quoted, m.value)
			case string(change) != "null":
				add(m.quoted, merged(m.value, change))
			}
		}
	}
	for _, m := range changes.list {
		if change, there := changes.take(m.name); there && string(change) != "null" {
			add(m.quoted, merged(nil, change))
		}
	}
	return append(out, '}')
}

// members are those of a JSON object, each name once, with the value that it is given last.
type members struct {
	list []member
	at   map[string]int // in list, of those that were not taken
}

type member struct {
	name   string
	quoted []byte // the name as it is spelled
	value  []byte
}

func membersOf(object []byte) *members {
	m := &members{at: map[string]int{}}
	Members(object, func(quoted, value []byte) {
		name := Unquote(quoted)
		if at, there := m.at[name]; there {
			m.list[at].value = value
			return
		}
		m.at[name] = len(m.list)
		m.list = append(m.list, member{name, quoted, value})
	})
	return m
}

// take returns the value of a member, the first time.
func (m *members) take(name string) (value []byte, there bool) {
	at, there := m.at[name]
	if !there {
		return nil, false
	}
	delete(m.at, name)
	return m.list[at].value, true
}

var pointerEscape = strings.NewReplacer("~", "~0", "/", "~1")

// A Difference is a member that two versions of a feature have differently.
type Difference struct {
	Member  string // a JSON Pointer (RFC 6901): "/geometry", or "/properties/" and a name
	Was, Is []byte // its values as JSON, nil where it is absent
}

// Differences returns what differs between two versions of a feature: the geometry as a whole,
// and each property by itself, those that are new last. Their order does not count.
func Differences(was, is *Feature) (all []Difference) {
	note := func(member string, a, b []byte) {
		if !bytes.Equal(a, b) {
			all = append(all, Difference{member, a, b})
		}
	}
	a, b := was.Geometry(), is.Geometry()
	note("/geometry", a.AppendJSON(nil), b.AppendJSON(nil))
	before, after := membersOf(was.Properties.JSON()), membersOf(is.Properties.JSON())
	for _, m := range before.list {
		now, _ := after.take(m.name)
		note("/properties/"+pointerEscape.Replace(m.name), m.value, now)
	}
	for _, m := range after.list {
		if now, there := after.take(m.name); there {
			note("/properties/"+pointerEscape.Replace(m.name), nil, now)
		}
	}
	return all
}

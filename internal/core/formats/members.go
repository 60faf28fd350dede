package formats

import (
	"encoding/json"
	"slices"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// Members of GeoJSON objects that have their place, or that tell nothing of the features.
var (
	usualMembers = []string{
		`"type"`,
		`"id"`,
		`"geometry"`,
		`"properties"`,
		`"bbox"`,
		`"rejected"`,
		`"crs"`,
		`"links"`,
	}
	usualFileMembers = []string{"type", "bbox", "crs", "links", "timeStamp", "numberMatched", "numberReturned"}
)

// readFeature reads a feature, mending its geometry. Of an object that is well formed it
// counts members that have no place in a feature.
func readFeature(raw []byte, f *feature.Feature, m *mender, survey *Survey) error {
	crs, usual := m.crs, true
	defer func() { m.crs = crs }()
	var wrong error // with the positions
	feature.Members(raw, func(name, value []byte) {
		switch {
		case string(name) == `"crs"`:
			if named, is, err := crsNamed(value); err != nil {
				wrong = err
			} else if is && m.crs.IsWGS84() {
				m.crs = named
			}
		case !slices.Contains(usualMembers, string(name)):
			usual = false
		}
	})
	if wrong != nil {
		return wrong
	}
	err := f.Read(raw, func(g *geometry.Geometry) { wrong = m.check(g) })
	if wrong != nil {
		return feature.InGeometry(wrong)
	}
	if err == nil && !usual {
		feature.Members(raw, func(name, _ []byte) {
			if !slices.Contains(usualMembers, string(name)) {
				survey.leave("the member "+sample(string(name))+" of features", 1)
			}
		})
	}
	return err
}

// crsNamed reads the member crs of a GeoJSON object, as the format had it in 2008. is tells
// whether there is one.
func crsNamed(raw []byte) (crs geo.CRS, is bool, err error) {
	var member *struct {
		Type       string
		Properties struct{ Name string }
	}
	if err := json.Unmarshal(raw, &member); err != nil || member != nil && member.Type != "name" {
		return crs, true, notUsable("its member crs does not name a reference system; take it out if positions are " +
			"longitudes and latitudes of WGS 84, or convert them")
	}
	if member == nil {
		return crs, false, nil
	}
	crs, err = geo.ParseCRS(member.Properties.Name)
	if err != nil {
		err = notUsable("%v; or, if they are degrees of WGS 84 in spite of it, say so with crs OGC:CRS84", err)
	}
	return crs, true, err
}

package importing

import (
	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

// A prepared is the contents of an empty collection as a large import will make them,
// put together while the file is being read. A nil one takes nothing.
type prepared struct {
	info     store.Collection  // as it will be when the import is over
	contents *replica.Contents // nil if there was no room for them
	desk     *admission.Desk
	held     int64 // bytes that desk knows of
}

// newPrepared returns one for a file with the given property names, or nil if the
// collection has something in it already.
func (m *Importer) newPrepared(c *replica.Copy, names []string) *prepared {
	if !c.Empty() {
		return nil
	}
	p := &prepared{info: *c.Info(), desk: m.desk}
	if name, category, guessed := guessedProperties(c, names); guessed {
		p.info.NameProperty, p.info.CategoryProperty = name, category
	}
	p.contents = replica.NewContents(p.info)
	return p
}

func (p *prepared) add(features []feature.Feature) {
	if p.made() == nil {
		return
	}
	var bytes int64
	for i := range features {
		f := &features[i]
		bytes += int64(rowBytes + len(f.ID) + len(f.Properties.JSON()))
		if f.Shape != nil {
			bytes += int64(spotBytes * f.Shape.Positions())
		}
	}
	if !p.desk.Hold(bytes) {
		p.drop()
		return
	}
	p.held += bytes
	for i := range features {
		p.contents.Add(&features[i])
	}
}

// About how many bytes of memory a place takes beside its id and its properties, and a
// position of a shape.
const (
	rowBytes  = 64
	spotBytes = 16
)

// drop lets go of what was put together: what is imported is read back instead.
func (p *prepared) drop() {
	if p == nil {
		return
	}
	p.desk.Give(p.held)
	p.contents, p.held = nil, 0
}

// made returns what was put together, or nil.
func (p *prepared) made() *replica.Contents {
	if p == nil {
		return nil
	}
	return p.contents
}

// guessedProperties returns the properties that name and class the features of a
// collection that is still empty and has none set, by their usual names.
func guessedProperties(c *replica.Copy, names []string) (name, category string, guessed bool) {
	info := c.Info()
	if info.NameProperty != "" || info.CategoryProperty != "" || !c.Empty() {
		return "", "", false
	}
	name, category = formats.GuessNameProperty(names), formats.GuessCategoryProperty(names)
	return name, category, name != "" || category != ""
}

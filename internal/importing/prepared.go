package importing

import (
	"context"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

// A prepared is the contents of a collection as a large import will make them,
// put together while the file is being read and while the database takes it in.
type prepared struct {
	info     store.Collection  // as it will be when the import is over
	contents *replica.Contents // nil if there was no room for them, or if they are of no use
	known    func(id string) bool
	desk     *admission.Desk
	held     int64 // bytes that desk knows of
}

// newPrepared returns one for a file with the given property names.
func (m *Importer) newPrepared(c *replica.Copy, names []string) *prepared {
	p := &prepared{info: *c.Info(), desk: m.desk}
	if !c.Empty() {
		p.contents, p.known = replica.NewContentsOnto(c), c.Has
		return p
	}
	if name, category, guessed := guessedProperties(c, names); guessed {
		p.info.NameProperty, p.info.CategoryProperty = name, category
	}
	p.contents = replica.NewContents(p.info)
	return p
}

// staging returns how what p is made of is gathered.
func (p *prepared) staging() store.StageOptions {
	return store.StageOptions{Each: p.add, Known: p.known}
}

func (p *prepared) add(features []feature.Feature) {
	if p.contents == nil {
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
	if !p.hold(bytes) {
		return
	}
	for i := range features {
		p.contents.Add(&features[i])
	}
}

// hold takes room for so many more bytes, or drops the contents if there is none.
func (p *prepared) hold(bytes int64) bool {
	if !p.desk.Hold(bytes) {
		p.drop()
		return false
	}
	p.held += bytes
	return true
}

// complete completes the contents, when all is added, beside the caller, who has to wait for it before they are used,
// and to stop it in the end.
func (p *prepared) complete(ctx context.Context) (wait, stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c := p.contents
		if c != nil && !(c.Worthwhile() && p.hold(c.BytesToComplete()) && c.Complete(ctx)) {
			p.drop()
		}
	}()
	return func() { <-done }, func() { cancel(); <-done }
}

// About how many bytes of memory a place takes beside its id and its properties, and a
// position of a shape.
const (
	rowBytes  = 64
	spotBytes = 16
)

// drop lets go of what was put together: what is imported is read back instead.
func (p *prepared) drop() {
	p.desk.Give(p.held)
	p.contents, p.held = nil, 0
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

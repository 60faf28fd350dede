package service

import (
	"context"
	"strings"

	"github.com/microcosm-cc/bluemonday"

	"idlebeacon/internal/core/popup"
)

// A Popup is what a popup of one item shows.
type Popup struct {
	popup.Popup
	ID     string
	Change uint64 // the item's newest change
	Looks  uint64 // different for each style
}

// safeHTML lets through what formats a text, and links that a reader follows at will.
var safeHTML = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements(
		"p",
		"br",
		"hr",
		"b",
		"strong",
		"i",
		"em",
		"u",
		"s",
		"small",
		"sub",
		"sup",
		"code",
		"pre",
		"blockquote",
		"ul",
		"ol",
		"li",
		"dl",
		"dt",
		"dd",
	)
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("https", "http", "mailto", "tel")
	p.RequireParseableURLs(true)
	p.AllowRelativeURLs(false)
	p.RequireNoFollowOnLinks(true)
	p.RequireNoReferrerOnLinks(true)
	p.AddTargetBlankToFullyQualifiedLinks(true)
	return p
}()

// maxHTML is how much HTML of one property is shown, in bytes.
const maxHTML = 64 << 10

// sanitise returns what is safe of a piece of HTML.
func sanitise(html string) string {
	if len(html) > maxHTML {
		html = html[:maxHTML] // half of a character at its end is passed over
		if tag := strings.LastIndexByte(html, '<'); tag > strings.LastIndexByte(html, '>') {
			html = html[:tag] // so is half of a tag
		}
	}
	return safeHTML.Sanitize(html)
}

// Popup returns what the popup of an item shows, by the template of the collection's
// style or of a draft of one, "" for none.
func (s *Service) Popup(ctx context.Context, collection, id, draft string) (Popup, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Popup{}, err
	}
	item, err := s.Item(ctx, collection, id)
	if err != nil {
		return Popup{}, err
	}
	looks, err := s.looksOf(ctx, c, draft)
	if err != nil {
		return Popup{}, err
	}
	info := c.Info()
	template := popup.Template{
		Style:    looks.resolved.Popup,
		Name:     info.NameProperty,
		Category: info.CategoryProperty,
		Sanitise: sanitise,
	}
	return Popup{Popup: template.Of(&item.Feature), ID: id, Change: item.Change, Looks: looks.stamp}, nil
}

package policy

import (
	"fmt"
	"strings"
	"time"
)

var abilities = map[Role]string{
	None:        "Sees what collections let guests see",
	Device:      "Reports positions",
	Reader:      "Sees places, areas and paths",
	Contributor: "Sees places, areas and paths, and suggests edits",
	Editor:      "Sees, adds, changes and takes out places, areas and paths",
	Owner:       "Manages everything: collections and what is in them, styles, imports, icons, keys and issuers",
}

// Sentence says what the holder of a role can do within limits, until a time, nil for good.
func Sentence(r Role, l *Limits, until *time.Time) string {
	var b strings.Builder
	switch {
	case r == Owner && l.Collections != nil:
		b.WriteString("Manages collections and what is in them, their styles and imports")
	default:
		b.WriteString(abilities[r])
	}
	switch {
	case r == None || r == Device:
	case l.Collections == nil && r != Owner:
		b.WriteString(" of all collections")
	case l.Collections != nil && len(l.Collections) == 0:
		b.WriteString(" of no collection")
	case l.Collections != nil:
		b.WriteString(" of " + listing("the collection", "the collections", l.Collections))
	}
	if l.Own && r == Editor {
		b.WriteString("; changes and takes out only what it added itself")
	}
	if r == Device {
		if l.Devices == nil {
			b.WriteString(" of any device")
		} else {
			b.WriteString(" of " + listing("the device", "the devices", l.Devices))
		}
	}
	if l.Groups != nil {
		if len(l.Groups) == 0 {
			b.WriteString("; of no group of devices")
		} else {
			b.WriteString("; of devices only those of " + listing("the group", "the groups", l.Groups))
		}
	}
	switch {
	case len(l.Origins) == 0:
	case names(l.Origins, AnyOrigin) && len(l.Origins) == 1:
		b.WriteString("; only from web pages, of any site")
	default:
		b.WriteString("; only from web pages of " + strings.Join(l.Origins, ", "))
	}
	if l.PerMinute > 0 {
		fmt.Fprintf(&b, "; at most %d requests a minute", l.PerMinute)
	}
	if until != nil {
		b.WriteString("; until " + until.UTC().Format("2 January 2006 15:04 UTC"))
	}
	return b.String() + "."
}

// listing returns "the collections a, b and c".
func listing(one, many string, ids []string) string {
	if len(ids) == 1 {
		return one + " " + ids[0]
	}
	return many + " " + strings.Join(ids[:len(ids)-1], ", ") + " and " + ids[len(ids)-1]
}

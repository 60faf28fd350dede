package policy

import (
	"net/url"
	"slices"
	"strings"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// AnyOrigin stands for the pages of every site in a list of origins.
const AnyOrigin = "*"

// Limits say what of all that a role may its holder is kept to. The zero value limits nothing
// but web origins: pages of other sites have to be named.
type Limits struct {
	Collections []string // ids of collections; nil for all, empty for none
	Groups      []string // ids of groups of devices, likewise
	Devices     []string // ids of devices, likewise
	// Origins are those of the web pages that may send requests (RFC 6454), such as
	// https://app.example, or [AnyOrigin]. If there are some, nobody else may.
	Origins   []string
	Own       bool // of items an editor may only change those that it made
	PerMinute int  // the most requests in a minute; 0 for as many as the service lets everyone send
}

const (
	maxListed    = 500     // entries of a list of limits
	maxBytes     = 8 << 10 // of the ids of a list
	maxOrigins   = 50
	maxOrigin    = 300 // characters
	maxPerMinute = 1_000_000
)

// Check returns what is wrong with limits for a role, as an *invalid.Error.
func (l *Limits) Check(of Role) error {
	if l.Own && of != Editor {
		return invalid.New("own", "is for the role editor only")
	}
	for _, list := range []struct {
		field  string
		values []string
	}{{"collections", l.Collections}, {"groups", l.Groups}, {"devices", l.Devices}} {
		size := 0
		if len(list.values) > maxListed {
			return invalid.New(list.field, "has %d entries", len(list.values)).Wanted("at most %d", maxListed)
		}
		for _, id := range list.values {
			if id == "" || len(id) > 200 || wellformed.Text(id) != nil {
				return invalid.New(list.field, "%q is no id", id)
			}
			if size += len(id); size > maxBytes {
				return invalid.New(list.field, "is too long").Wanted("at most %d KiB of ids", maxBytes>>10)
			}
		}
	}
	if err := CheckOrigins("origins", l.Origins); err != nil {
		return err
	}
	if l.PerMinute < 0 || l.PerMinute > maxPerMinute {
		return invalid.New("per_minute", "is %d", l.PerMinute).Wanted("1 to %d, or 0 for no limit", maxPerMinute)
	}
	return nil
}

// CheckOrigins returns what is wrong with a list of origins, as an *invalid.Error of a field.
func CheckOrigins(field string, origins []string) error {
	if len(origins) > maxOrigins {
		return invalid.New(field, "has %d entries", len(origins)).Wanted("at most %d", maxOrigins)
	}
	for _, origin := range origins {
		if origin == AnyOrigin {
			continue
		}
		u, err := url.Parse(origin)
		if err != nil || len(origin) > maxOrigin || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" ||
			u.Scheme+"://"+u.Host != origin || strings.ToLower(origin) != origin {
			return invalid.New(field, "%q is no origin of web pages", origin).
				Wanted("one such as https://app.example, in small letters and without a path, or * for all")
		}
	}
	return nil
}

// takesIn reports whether a list of ids, nil for all, has one.
func takesIn(list []string, id string) bool { return list == nil || slices.Contains(list, id) }

// names reports whether a list of origins has one.
func names(origins []string, origin string) bool {
	return slices.Contains(origins, origin) || slices.Contains(origins, AnyOrigin)
}

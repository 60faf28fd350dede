package policy

import (
	"fmt"
	"io"
	"strings"
)

// A Scope says what of a request, or of what it asks for, limits it.
type Scope string

// The scopes.
const (
	ServiceItself Scope = "nothing: it is about the service, or about the caller"
	Filtered      Scope = "the answer: it has only what the caller may see"
	InPath        Scope = "the collection in the path"
	InQuery       Scope = "each of the collections in the query"
	Everything    Scope = "callers that are limited to some collections may not"
	OfDevices     Scope = "the groups and devices that the caller is limited to"
)

// A Rule is what one route needs.
type Rule struct {
	Method string
	Path   string // the pattern of the route
	Does   string // what it does, in a few words
	Needs  Role   // the least role; None for anyone
	Guests Guests // what a collection has to let guests do for those who have not that role; "" if guests may not
	Scope  Scope
	Makes  bool // the collection in the path need not be there yet
	Own    bool // those who may only change what they made themselves are kept to that
}

const (
	collection = "/api/collections/{collection}"
	item       = collection + "/items/{item}"
	device     = "/api/devices/{device}"
	hook       = "/api/hooks/{hook}"
)

// Table has every route of the service. What is not in it is refused.
var Table = []Rule{
	{Method: "GET", Path: "/healthz", Does: "says that the service runs", Scope: ServiceItself},
	{Method: "GET", Path: "/readyz", Does: "says whether it can do its work", Scope: ServiceItself},
	{Method: "GET", Path: "/metrics", Does: "counts what goes on", Needs: Reader, Scope: Everything},
	{Method: "GET", Path: "/api", Does: "lists what there is", Scope: ServiceItself},
	{Method: "GET", Path: "/api/conformance", Does: "names the standards", Scope: ServiceItself},
	{Method: "GET", Path: "/api/openapi.json", Does: "gives the contract", Scope: ServiceItself},

	{Method: "GET", Path: "/api/session", Does: "says who the caller is, and what it may", Scope: ServiceItself},
	{Method: "POST", Path: "/api/session", Does: "signs in", Scope: ServiceItself},
	{Method: "DELETE", Path: "/api/session", Does: "signs out, here or everywhere", Scope: ServiceItself},
	{Method: "POST", Path: "/api/session/codes", Does: "makes a code that signs in once as the caller",
		Needs: Reader, Scope: ServiceItself},
	{Method: "GET", Path: "/sign-in/{issuer}", Does: "leads to an issuer to sign in", Scope: ServiceItself},
	{Method: "GET", Path: "/sign-in/{issuer}/back", Does: "comes back from there", Scope: ServiceItself},
	{Method: "POST", Path: "/api/tickets", Does: "makes a ticket for one path", Needs: Reader, Scope: ServiceItself},

	{Method: "GET", Path: "/api/keys", Does: "lists the keys", Needs: Owner, Scope: Everything},
	{Method: "POST", Path: "/api/keys", Does: "makes a key", Needs: Owner, Scope: Everything},
	{Method: "GET", Path: "/api/keys/{key}", Does: "shows a key and its use", Needs: Owner, Scope: Everything},
	{Method: "PATCH", Path: "/api/keys/{key}", Does: "changes a key", Needs: Owner, Scope: Everything},
	{Method: "DELETE", Path: "/api/keys/{key}", Does: "revokes a key", Needs: Owner, Scope: Everything},
	{Method: "GET", Path: "/api/issuers", Does: "lists the issuers", Needs: Owner, Scope: Everything},
	{Method: "POST", Path: "/api/issuers", Does: "adds an issuer", Needs: Owner, Scope: Everything},
	{Method: "POST", Path: "/api/issuers/check", Does: "tries the rules of an issuer on a token", Needs: Owner,
		Scope: Everything},
	{Method: "GET", Path: "/api/issuers/{issuer}", Does: "shows an issuer", Needs: Owner, Scope: Everything},
	{Method: "PUT", Path: "/api/issuers/{issuer}", Does: "changes an issuer", Needs: Owner, Scope: Everything},
	{Method: "DELETE", Path: "/api/issuers/{issuer}", Does: "takes out an issuer", Needs: Owner, Scope: Everything},

	{Method: "GET", Path: "/api/backdrop", Does: "gives the outlines of land", Scope: ServiceItself},
	{Method: "GET", Path: "/api/icons", Does: "lists the icons", Scope: Filtered},
	{Method: "GET", Path: "/api/icons/{icon}", Does: "gives an icon", Scope: Filtered},
	{Method: "GET", Path: "/api/icon-sheet", Does: "gives all icons as one picture", Scope: Filtered},
	{Method: "PUT", Path: "/api/icons/{icon}", Does: "brings an icon", Needs: Owner, Scope: Everything},
	{Method: "DELETE", Path: "/api/icons/{icon}", Does: "takes out an icon", Needs: Owner, Scope: Everything},

	{Method: "GET", Path: "/api/collections", Does: "lists the collections", Scope: Filtered},
	{Method: "POST", Path: "/api/collections", Does: "makes a collection", Needs: Owner, Scope: Everything},
	{Method: "GET", Path: collection, Does: "describes a collection", Needs: Reader, Guests: GuestsRead,
		Scope: InPath},
	{Method: "PATCH", Path: collection, Does: "changes what is told of a collection, and what guests may",
		Needs: Owner, Scope: InPath},
	{Method: "DELETE", Path: collection, Does: "takes out a collection", Needs: Owner, Scope: InPath},
	{Method: "GET", Path: "/api/deleted", Does: "lists deleted collections that can be brought back", Needs: Owner,
		Scope: Everything},
	{Method: "POST", Path: "/api/deleted/{change}/restore", Does: "brings a deleted collection back", Needs: Owner,
		Scope: Everything},
	{Method: "DELETE", Path: "/api/deleted/{change}", Does: "takes a deleted collection out for good", Needs: Owner,
		Scope: Everything},
	seeing("GET", "/items", "lists items"),
	{Method: "POST", Path: collection + "/items", Does: "adds an item", Needs: Editor, Scope: InPath},
	seeing("GET", "/items/{item}", "gives an item"),
	{Method: "PUT", Path: item, Does: "puts an item in the place of another", Needs: Editor, Scope: InPath, Own: true},
	{Method: "PATCH", Path: item, Does: "changes some members of an item", Needs: Editor, Scope: InPath, Own: true},
	{Method: "DELETE", Path: item, Does: "takes out an item", Needs: Editor, Scope: InPath, Own: true},
	{Method: "POST", Path: collection + "/changes", Does: "edits many items as one", Needs: Editor, Scope: InPath,
		Own: true},
	{Method: "POST", Path: collection + "/changes/undo", Does: "takes back what an actor has done", Needs: Editor,
		Scope: InPath, Own: true},
	{Method: "POST", Path: "/api/changes/{change}/undo", Does: "takes back a change", Needs: Editor, Scope: Filtered,
		Own: true},
	{Method: "POST", Path: collection + "/pictures", Does: "brings a picture that items can show", Needs: Contributor,
		Scope: InPath},
	seeing("GET", "/pictures/{picture}", "gives a picture"),
	{Method: "DELETE", Path: collection + "/pictures/{picture}", Does: "takes out a picture", Needs: Owner, Scope: InPath},
	suggesting("POST", "", "suggests an edit", Contributor),
	{Method: "GET", Path: collection + "/suggestions", Does: "lists suggestions: all for editors, else the caller's own",
		Needs: Contributor, Scope: InPath},
	suggesting("GET", "/{suggestion}", "shows a suggestion to editors and to who made it", Reader),
	suggesting("PUT", "/{suggestion}", "changes a suggestion, for who made it", Reader),
	suggesting("DELETE", "/{suggestion}", "takes back a suggestion, for who made it", Reader),
	{Method: "POST", Path: collection + "/suggestions/{suggestion}/accept", Does: "makes an edit that was suggested",
		Needs: Editor, Scope: InPath, Own: true},
	{Method: "POST", Path: collection + "/suggestions/{suggestion}/decline", Does: "decides against a suggestion",
		Needs: Editor, Scope: InPath},
	{Method: "GET", Path: "/api/changes", Does: "lists changes", Needs: Reader, Scope: Filtered},
	{Method: "GET", Path: collection + "/changes", Does: "lists the changes of a collection", Needs: Reader,
		Scope: InPath},
	{Method: "GET", Path: item + "/history", Does: "lists the changes of an item", Needs: Reader, Scope: InPath},
	seeing("GET", "/items/{item}/popup", "says what a popup shows"),
	drafting("/items/{item}/popup", "the same in a style that is tried"),
	seeing("GET", "/markers", "gives the markers of a view"),
	drafting("/markers", "the same in a style that is tried"),
	seeing("GET", "/density", "gives the shaded cells of a view"),
	drafting("/density", "the same in a style that is tried"),
	seeing("GET", "/members", "lists what a marker stands for"),
	seeing("GET", "/shapes", "gives the areas and paths of a view"),
	drafting("/shapes", "the same in a style that is tried"),
	seeing("GET", "/categories", "counts the categories"),
	seeing("GET", "/style", "says how a collection is drawn"),
	seeing("GET", "/schema", "says what items have to be"),
	{Method: "PUT", Path: collection + "/schema", Does: "says what they have to be", Needs: Owner, Scope: InPath},
	{Method: "DELETE", Path: collection + "/schema", Does: "lets items be anything", Needs: Owner, Scope: InPath},
	{Method: "POST", Path: collection + "/schema/check", Does: "tries a schema on all items", Needs: Owner,
		Scope: InPath},
	{Method: "PUT", Path: collection + "/style", Does: "says how it is to be drawn", Needs: Owner, Scope: InPath},
	{Method: "DELETE", Path: collection + "/style", Does: "leaves that to the service", Needs: Owner, Scope: InPath},
	seeing("GET", "/legend", "gives the key to the map"),
	drafting("/legend", "the same in a style that is tried"),
	seeing("GET", "/near", "lists what is near a position"),
	seeing("GET", "/export", "gives all items as a file"),
	together("/api/live", "tells what changes, as it happens"),
	{Method: "PUT", Path: "/api/live/{listener}", Does: "says which answers a listener looks at", Scope: ServiceItself},
	together("/api/markers", "gives the markers of several collections"),
	together("/api/members", "lists what a marker of several stands for"),
	together("/api/shapes", "gives the areas and paths of several"),

	{Method: "POST", Path: "/api/inspect", Does: "looks at a file before it is imported", Needs: Owner,
		Scope: Filtered},
	{Method: "POST", Path: collection + "/import", Does: "imports a file", Needs: Owner, Scope: InPath, Makes: true},
	{Method: "GET", Path: "/api/imports", Does: "lists the imports", Needs: Owner, Scope: Filtered},
	{Method: "GET", Path: "/api/imports/{import}", Does: "shows an import", Needs: Owner, Scope: Filtered},
	{Method: "DELETE", Path: "/api/imports/{import}", Does: "calls off an import, or drops its report",
		Needs: Owner, Scope: Filtered},
	{Method: "GET", Path: "/api/imports/{import}/rejected", Does: "gives the rows that an import could not use",
		Needs: Owner, Scope: Filtered},

	{Method: "GET", Path: "/api/groups", Does: "lists the groups of devices", Scope: OfDevices},
	{Method: "POST", Path: "/api/groups", Does: "makes a group", Needs: Owner, Scope: OfDevices},
	{Method: "GET", Path: "/api/groups/{group}", Does: "shows a group", Scope: OfDevices},
	{Method: "PATCH", Path: "/api/groups/{group}", Does: "changes a group", Needs: Owner, Scope: OfDevices},
	{Method: "DELETE", Path: "/api/groups/{group}", Does: "takes out a group without devices", Needs: Owner,
		Scope: OfDevices},
	{Method: "POST", Path: "/api/positions", Does: "reports where devices are", Needs: Device, Scope: OfDevices},
	{Method: "GET", Path: "/api/positions/stream", Does: "takes reports on a WebSocket", Needs: Device,
		Scope: OfDevices},
	{Method: "GET", Path: "/api/devices", Does: "lists devices", Scope: OfDevices},
	{Method: "POST", Path: "/api/devices", Does: "makes a device", Needs: Editor, Scope: OfDevices},
	{Method: "GET", Path: "/api/devices/markers", Does: "gives the markers of devices in a view", Scope: OfDevices},
	{Method: "GET", Path: "/api/devices/members", Does: "lists what a marker of devices stands for", Scope: OfDevices},
	{Method: "GET", Path: "/api/devices/near", Does: "lists the devices near a position, a device or a place",
		Scope: OfDevices},
	{Method: "GET", Path: "/api/devices/at", Does: "tells where devices were at a moment", Scope: OfDevices},
	{Method: "GET", Path: device, Does: "shows a device", Scope: OfDevices},
	{Method: "PATCH", Path: device, Does: "changes a device, for editors; whose own it is may pause it",
		Scope: OfDevices},
	{Method: "DELETE", Path: device, Does: "takes out a device with all its positions", Needs: Editor, Scope: OfDevices},
	{Method: "GET", Path: device + "/track", Does: "gives where a device was", Scope: OfDevices},
	{Method: "POST", Path: device + "/track", Does: "keeps the positions of a file, for editors and whose own it is",
		Scope: OfDevices},
	{Method: "DELETE", Path: device + "/track", Does: "takes out positions, for editors and whose own it is",
		Scope: OfDevices},
	{Method: "GET", Path: device + "/shares", Does: "lists the links by which a device is shared, for editors and whose " +
		"own it is", Scope: OfDevices},
	{Method: "POST", Path: device + "/shares", Does: "makes a link by which a device is shared for a while, likewise",
		Scope: OfDevices},
	{Method: "DELETE", Path: device + "/shares/{share}", Does: "ends such a link, likewise", Scope: OfDevices},
	{Method: "GET", Path: device + "/file", Does: "gives all that is kept of a device", Scope: OfDevices},

	{Method: "GET", Path: "/api/watches", Does: "lists the watches", Needs: Reader, Scope: OfDevices},
	{Method: "POST", Path: "/api/watches", Does: "makes a watch", Needs: Editor, Scope: OfDevices},
	{Method: "POST", Path: "/api/watches/try", Does: "tells what a watch would have noticed", Needs: Editor,
		Scope: OfDevices},
	{Method: "GET", Path: "/api/watches/{watch}", Does: "shows a watch", Needs: Reader, Scope: OfDevices},
	{Method: "PATCH", Path: "/api/watches/{watch}", Does: "changes a watch", Needs: Editor, Scope: OfDevices},
	{Method: "DELETE", Path: "/api/watches/{watch}", Does: "takes out a watch", Needs: Editor, Scope: OfDevices},
	{Method: "GET", Path: "/api/notices", Does: "lists what was noticed", Needs: Reader, Scope: OfDevices},
	{Method: "GET", Path: "/api/hooks", Does: "lists the hooks", Needs: Owner, Scope: Everything},
	{Method: "POST", Path: "/api/hooks", Does: "makes a hook", Needs: Owner, Scope: Everything},
	{Method: "GET", Path: hook, Does: "shows a hook", Needs: Owner, Scope: Everything},
	{Method: "PATCH", Path: hook, Does: "changes a hook", Needs: Owner, Scope: Everything},
	{Method: "DELETE", Path: hook, Does: "takes out a hook", Needs: Owner, Scope: Everything},
	{Method: "GET", Path: hook + "/deliveries", Does: "lists the messages to a hook", Needs: Owner, Scope: Everything},
	{Method: "POST", Path: hook + "/deliveries/again", Does: "sends the messages again that were given up", Needs: Owner,
		Scope: Everything},
	{Method: "POST", Path: hook + "/deliveries/{delivery}/again", Does: "sends a message again", Needs: Owner,
		Scope: Everything},

	page("/"), page("/data"), page("/data/*"), page("/access"), page("/changes"), page("/devices"), page("/suggestions/*"),
	page("/assets/*"), page("/favicon.svg"),
	{Method: "GET", Path: "/pictures/{picture}", Does: "gives a picture that popups show", Scope: ServiceItself},
}

func seeing(method, path, does string) Rule {
	return Rule{Method: method, Path: collection + path, Does: does, Needs: Reader, Guests: GuestsRead,
		Scope: InPath}
}

func drafting(path, does string) Rule {
	return Rule{Method: "POST", Path: collection + path, Does: does, Needs: Reader, Scope: InPath}
}

func suggesting(method, path, does string, needs Role) Rule {
	return Rule{Method: method, Path: collection + "/suggestions" + path, Does: does, Needs: needs,
		Guests: GuestsSuggest, Scope: InPath}
}

func together(path, does string) Rule {
	return Rule{Method: "GET", Path: path, Does: does, Needs: Reader, Guests: GuestsRead, Scope: InQuery}
}

func page(path string) Rule {
	return Rule{Method: "GET", Path: path, Does: "is a page of the console, or a part of one", Scope: ServiceItself}
}

// For returns the rule of a route, or nil.
func For(method, path string) *Rule {
	for i := range Table {
		if r := &Table[i]; r.Method == method && r.Path == path {
			return r
		}
	}
	return nil
}

// WriteTable writes the table in Markdown.
func WriteTable(w io.Writer) error {
	var b strings.Builder
	b.WriteString("| call | what it does | the least role | what limits it |\n| --- | --- | --- | --- |\n")
	for i := range Table {
		r := &Table[i]
		needs := string(r.Needs)
		switch {
		case r.Needs == None:
			needs = "anyone"
		case r.Guests != "":
			needs += fmt.Sprintf(", or guests who may %s", r.Guests)
		}
		scope := string(r.Scope)
		if r.Own {
			scope += "; own items only, if the caller is limited to these"
		}
		fmt.Fprintf(&b, "| `%s %s` | %s | %s | %s |\n", r.Method, r.Path, r.Does, needs, scope)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

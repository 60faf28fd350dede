package httpapi

import (
	"cmp"
	"encoding/json"
	"math"
	"net/http"
	"slices"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// schemaRelation is how a collection relates to its schema (OGC API - Features - Part 5).
const schemaRelation = "http://www.opengis.net/def/rel/ogc/1.0/schema"

// What goes over the wire, from what the service returns.

// boxArray writes a box in the order of bbox, rounded outwards to a centimetre.
func boxArray(b geo.Box) [4]float64 {
	down := func(v float64) float64 { return math.Floor(v*1e7) / 1e7 }
	up := func(v float64) float64 { return math.Ceil(v*1e7) / 1e7 }
	return [4]float64{down(b.West), down(b.South), up(b.East), up(b.North)}
}

func describeCollection(r *http.Request, c service.Summary, at site) api.Collection {
	out := api.Collection{
		ID: c.ID, Title: c.Title, Description: c.Description, ItemType: "feature",
		NameProperty: c.NameProperty, CategoryProperty: c.CategoryProperty, TimeProperty: c.TimeProperty,
		CreatedAt: c.CreatedAt,
		Count:     c.Places + c.Shapes, Places: c.Places, Shapes: c.Shapes, Change: c.Newest, ChangedAt: c.NewestAt,
		OwnChange: c.Change, Categories: []api.CategoryCount{}, Guests: c.Guests,
		UnconditionalEdits: c.UnconditionalEdits, AlikeWithin: c.Alike, HasSchema: c.Collection.Schema != nil,
		HistoryDays: c.HistoryDays, PictureMiB: c.PictureMiB,
		Links: []api.Link{
			at.link("self", collectionPath(c.ID), plainJSON, ""),
			at.link("items", collectionPath(c.ID)+"/items", geoJSON, "its items"),
			at.link("style", collectionPath(c.ID)+"/style", plainJSON, "how it is drawn"),
			at.link(schemaRelation, collectionPath(c.ID)+"/schema", schemaJSON, "what its items have to be"),
		},
	}
	if actorOf(r).Role.Includes(policy.Owner) {
		out.GuestOrigins = strings.Fields(c.GuestOrigins)
	}
	for _, count := range c.Categories {
		out.Categories = append(out.Categories, api.CategoryCount(count))
	}
	if e := c.Extent; e != nil {
		out.Extent = &api.Extent{}
		out.Extent.Spatial.BBox = [][4]float64{boxArray(*e)}
	}
	return out
}

func (h *server) describeItem(s store.Stored) api.Item {
	g := s.Geometry()
	g = g.Standard()
	return api.Item{
		Type:       "Feature",
		ID:         s.ID,
		NumberID:   s.NumberID,
		Geometry:   describeGeometry(&g),
		Properties: s.Properties.JSON(),
		Change:     s.Change,
		ETag:       h.changeTag(s.Change),
	}
}

func describeGeometry(g *geometry.Geometry) api.Geometry {
	out := api.Geometry{Type: string(g.Type)}
	for i := range g.Members {
		out.Geometries = append(out.Geometries, describeGeometry(&g.Members[i]))
	}
	if g.Type != geometry.Collection {
		out.Coordinates = g.AppendCoordinates(nil)
	}
	return out
}

func describeReport(report *importing.Report) api.ImportReport {
	out := api.ImportReport{
		Import: report.Import, Rows: report.Rows, Created: report.Created, Replaced: report.Replaced,
		Unchanged: report.Unchanged, Rejected: report.Rejected,
		WithoutID: report.WithoutID, Doubtful: report.Doubtful, Mended: report.Mended, Repeated: report.Repeated,
		Kept: report.Kept, DryRun: report.DryRun,
		Notes: make(
			[]api.FileNote,
			len(report.Notes),
		), Errors: make([]api.RowError, len(report.Errors)), Doubts: make([]api.RowDoubt,
			len(report.Doubts)), Stopped: report.Stopped,
	}
	for i := range report.Notes {
		out.Notes[i] = describeNote(&report.Notes[i])
	}
	for i, e := range report.Errors {
		out.Errors[i] = api.RowError{Row: e.Row, Line: e.Line, Reason: e.Reason, Fix: e.Fix}
	}
	for i, d := range report.Doubts {
		out.Doubts[i] = api.RowDoubt{Row: d.Row, Line: d.Line, Kind: d.Kind, Fix: d.Fix, Reason: d.Reason}
	}
	return out
}

func describeNote(n *formats.Note) api.FileNote {
	out := api.FileNote{
		Kind: string(n.Kind), Text: n.String(), Column: n.Column, Type: string(n.Type), About: n.What,
		Count: n.Count, Of: n.Of, Alone: n.Alone, Row: n.Row, Value: n.Value,
	}
	for _, side := range n.Sides {
		s := api.FileSide{Count: side.Count, BBox: boxArray(side.Box), Spots: make([][2]float64, len(side.Spots))}
		for i, spot := range side.Spots {
			s.Spots[i] = [2]float64{spot.Lon, spot.Lat}
		}
		out.Sides = append(out.Sides, s)
	}
	for _, s := range n.Set {
		out.Set = append(out.Set, api.Setting(s))
	}
	return out
}

// describeOptions returns what was recognised in a file, and what was asked for, as options
// to read it with.
func describeOptions(found *importing.Inspection, asked *formats.Options) api.FileOptions {
	o := api.FileOptions{
		Format:   string(found.Format),
		Fixes:    asked.Fix.Names(),
		NoValue:  asked.NoValue,
		Encoding: asked.Encoding,
	}
	if asked.CRS != nil {
		o.CRS = asked.CRS.String()
	}
	if asked.Within != nil {
		o.Within = asked.Within.String()
	}
	if !slices.ContainsFunc(found.Columns, func(c formats.Column) bool { return c.Role != "" }) {
		o.IDColumn = asked.IDColumn
	}
	for _, c := range found.Columns {
		switch c.Role {
		case formats.LonRole:
			o.LonColumn = c.Name
		case formats.LatRole:
			o.LatColumn = c.Name
		case formats.GeometryRole:
			o.GeometryColumn = c.Name
		case formats.IDRole:
			o.IDColumn = c.Name
		default:
			if !found.Format.Typed() {
				if o.Types == nil {
					o.Types = map[string]string{}
				}
				o.Types[c.Name] = string(cmp.Or(asked.Types[c.Name], c.Type))
			}
		}
	}
	return o
}

func describeImport(i *importing.Import, at site) api.Import {
	out := api.Import{
		ID: i.ID, Collection: i.Collection, FileName: i.FileName, Status: string(i.Status), Format: string(i.Format),
		BytesRead: i.BytesRead, BytesTotal: i.BytesTotal, Rows: i.Rows, StartedAt: i.StartedAt, EndedAt: i.EndedAt,
		Problem: i.Problem,
		Links:   []api.Link{at.link("self", importPath(i.ID), plainJSON, "")},
	}
	if i.Report != nil {
		report := describeReport(i.Report)
		out.Report = &report
		if i.Report.Kept > 0 {
			out.Links = append(out.Links, at.link("rejected", importPath(i.ID)+"/rejected",
				i.Format.MediaType(), "The rejected rows, to be corrected"))
		}
	}
	return out
}

func describeIcon(i *service.Icon, at site) api.Icon {
	return api.Icon{
		Name: i.Name, MediaType: i.MediaType, Width: i.Width, Height: i.Height, BuiltIn: i.BuiltIn, Removed: i.Removed,
		Links: []api.Link{at.link("icon", iconPath(i.Name), i.MediaType, "")},
	}
}

func describeInspection(found *importing.Inspection, options *formats.Options) (out api.Inspection, err error) {
	out = api.Inspection{
		Format: string(found.Format), NameProperty: found.NameProperty, CategoryProperty: found.CategoryProperty,
		Options: describeOptions(
			found,
			options,
		), Columns: make([]api.Column, len(found.Columns)), Report: describeReport(&found.Report), Whole: found.Whole,
		Features: make([]api.InspectedItem, len(found.Features)),
	}
	for i, c := range found.Columns {
		out.Columns[i] = api.Column{Name: c.Name, Role: string(c.Role), Type: string(c.Type), Samples: c.Samples}
	}
	for i := range found.Features {
		f := &found.Features[i]
		g := f.Geometry()
		out.Features[i] = api.InspectedItem{
			Type:       "Feature",
			ID:         f.ID,
			Geometry:   describeGeometry(&g),
			Properties: f.Properties.JSON(),
		}
	}
	out.Style, err = mirrored[*api.StyleDocument](found.Style)
	return out, err
}

func describeNeighbours(found []places.Neighbour) api.Neighbours {
	out := api.Neighbours{Type: "FeatureCollection", Features: make([]api.Neighbour, len(found))}
	for i, n := range found {
		out.Features[i] = api.Neighbour{
			Type: "Feature", ID: n.ID, Geometry: api.Point{Type: "Point", Coordinates: []float64{n.At.Lon, n.At.Lat}},
			Properties: api.NeighbourProperties{
				Name: n.Name, Category: n.Category,
				Distance: math.Round(n.Metres*1000) / 1000, Bearing: math.Mod(math.Round(n.Bearing*100)/100, 360),
			},
		}
	}
	return out
}

func describeStyle(s *service.Style) (api.Style, error) {
	document, err := mirrored[api.StyleDocument](s.Style)
	out := api.Style{StyleDocument: document, Proposed: s.Proposed, Warnings: []api.StyleWarning{}}
	for _, warning := range s.Warnings {
		out.Warnings = append(out.Warnings, api.StyleWarning{Field: warning.Field, Reason: warning.Reason()})
	}
	return out, err
}

func describePopup(p *service.Popup) (api.Popup, error) {
	out, err := mirrored[api.Popup](p.Popup)
	out.ID, out.Change = p.ID, p.Change
	return out, err
}

// mirrored returns a document of the core as the type of the contract that has the same form
// in JSON.
func mirrored[T any](document any) (out T, err error) {
	text, err := json.Marshal(document)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

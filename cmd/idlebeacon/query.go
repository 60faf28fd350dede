package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

func shapesCommand() *cobra.Command {
	var r remote
	var of layered
	var bbox string
	var o client.ShapesOptions
	cmd := &cobra.Command{
		Use: "shapes", Short: "Show the areas and paths of a viewport", Args: exactly(0),
		Example: "  idlebeacon shapes --collection waters --bbox -22.2,-38.6,-22,-38.4 --zoom 12\n" +
			"  idlebeacon shapes --collection waters,paths --zoom 8",
	}
	r.flags(cmd)
	of.flags(cmd)
	cmd.Flags().StringVar(&bbox, "bbox", geo.World.String(), bboxHelp)
	cmd.Flags().Float64Var(&o.Zoom, "zoom", 0, zoomHelp)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		box, err := geo.ParseBox(bbox)
		if err != nil {
			return &usageError{fmt.Errorf("--bbox: %w", err)}
		}
		o.Box, o.Selection = client.Box(box), of.selection
		layers, err := of.layers()
		if err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			if layers != nil {
				shapes, err := c.JointShapes(cmd.Context(), layers, o.Box, o.Zoom)
				switch {
				case err != nil:
					return err
				case r.json:
					return printJSON(shapes)
				}
				return printShapes(shapesOf(shapes))
			}
			collection, err := r.collectionWith(
				cmd.Context(),
				c,
				of.only(),
				func(found *api.Collection) bool { return found.Shapes > 0 },
			)
			if err != nil {
				return err
			}
			shapes, err := c.Shapes(cmd.Context(), collection, o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(shapes)
			}
			return printShapes(shapes)
		})
	}
	return cmd
}

// shapesOf returns shapes of several collections as those of one, with both ids.
func shapesOf(s api.JointShapes) api.Shapes {
	out := api.Shapes{LeftOut: s.LeftOut}
	for _, f := range s.Features {
		out.Features = append(out.Features, api.Shape{
			ID: f.ID, Geometry: f.Geometry, Properties: f.Properties.ShapeProperties,
		})
	}
	return out
}

func printShapes(s api.Shapes) error {
	if len(s.Features) > 0 {
		t := newTable("Id", "Name", "Category", "Geometry", "Positions")
		numeric(t, 5)
		for _, f := range s.Features {
			g, err := geometry.Parse(f.Geometry)
			if err != nil {
				return err
			}
			t.AppendRow(
				table.Row{
					short(f.ID, 36),
					short(f.Properties.Name, 40),
					short(f.Properties.Category, 24),
					g.Type,
					g.Positions(),
				},
			)
		}
		t.Render()
	}
	fmt.Printf("%s to draw", count(len(s.Features), "shape", "shapes"))
	if s.LeftOut > 0 {
		fmt.Printf("; %d more in the box are too small to be seen at this zoom, or too many", s.LeftOut)
	}
	fmt.Println(".")
	return nil
}

const (
	bboxHelp = "west,south,east,north in degrees; west > east crosses the antimeridian"
	zoomHelp = "zoom: the world is 256 * 2^zoom pixels wide (0 to 24)"
)

func collectionFlag(cmd *cobra.Command, collection *string) {
	cmd.Flags().StringVar(collection, "collection", "", "which collection; may be left out if there is only one, "+
		"or only one with places")
}

// selectionFlags adds the options that choose among the places of a collection.
func selectionFlags(cmd *cobra.Command, collection *string, s *client.Selection) {
	collectionFlag(cmd, collection)
	choiceFlags(cmd, s)
}

// choiceFlags are selectionFlags but for the collection.
func choiceFlags(cmd *cobra.Command, s *client.Selection) {
	cmd.Flags().StringSliceVar(&s.Categories, "category", nil, "only these categories, separated by commas")
	cmd.Flags().StringVar(&s.Name, "name", "", "only places whose name contains this, in any case")
	cmd.Flags().StringVar(&s.Filter, "filter", "", "only places that meet this condition, such as \"berths >= 4 "+
		"AND condition = 'good'\"")
}

// gatheringFlags adds the options that say how places are gathered into markers.
func gatheringFlags(cmd *cobra.Command, g *client.Gathering) {
	cmd.Flags().IntVar(&g.Spacing, "spacing", 0, "least distance between markers in pixels, 12 to 176 (default 44)")
	cmd.Flags().Func("cluster-to", "deepest zoom with clusters, 0 to 24 (default 20)", func(text string) error {
		zoom, err := strconv.Atoi(text)
		g.ClusterTo = &zoom
		return err
	})
}

func itemsCommand() *cobra.Command {
	var r remote
	var collection, bbox string
	var at uint64
	var o client.ItemsOptions
	cmd := &cobra.Command{
		Use: "items", Short: "List items of a collection", Args: exactly(0),
		Example: "  idlebeacon items --category slipway --filter \"condition = 'poor'\" --limit 20\n  idlebeacon " +
			"items --sort=-berths --limit 10",
	}
	r.flags(cmd)
	selectionFlags(cmd, &collection, &o.Selection)
	cmd.Flags().StringVar(&bbox, "bbox", "", bboxHelp)
	cmd.Flags().StringVar(&o.Sort, "sort", "", "properties to sort by, separated by commas, each with - before it "+
		"for descending order (default: the order of ids)")
	cmd.Flags().IntVar(&o.Offset, "offset", 0, "how many items to pass over")
	cmd.Flags().Uint64Var(&at, "at", 0, "as they were after this change (with --bbox, --after and --limit alone)")
	pageFlags(cmd, &o.After, &o.Limit)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if at != 0 && (!o.Selection.Empty() || o.Sort != "" || o.Offset != 0) {
			return &usageError{errors.New("--at goes with --bbox, --after and --limit alone")}
		}
		if o.After != "" && (o.Sort != "" || o.Offset != 0) {
			return &usageError{
				errors.New("--after is for the order of ids; with --sort or --offset, pass over items with --offset"),
			}
		}
		if bbox != "" {
			box, err := geo.ParseBox(bbox)
			if err != nil {
				return &usageError{fmt.Errorf("--bbox: %w", err)}
			}
			o.Box = (*client.Box)(&box)
		}
		return r.listItems(
			cmd,
			&collection,
			func(c *client.Client) (api.Items, error) {
				if at != 0 {
					return pastItems(cmd.Context(), c, collection, at, &o)
				}
				return c.Items(cmd.Context(), collection, o)
			},
		)
	}
	return cmd
}

// pastItems returns items as they were after a change, as many as are asked for if there are.
func pastItems(
	ctx context.Context, c *client.Client, collection string, at uint64, o *client.ItemsOptions,
) (page api.Items, err error) {
	wanted := cmp.Or(o.Limit, 20)
	for after := o.After; ; {
		items, next, err := c.ItemsAt(ctx, collection, at, o.Box, after, wanted)
		if err != nil {
			return page, err
		}
		page.Features = append(page.Features, items...)
		if next == "" || len(page.Features) >= wanted {
			page.NumberReturned = len(page.Features)
			if next != "" {
				page.Links = []api.Link{{Rel: "next", Href: "?after=" + url.QueryEscape(next)}}
			}
			return page, nil
		}
		after = next
	}
}

func popupCommand() *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{Use: "popup ITEM", Short: "Show what the popup of an item shows", Args: exactly(1)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			p, err := c.Popup(cmd.Context(), collection, args[0])
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(p)
			}
			for _, line := range []string{p.Title, p.Subtitle, p.Category, p.Image} {
				if line != "" {
					fmt.Println(line)
				}
			}
			t := newTable("Field", "Value", "Format")
			for _, f := range p.Fields {
				value := strings.TrimSpace(f.Text + " " + f.Unit)
				t.AppendRow(table.Row{short(f.Label, 30), short(value, 80), f.Format})
			}
			for _, a := range p.Actions {
				t.AppendRow(table.Row{short(a.Label, 30), short(a.Href, 80), "action"})
			}
			if t.Length() > 0 {
				t.Render()
			}
			return nil
		})
	}
	return cmd
}

func membersCommand() *cobra.Command {
	var r remote
	var of layered
	var o client.MembersOptions
	cmd := &cobra.Command{
		Use: "members", Short: "List the places that a marker stands for", Args: exactly(0),
		Example: "  idlebeacon members --lat -38.5 --lon -22 --zoom 10\n" +
			"  idlebeacon members --lat -38.5 --lon -22 --zoom 10 --collection brindlemere,huts",
	}
	r.flags(cmd)
	of.flags(cmd)
	gatheringFlags(cmd, &o.Gathering)
	cmd.Flags().Float64Var(&o.Lat, "lat", 0, "latitude of the marker in degrees (required)")
	cmd.Flags().Float64Var(&o.Lon, "lon", 0, "longitude of the marker in degrees (required)")
	cmd.Flags().Float64Var(&o.Zoom, "zoom", 0, "zoom that the marker is seen at (0 to 24)")
	pageFlags(cmd, &o.After, &o.Limit)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if !cmd.Flags().Changed("lat") || !cmd.Flags().Changed("lon") {
			return &usageError{fmt.Errorf("say where the marker stands with --lat and --lon, in degrees")}
		}
		layers, err := of.layers()
		if err != nil {
			return err
		}
		if layers != nil {
			return r.with(func(c *client.Client) error {
				page, err := c.JointMembers(cmd.Context(), client.JointMembersOptions{
					Layers: layers, Gathering: o.Gathering, Lat: o.Lat, Lon: o.Lon, Zoom: o.Zoom, After: o.After,
					Limit: o.Limit,
				})
				switch {
				case err != nil:
					return err
				case r.json:
					return printJSON(page)
				}
				printPlaces(page)
				return nil
			})
		}
		collection := of.only()
		o.Selection = of.selection
		return r.listItems(
			cmd,
			&collection,
			func(c *client.Client) (api.Items, error) { return c.Members(cmd.Context(), collection, o) },
		)
	}
	return cmd
}

// printPlaces shows a page of places of several collections.
func printPlaces(page api.JointMembers) {
	t := newTable("Collection", "Id", "Name", "Category")
	for _, p := range page.Places {
		t.AppendRow(table.Row{p.Collection, short(p.ID, 36), short(p.Name, 40), short(p.Category, 24)})
	}
	t.Render()
	fmt.Printf("%d of %s.\n", len(page.Places), count(page.Matched, "place", "places"))
	if n := len(page.Places); n > 0 && slices.ContainsFunc(page.Links,
		func(l api.Link) bool { return l.Rel == "next" }) {
		fmt.Printf("More follow: add --after '%s/%s'\n", page.Places[n-1].Collection, page.Places[n-1].ID)
	}
}

func pageFlags(cmd *cobra.Command, after *string, limit *int) {
	cmd.Flags().StringVar(after, "after", "", "only items whose ids come after this one")
	cmd.Flags().IntVar(limit, "limit", 100, "most items to show (1 to 1000)")
}

// listItems fetches a page of items and shows it.
func (r *remote) listItems(
	cmd *cobra.Command,
	collection *string,
	fetch func(*client.Client) (api.Items, error),
) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	if *collection, err = r.collection(cmd.Context(), c, *collection); err != nil {
		return err
	}
	page, err := fetch(c)
	if err != nil {
		return r.explain(err)
	}
	if r.json {
		return printJSON(page)
	}
	if len(page.Features) == 0 {
		fmt.Println("There are no such items.")
		return nil
	}
	t := newTable("Id", "Geometry", "Latitude", "Longitude", "Properties", "Change")
	numeric(t, 3, 4, 6)
	for _, f := range page.Features {
		lat, lon := "", ""
		if p, ok := f.Geometry.Position(); ok {
			lat, lon = degrees(p.Lat), degrees(p.Lon)
		}
		row := table.Row{short(f.ID, 36), f.Geometry.Type, lat, lon, short(string(f.Properties), 80)}
		if f.Change != 0 { // of items as they were that is not told
			row = append(row, f.Change)
		}
		t.AppendRow(row)
	}
	t.Render()
	if page.NumberMatched > 0 {
		fmt.Printf("%d of %s.\n", page.NumberReturned, count(page.NumberMatched, "item", "items"))
	} else { // how many there were is not counted
		fmt.Printf("%s.\n", count(page.NumberReturned, "item", "items"))
	}
	for _, l := range page.Links {
		if l.Rel == "next" {
			next := fmt.Sprintf("--after '%s'", page.Features[len(page.Features)-1].ID)
			if further, err := url.Parse(l.Href); err == nil && further.Query().Has("offset") {
				next = "--offset " + further.Query().Get("offset")
			}
			fmt.Printf("More follow: add %s\n", next)
		}
	}
	return nil
}

func category(c string) string {
	if c == "" {
		return ""
	}
	return " (" + c + ")"
}

// tally writes the places of a cluster by category, the most first.
func tally(counts map[string]int) string {
	names := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], cmp.Compare(a, b))
	})
	var parts []string
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%d %s", counts[name], cmp.Or(name, "(none)")))
	}
	return strings.Join(parts, ", ")
}

// originFlags are the options that say near what.
func originFlags(cmd *cobra.Command, o *client.Origin) {
	cmd.Flags().Float64Var(&o.Lat, "lat", 0, "latitude in degrees")
	cmd.Flags().Float64Var(&o.Lon, "lon", 0, "longitude in degrees")
	cmd.Flags().StringVar(&o.Device, "device", "", "near this device")
	cmd.Flags().StringVar(&o.Place, "place", "", "near this place: the id of a collection, a slash and the id of an item")
}

func checkOrigin(cmd *cobra.Command, o *client.Origin) error {
	at := cmd.Flags().Changed("lat") && cmd.Flags().Changed("lon")
	if !at && o.Device == "" && o.Place == "" {
		return &usageError{errors.New("say near what: with --lat and --lon in degrees, --device, or --place")}
	}
	return nil
}

func nearCommand() *cobra.Command {
	var r remote
	var collection string
	var o client.NearOptions
	cmd := &cobra.Command{
		Use: "near", Short: "Show the places nearest to a position, a device or another place", Args: exactly(0),
		Example: "  idlebeacon near --lat -38.5 --lon -22 --radius 2000 --category mooring\n" +
			"  idlebeacon near --device WB-07 --category \"water tap\" --limit 1",
	}
	r.flags(cmd)
	selectionFlags(cmd, &collection, &o.Selection)
	originFlags(cmd, &o.Origin)
	cmd.Flags().Float64Var(&o.Radius, "radius", 0, "furthest distance in metres (default: the whole Earth)")
	cmd.Flags().IntVar(&o.Limit, "limit", 10, "most places to show")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := checkOrigin(cmd, &o.Origin); err != nil {
			return err
		}
		if o.Radius < 0 || cmd.Flags().Changed("radius") && o.Radius == 0 {
			return &usageError{fmt.Errorf("--radius %v: want more than 0 metres", o.Radius)}
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		found, err := c.Near(cmd.Context(), collection, o)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(found)
		}
		if len(found.Features) == 0 {
			fmt.Println("There are no places that near. Try a larger --radius.")
			return nil
		}
		t := newTable("Distance", "Bearing", "Id", "Name", "Category", "Latitude", "Longitude")
		numeric(t, 1, 2, 6, 7)
		for _, f := range found.Features {
			p := f.Properties
			t.AppendRow(
				table.Row{
					distance(p.Distance),
					fmt.Sprintf("%.1f°", p.Bearing),
					short(f.ID, 36),
					short(p.Name, 40),
					short(p.Category, 20),
					degrees(f.Geometry.Coordinates[1]),
					degrees(f.Geometry.Coordinates[0]),
				},
			)
		}
		t.Render()
		return nil
	}
	return cmd
}

package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
)

func markersCommand() *cobra.Command {
	var r remote
	var collections, selects []string
	var bbox string
	var o client.MarkersOptions
	cmd := &cobra.Command{
		Use: "markers", Short: "Show the markers of a viewport", Args: exactly(0),
		Long: "Show the markers of a viewport, of one collection or of several that gather together.\n\n" +
			"With several, --select chooses among the places of each.",
		Example: "  idlebeacon markers --bbox -22.5,-38.8,-21.5,-38.2 --zoom 10\n" +
			"  idlebeacon markers --zoom 8 --category mooring,slipway --filter \"berths >= 4\"\n" +
			"  idlebeacon markers --zoom 9 --collection brindlemere,huts --select huts.category=shelter",
	}
	r.flags(cmd)
	choiceFlags(cmd, &o.Selection)
	flags := cmd.Flags()
	flags.StringSliceVar(&collections, "collection", nil, "which collections, separated by commas or one by one; "+
		"may be left out if there is only one, or only one with places")
	flags.StringArrayVar(&selects, "select", nil,
		"of several collections, which places of one: its id, a full stop, and category, name or filter with a value")
	gatheringFlags(cmd, &o.Gathering)
	flags.StringVar(&bbox, "bbox", geo.World.String(), bboxHelp)
	flags.Float64Var(&o.Zoom, "zoom", 0, zoomHelp)
	flags.IntVar(&o.SinglesTo, "singles-to", 0, "up to so many places in the box, show each by itself")
	flags.BoolVar(&o.Outline, "outline", false, "with --json, give the outline of each cluster")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		box, err := geo.ParseBox(bbox)
		if err != nil {
			return &usageError{fmt.Errorf("--bbox: %w", err)}
		}
		o.Box = client.Box(box)
		if len(collections) < 2 && len(selects) > 0 {
			return &usageError{errors.New("--select is for several collections: name them with --collection, " +
				"or use --category, --name and --filter")}
		}
		return r.with(func(c *client.Client) error {
			if len(collections) > 1 {
				return jointMarkers(cmd.Context(), &r, c, collections, selects, &o)
			}
			collection, err := r.collection(cmd.Context(), c, strings.Join(collections, ""))
			if err != nil {
				return err
			}
			markers, err := c.Markers(cmd.Context(), collection, o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(markers)
			}
			printMarkers(rowsOf(markers), markers.Matched)
			return nil
		})
	}
	return cmd
}

// jointMarkers shows the markers of several collections.
func jointMarkers(
	ctx context.Context, r *remote, c *client.Client, collections, selects []string, o *client.MarkersOptions,
) error {
	if !o.Selection.Empty() {
		return &usageError{fmt.Errorf("--category, --name and --filter are for one collection: of several, write "+
			"--select %s.name=Lee and the like", collections[0])}
	}
	joint := client.JointOptions{
		Gathering: o.Gathering, Box: o.Box, Zoom: o.Zoom, SinglesTo: o.SinglesTo, Outline: o.Outline,
	}
	for _, id := range collections {
		joint.Layers = append(joint.Layers, client.Layer{Collection: id})
	}
	for _, text := range selects {
		if err := selectIn(joint.Layers, text); err != nil {
			return &usageError{fmt.Errorf("--select %q: %w", text, err)}
		}
	}
	markers, err := c.JointMarkers(ctx, joint)
	if err != nil {
		return err
	}
	if r.json {
		return printJSON(markers)
	}
	printMarkers(rowsOfJoint(markers), markers.Matched)
	for _, id := range collections {
		if n, shown := markers.Shown[id]; shown {
			fmt.Printf("%s: %s in the box.\n", id, count(n, "place", "places"))
		} else {
			fmt.Printf("%s: not shown at this zoom, by its style.\n", id)
		}
	}
	return nil
}

// selectIn sets the selection of a layer from a text such as "huts.category=shelter,hut".
func selectIn(layers []client.Layer, text string) error {
	id, rest, _ := strings.Cut(text, ".")
	name, value, found := strings.Cut(rest, "=")
	at := slices.IndexFunc(layers, func(l client.Layer) bool { return l.Collection == id })
	switch {
	case !found:
		return fmt.Errorf("want a collection, a full stop, category, name or filter, an equals sign and a value")
	case at < 0:
		return fmt.Errorf("%q is not one of the collections that are asked for", id)
	}
	switch s := &layers[at].Selection; name {
	case "category":
		s.Categories = strings.Split(value, ",")
	case "name":
		s.Name = value
	case "filter":
		s.Filter = value
	default:
		return fmt.Errorf("%q is not known: want category, name or filter", name)
	}
	return nil
}

// A markerRow is a marker as it stands in the table.
type markerRow struct {
	id      string
	count   int // 0 for a place
	at      api.Point
	opensAt *int
	what    string
}

func rowsOf(m api.Markers) (rows []markerRow) {
	for _, f := range m.Features {
		p := f.Properties
		row := markerRow{f.ID, p.Count, f.Geometry, p.OpensAt, tally(p.Tally)}
		if p.Kind == "place" {
			row.what = cmp.Or(p.Name, f.ID) + category(p.Category)
		}
		rows = append(rows, row)
	}
	return rows
}

func rowsOfJoint(m api.JointMarkers) (rows []markerRow) {
	for _, f := range m.Features {
		p := f.Properties
		row := markerRow{id: f.ID, count: p.Count, at: f.Geometry, opensAt: p.OpensAt}
		if p.Kind == "place" {
			row.what = cmp.Or(p.Name, p.Item) + category(p.Category) + " in " + p.Collection
		} else {
			of := map[string]int{} // places by collection
			for id, counts := range p.Tally {
				for _, n := range counts {
					of[id] += n
				}
			}
			row.what = tally(of)
		}
		rows = append(rows, row)
	}
	return rows
}

func printMarkers(rows []markerRow, matched int) {
	slices.SortStableFunc(rows, func(a, b markerRow) int { return cmp.Or(b.count-a.count, cmp.Compare(a.id, b.id)) })
	t := newTable("Marker", "Places", "Latitude", "Longitude", "Opens at zoom", "What")
	numeric(t, 2, 3, 4, 5)
	total := 0
	for _, row := range rows {
		lon, lat := degrees(row.at.Coordinates[0]), degrees(row.at.Coordinates[1])
		if row.count == 0 {
			total++
			t.AppendRow(table.Row{"place", 1, lat, lon, "", short(row.what, 70)})
			continue
		}
		total += row.count
		opens := "never: one spot"
		if row.opensAt != nil {
			opens = fmt.Sprint(*row.opensAt)
		}
		t.AppendRow(table.Row{"cluster", row.count, lat, lon, opens, short(row.what, 70)})
	}
	t.AppendFooter(table.Row{count(len(rows), "marker", "markers"), total})
	t.Render()
	fmt.Printf("%s in the box.\n", count(matched, "place", "places"))
}

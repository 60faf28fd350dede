package main

import (
	"cmp"
	"context"
	"fmt"
	"maps"
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
	var of layered
	var bbox string
	var o client.MarkersOptions
	cmd := &cobra.Command{
		Use: "markers", Short: "Show the markers of a viewport", Args: exactly(0),
		Long: "Show the markers of a viewport, of one collection or of several that gather together.\n\n" +
			"With several, --select chooses among the places of each.",
		Example: "  idlebeacon markers --bbox -22.5,-38.8,-21.5,-38.2 --zoom 10\n" +
			"  idlebeacon markers --zoom 8 --category mooring,slipway --filter \"berths >= 4\"\n" +
			"  idlebeacon markers --zoom 9 --numbers berths\n" +
			"  idlebeacon markers --zoom 9 --collection brindlemere,huts --select huts.category=shelter",
	}
	r.flags(cmd)
	of.flags(cmd)
	flags := cmd.Flags()
	gatheringFlags(cmd, &o.Gathering)
	flags.StringVar(&bbox, "bbox", geo.World.String(), bboxHelp)
	flags.Float64Var(&o.Zoom, "zoom", 0, zoomHelp)
	flags.IntVar(&o.SinglesTo, "singles-to", 0, "up to so many places in the box, show each by itself")
	flags.StringSliceVar(&o.Numbers, "numbers", nil, "sum, mean, least and greatest of these properties for each "+
		"cluster, at most four; of several collections, with --select")
	flags.BoolVar(&o.Outline, "outline", false, "with --json, give the outline of each cluster")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		box, err := geo.ParseBox(bbox)
		if err != nil {
			return &usageError{fmt.Errorf("--bbox: %w", err)}
		}
		o.Box = client.Box(box)
		layers, err := of.layers()
		if err != nil {
			return err
		}
		if layers != nil && o.Numbers != nil {
			return &usageError{fmt.Errorf("--numbers is for one collection: of several, write --select %s.numbers=%s",
				layers[0].Collection, strings.Join(o.Numbers, ","))}
		}
		return r.with(func(c *client.Client) error {
			if layers != nil {
				return r.jointMarkers(cmd.Context(), c, client.JointOptions{
					Layers: layers, Gathering: o.Gathering, Box: o.Box, Zoom: o.Zoom, SinglesTo: o.SinglesTo,
					Outline: o.Outline,
				})
			}
			collection, err := r.collection(cmd.Context(), c, of.only())
			if err != nil {
				return err
			}
			o.Selection = of.selection
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
func (r *remote) jointMarkers(ctx context.Context, c *client.Client, o client.JointOptions) error {
	markers, err := c.JointMarkers(ctx, o)
	if err != nil {
		return err
	}
	if r.json {
		return printJSON(markers)
	}
	printMarkers(rowsOfJoint(markers), markers.Matched)
	for _, l := range o.Layers {
		if n, shown := markers.Shown[l.Collection]; shown {
			fmt.Printf("%s: %s in the box.\n", l.Collection, count(n, "place", "places"))
		} else {
			fmt.Printf("%s: not shown at this zoom, by its style.\n", l.Collection)
		}
	}
	return nil
}

// A markerRow is a marker as it stands in the table.
type markerRow struct {
	id      string
	count   int // 0 for a place
	at      api.Point
	opensAt *float64
	what    string
	numbers []string // what the numbers of a cluster come to
}

func rowsOf(m api.Markers) (rows []markerRow) {
	for _, f := range m.Features {
		p := f.Properties
		row := markerRow{f.ID, p.Count, f.Geometry, p.OpensAt, tally(p.Tally), totals("", p.Numbers)}
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
			for _, id := range slices.Sorted(maps.Keys(p.Numbers)) {
				row.numbers = append(row.numbers, totals(id+".", p.Numbers[id])...)
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// totals tells what numbers come to, a line for each property.
func totals(prefix string, numbers map[string]api.Total) (lines []string) {
	for _, property := range slices.Sorted(maps.Keys(numbers)) {
		t := numbers[property]
		if t.Count == 0 {
			lines = append(lines, prefix+property+": none")
			continue
		}
		lines = append(lines, fmt.Sprintf("%s%s: sum %v, mean %.4g, %v to %v",
			prefix, property, t.Sum, t.Mean, t.Least, t.Greatest))
	}
	return lines
}

func printMarkers(rows []markerRow, matched int) {
	slices.SortStableFunc(rows, func(a, b markerRow) int { return cmp.Or(b.count-a.count, cmp.Compare(a.id, b.id)) })
	columns := []any{"Marker", "Places", "Latitude", "Longitude", "Opens at zoom", "What"}
	if slices.ContainsFunc(rows, func(row markerRow) bool { return row.numbers != nil }) {
		columns = append(columns, "Numbers")
	}
	t := newTable(columns...)
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
		t.AppendRow(table.Row{
			"cluster", row.count, lat, lon, opens, short(row.what, 70), strings.Join(row.numbers, "\n"),
		}[:len(columns)])
	}
	t.AppendFooter(table.Row{count(len(rows), "marker", "markers"), total})
	t.Render()
	fmt.Printf("%s in the box.\n", count(matched, "place", "places"))
}

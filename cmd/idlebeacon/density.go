package main

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

func densityCommand() *cobra.Command {
	var r remote
	var collection, bbox string
	var o client.DensityOptions
	const listed = 20
	cmd := &cobra.Command{
		Use: "density", Short: "Show where the places of a viewport are densest", Args: exactly(0),
		Long: "Show the places of a viewport as cells of 11 to 22 pixels, the heaviest first.\n\n" +
			"A cell tells how many places it has or, with --show and --property, what their numbers come to.",
		Example: "  idlebeacon density --bbox -22.5,-38.8,-21.5,-38.2 --zoom 10\n" +
			"  idlebeacon density --zoom 9 --show sum --property berths --category mooring",
	}
	r.flags(cmd)
	selectionFlags(cmd, &collection, &o.Selection)
	flags := cmd.Flags()
	flags.StringVar(&bbox, "bbox", geo.World.String(), bboxHelp)
	flags.Float64Var(&o.Zoom, "zoom", 0, zoomHelp)
	flags.StringVar(&o.Show, "show", "", "what each cell tells: count, sum, mean, least or greatest (default: what the "+
		"style says, or count)")
	flags.StringVar(&o.Property, "property", "", "the property whose numbers are meant")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		box, err := geo.ParseBox(bbox)
		if err != nil {
			return &usageError{fmt.Errorf("--bbox: %w", err)}
		}
		o.Box = client.Box(box)
		return r.with(func(c *client.Client) error {
			id, err := r.collection(cmd.Context(), c, collection)
			if err != nil {
				return err
			}
			d, err := c.Density(cmd.Context(), id, o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(d)
			}
			printDensity(d, listed)
			return nil
		})
	}
	return cmd
}

// printDensity shows the heaviest cells, and how many there are of each class.
func printDensity(d api.Density, most int) {
	cells := slices.Clone(d.Cells)
	slices.SortStableFunc(cells, func(a, b api.Cell) int { return cmp.Compare(b.Number, a.Number) })
	columns := []any{"Latitude", "Longitude", "Places", d.Says}
	if d.Says == "places" {
		columns = columns[:3]
	}
	t := newTable(columns...)
	numeric(t, 1, 2, 3, 4)
	for _, c := range cells[:min(most, len(cells))] {
		at := index.Cell{Level: uint8(d.Level), X: c.X, Y: c.Y}.Bounds()
		middle := geo.Spot{X: at.Min.X + (at.Max.X-at.Min.X)/2, Y: at.Min.Y + (at.Max.Y-at.Min.Y)/2}.Centre()
		row := table.Row{degrees(middle.Lat), degrees(middle.Lon), c.Count, fmt.Sprintf("%.6g", c.Number)}
		t.AppendRow(row[:len(columns)])
	}
	if len(cells) > most {
		t.AppendFooter(table.Row{fmt.Sprintf("and %d more", len(cells)-most)})
	}
	t.Render()
	fmt.Printf("%s with %s in the box, of %s.\n", count(len(cells), "cell", "cells"), d.Says,
		count(d.Matched, "place", "places"))
}

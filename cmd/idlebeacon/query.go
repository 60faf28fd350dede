package main

import (
	"cmp"
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

func collectionsCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "collections", Short: "List the collections; make or delete one", Args: exactly(0)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		list, err := c.Collections(cmd.Context())
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(list)
		}
		if len(list.Collections) == 0 {
			fmt.Println("There are no collections yet. Import a file with 'idlebeacon import FILE --into COLLECTION'.")
			return nil
		}
		t := newTable("Collection", "Title", "Places", "Categories", "West", "South", "East", "North", "Change")
		numeric(t, 3, 5, 6, 7, 8, 9)
		for _, found := range list.Collections {
			row := table.Row{found.ID, short(found.Title, 36), found.Count, categories(found.Categories)}
			if found.Extent != nil {
				for _, edge := range found.Extent.Spatial.BBox[0] {
					row = append(row, fmt.Sprintf("%.4f", edge))
				}
			} else {
				row = append(row, "", "", "", "")
			}
			t.AppendRow(append(row, found.Change))
		}
		t.Render()
		return nil
	}
	cmd.AddCommand(collectionsCreateCommand(), collectionsDeleteCommand())
	return cmd
}

func categories(counts []api.CategoryCount) string {
	var names []string
	for _, c := range counts {
		names = append(names, cmp.Or(c.Category, "(none)"))
	}
	return short(strings.Join(names, ", "), 48)
}

func collectionsCreateCommand() *cobra.Command {
	var r remote
	var n api.NewCollection
	cmd := &cobra.Command{Use: "create ID", Short: "Make an empty collection", Args: exactly(1)}
	r.flags(cmd)
	collectionFlags(cmd, &n)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		n.ID = args[0]
		made, err := c.CreateCollection(cmd.Context(), n)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(made)
		}
		fmt.Printf("Made collection %s.\n", made.ID)
		return nil
	}
	return cmd
}

// collectionFlags adds the options that describe a new collection.
func collectionFlags(cmd *cobra.Command, n *api.NewCollection) {
	cmd.Flags().StringVar(&n.Title, "title", "", "title of the new collection")
	cmd.Flags().StringVar(&n.Description, "description", "", "description of the new collection")
	cmd.Flags().StringVar(&n.NameProperty, "name-property", "", "property that names a place")
	cmd.Flags().StringVar(&n.CategoryProperty, "category-property", "", "property that is a place's category")
}

func collectionsDeleteCommand() *cobra.Command {
	var r remote
	var yes bool
	cmd := &cobra.Command{Use: "delete ID", Short: "Delete a collection with all its items", Args: exactly(1)}
	r.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really delete it")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		found, err := c.Collection(cmd.Context(), args[0])
		if err != nil {
			return r.explain(err)
		}
		if !yes {
			return &usageError{fmt.Errorf("this deletes collection %s with %s; add --yes to do so", found.ID, count(found.Count, "item", "items"))}
		}
		if err := c.DeleteCollection(cmd.Context(), found.ID); err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(map[string]string{"deleted": found.ID})
		}
		fmt.Printf("Deleted collection %s with %s.\n", found.ID, count(found.Count, "item", "items"))
		return nil
	}
	return cmd
}

func markersCommand() *cobra.Command {
	var r remote
	var collection, bbox string
	var zoom float64
	cmd := &cobra.Command{
		Use: "markers", Short: "Show the markers of a viewport", Args: exactly(0),
		Example: "  idlebeacon markers --bbox -22.5,-38.8,-21.5,-38.2 --zoom 10",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&collection, "collection", "", "collection to ask; may be left out if there is only one")
	cmd.Flags().StringVar(&bbox, "bbox", geo.World.String(), "west,south,east,north in degrees; west > east crosses the antimeridian")
	cmd.Flags().Float64Var(&zoom, "zoom", 0, "zoom: the world is 256 * 2^zoom pixels wide (0 to 24)")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		box, err := geo.ParseBox(bbox)
		if err != nil {
			return &usageError{fmt.Errorf("--bbox: %w", err)}
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		markers, err := c.Markers(cmd.Context(), collection, client.Box(box), zoom)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(markers)
		}
		printMarkers(markers)
		return nil
	}
	return cmd
}

func printMarkers(m api.Markers) {
	slices.SortStableFunc(m.Features, func(a, b api.Marker) int {
		return cmp.Or(b.Properties.Count-a.Properties.Count, cmp.Compare(a.ID, b.ID))
	})
	t := newTable("Marker", "Places", "Latitude", "Longitude", "Opens at zoom", "What")
	numeric(t, 2, 3, 4, 5)
	total := 0
	for _, f := range m.Features {
		lon, lat := degrees(f.Geometry.Coordinates[0]), degrees(f.Geometry.Coordinates[1])
		p := f.Properties
		if p.Kind == "place" {
			total++
			t.AppendRow(table.Row{"place", 1, lat, lon, "", short(cmp.Or(p.Name, f.ID)+category(p.Category), 70)})
			continue
		}
		total += p.Count
		opens := "never: one spot"
		if p.OpensAt != nil {
			opens = fmt.Sprint(*p.OpensAt)
		}
		t.AppendRow(table.Row{"cluster", p.Count, lat, lon, opens, short(tally(p.Tally), 70)})
	}
	t.AppendFooter(table.Row{count(len(m.Features), "marker", "markers"), total})
	t.Render()
	fmt.Printf("%s in the box, as of change %d.\n", count(m.Matched, "place", "places"), m.Change)
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

func nearCommand() *cobra.Command {
	var r remote
	var collection string
	var o client.NearOptions
	cmd := &cobra.Command{
		Use: "near", Short: "Show the places nearest to a position", Args: exactly(0),
		Example: "  idlebeacon near --lat -38.5 --lon -22 --radius 2000",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&collection, "collection", "", "collection to ask; may be left out if there is only one")
	cmd.Flags().Float64Var(&o.Lat, "lat", 0, "latitude in degrees (required)")
	cmd.Flags().Float64Var(&o.Lon, "lon", 0, "longitude in degrees (required)")
	cmd.Flags().Float64Var(&o.Radius, "radius", 0, "furthest distance in metres (default: the whole Earth)")
	cmd.Flags().IntVar(&o.Limit, "limit", 10, "most places to show")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if !cmd.Flags().Changed("lat") || !cmd.Flags().Changed("lon") {
			return &usageError{fmt.Errorf("say where with --lat and --lon, in degrees")}
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
			t.AppendRow(table.Row{distance(p.Distance), fmt.Sprintf("%.1f°", p.Bearing), short(f.ID, 36), short(p.Name, 40), short(p.Category, 20),
				degrees(f.Geometry.Coordinates[1]), degrees(f.Geometry.Coordinates[0])})
		}
		t.Render()
		return nil
	}
	return cmd
}

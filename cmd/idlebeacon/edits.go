package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// position is the options that say where something is.
type position struct{ lat, lon float64 }

func (p *position) flags(cmd *cobra.Command) {
	cmd.Flags().Float64Var(&p.lat, "lat", 0, "latitude in degrees")
	cmd.Flags().Float64Var(&p.lon, "lon", 0, "longitude in degrees")
}

// geometry returns where something is as GeoJSON, and whether the options say so.
func (p *position) geometry(cmd *cobra.Command) (g json.RawMessage, said bool, err error) {
	lat, lon := cmd.Flags().Changed("lat"), cmd.Flags().Changed("lon")
	switch {
	case !lat && !lon:
		return nil, false, nil
	case !lat || !lon:
		return nil, false, &usageError{errors.New("say where with both --lat and --lon, in degrees")}
	}
	at := geo.Point{Lon: p.lon, Lat: p.lat}
	if err := at.Validate(); err != nil {
		return nil, false, &usageError{fmt.Errorf("--lat and --lon: %w", err)}
	}
	g, err = json.Marshal(api.Point{Type: "Point", Coordinates: []float64{p.lon, p.lat}})
	return g, true, err
}

// setting is the options that say which properties to set, and which to take out.
type setting struct {
	set, unset []string
	merge      string
}

func (s *setting) flags(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&s.set, "set", nil, "property to set, as NAME=VALUE; a value that is a JSON number, truth "+
		"value, list or object is taken for that, any other for a text (may be repeated)")
}

func (s *setting) moreFlags(cmd *cobra.Command) {
	s.flags(cmd)
	cmd.Flags().StringArrayVar(&s.unset, "unset", nil, "property to take out (may be repeated)")
	cmd.Flags().StringVar(&s.merge, "merge", "", "merge patch (RFC 7396) of the item in JSON, or @ and a file that has it")
}

// properties returns the properties that are set, with null for those that are taken out.
func (s *setting) properties() (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for _, pair := range s.set {
		name, value, ok := strings.Cut(pair, "=")
		if !ok || name == "" {
			return nil, &usageError{fmt.Errorf("--set %s: want NAME=VALUE", pair)}
		}
		out[name] = valueOf(value)
	}
	for _, name := range s.unset {
		if _, set := out[name]; set {
			return nil, &usageError{fmt.Errorf("%s is both set and unset", name)}
		}
		out[name] = json.RawMessage("null")
	}
	return out, nil
}

// valueOf returns a value as JSON: a text, unless it is JSON of another kind. The word null is a
// text, as taking out a property is said otherwise.
func valueOf(text string) json.RawMessage {
	if raw := json.RawMessage(strings.TrimSpace(text)); json.Valid(raw) && string(raw) != "null" && raw[0] != '"' {
		return raw
	}
	return feature.AppendText(nil, text)
}

// patch returns the merge patch that the options make, nil if they say nothing.
func (s *setting) patch() (json.RawMessage, error) {
	properties, err := s.properties()
	if err != nil {
		return nil, err
	}
	if s.merge != "" {
		if len(properties) > 0 {
			return nil, &usageError{errors.New("--merge says all that changes: leave out --set and --unset")}
		}
		text, err := textOrFile(s.merge)
		if err == nil && !json.Valid(text) {
			err = &usageError{errors.New("--merge is not JSON")}
		}
		return text, err
	}
	if len(properties) == 0 {
		return nil, nil
	}
	return json.Marshal(map[string]any{"properties": properties})
}

// textOrFile returns a text, or what is in the file that it names after @; - is standard input.
func textOrFile(text string) ([]byte, error) {
	file, named := strings.CutPrefix(text, "@")
	switch {
	case !named:
		return []byte(text), nil
	case file == "-":
		return io.ReadAll(os.Stdin)
	}
	return os.ReadFile(file)
}

func addCommand() *cobra.Command {
	var r remote
	var asked, id, file string
	var at position
	var s setting
	var g suggesting
	cmd := &cobra.Command{
		Use: "add", Short: "Add an item to a collection", Args: exactly(0),
		Example: "  idlebeacon add --lat -38.5 --lon -22 --set name='Gull Steps' --set berths=4\n" +
			"  idlebeacon add --collection waters --file area.geojson",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	at.flags(cmd)
	s.flags(cmd)
	g.flags(cmd)
	cmd.Flags().StringVar(&id, "id", "", "id of the item (default: one that the service gives)")
	cmd.Flags().StringVar(&file, "file", "", "GeoJSON file with the feature, or - for standard input")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		item, err := newItem(cmd, &at, &s, file)
		if err != nil {
			return err
		}
		item.ID = cmp.Or(id, item.ID)
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			if g.asked(cmd) {
				text, err := json.Marshal(item)
				if err != nil {
					return err
				}
				return r.suggest(cmd.Context(), c, collection, api.Edit{Op: "create", ID: item.ID, Feature: text}, g.note)
			}
			made, err := c.CreateItem(cmd.Context(), collection, item)
			if err != nil {
				return err
			}
			return r.printItem(&made, "added")
		})
	}
	return cmd
}

// newItem returns the item that the options of add say.
func newItem(cmd *cobra.Command, at *position, s *setting, file string) (item api.Item, err error) {
	properties, err := s.properties()
	if err != nil {
		return item, err
	}
	where, said, err := at.geometry(cmd)
	switch {
	case err != nil:
		return item, err
	case said == (file != ""):
		return item, &usageError{errors.New("say where the item is with --lat and --lon, or bring it with --file")}
	case file != "":
		text, err := textOrFile("@" + file)
		if err != nil {
			return item, err
		}
		if err := json.Unmarshal(text, &item); err != nil {
			return item, fmt.Errorf("%s is not a GeoJSON feature: %w", file, err)
		}
		if len(properties) == 0 {
			return item, nil
		}
		return item, &usageError{errors.New("--file brings the properties: leave out --set")}
	}
	item.Type = "Feature"
	if err := json.Unmarshal(where, &item.Geometry); err != nil {
		return item, err
	}
	var b feature.Builder // in the order in which they were given
	for _, pair := range s.set {
		name, value, _ := strings.Cut(pair, "=")
		b.SetJSON(name, valueOf(value))
	}
	item.Properties = b.Properties().JSON()
	return item, nil
}

// printItem tells what has become of an item.
func (r *remote) printItem(item *api.Item, done string) error {
	if r.json {
		return printJSON(item)
	}
	where := item.Geometry.Type
	if p, ok := item.Geometry.Position(); ok {
		where = fmt.Sprintf("%s, %s", degrees(p.Lat), degrees(p.Lon))
	}
	fmt.Printf("Item %s %s (%s) as change %d.\n", item.ID, done, where, item.Change)
	for _, w := range item.Warnings {
		fmt.Printf("  Warning: %s\n", w.Reason)
	}
	return nil
}

func moveCommand() *cobra.Command {
	var r remote
	var asked string
	var at position
	var g suggesting
	cmd := &cobra.Command{
		Use: "move ITEM --lat LATITUDE --lon LONGITUDE", Short: "Move a place", Args: exactly(1),
		Example: "  idlebeacon move mooring-0042 --lat -38.51 --lon -22.03",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	at.flags(cmd)
	g.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		where, said, err := at.geometry(cmd)
		if err != nil {
			return err
		}
		if !said {
			return &usageError{errors.New("say where to with --lat and --lon, in degrees")}
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			was, tag, err := c.ItemTagged(cmd.Context(), collection, args[0])
			if err != nil {
				return err
			}
			from, ok := was.Geometry.Position()
			if !ok {
				return fmt.Errorf("item %s is a %s: give its new geometry with 'idlebeacon edit %s --merge'", args[0],
					was.Geometry.Type, args[0])
			}
			patch, err := json.Marshal(map[string]any{"geometry": where})
			if err != nil {
				return err
			}
			now, err := g.patch(cmd, &r, c, collection, args[0], patch, tag)
			if err != nil || now == nil {
				return err
			}
			metres := geo.Distance(geo.Point{Lon: from.Lon, Lat: from.Lat}, geo.Point{Lon: at.lon, Lat: at.lat})
			return r.printItem(now, "moved by "+distance(metres))
		})
	}
	return cmd
}

func removeCommand() *cobra.Command {
	var r remote
	var asked string
	var yes bool
	var choice client.Selection
	var g suggesting
	cmd := &cobra.Command{
		Use: "remove [ITEM...]", Short: "Take items out of a collection", Args: cobra.ArbitraryArgs,
		Example: "  idlebeacon remove mooring-0042\n  idlebeacon remove --filter \"condition = 'gone'\" --yes",
	}
	r.flags(cmd)
	selectionFlags(cmd, &asked, &choice)
	g.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really take out those that are chosen")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 == !choice.Empty() {
			return &usageError{errors.New("name items, or choose them with --filter, --category or --name")}
		}
		if g.asked(cmd) && len(args) == 0 {
			return errSuggestOne
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			if g.asked(cmd) {
				for _, id := range args {
					if err := r.suggest(cmd.Context(), c, collection, api.Edit{Op: "delete", ID: id}, g.note); err != nil {
						return err
					}
				}
				return nil
			}
			if len(args) > 0 {
				for _, id := range args {
					if err := c.DeleteItem(cmd.Context(), collection, id); err != nil {
						return err
					}
				}
				return r.printCount(len(args), "taken out")
			}
			return r.editChosen(cmd.Context(), c, collection, choice, "take out", yes, func(e *api.Edit) { e.Op = "delete" })
		})
	}
	return cmd
}

func (r *remote) printCount(n int, done string) error {
	if r.json {
		return printJSON(map[string]int{"items": n})
	}
	fmt.Printf("%s %s.\n", count(n, "item", "items"), done)
	return nil
}

package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
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
	cmd := &cobra.Command{
		Use: "add", Short: "Add an item to a collection", Args: exactly(0),
		Example: "  idlebeacon add --lat -38.5 --lon -22 --set name='Gull Steps' --set berths=4\n" +
			"  idlebeacon add --collection waters --file area.geojson",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	at.flags(cmd)
	s.flags(cmd)
	cmd.Flags().StringVar(&id, "id", "", "id of the item (default: one that the service gives)")
	cmd.Flags().StringVar(&file, "file", "", "GeoJSON file with the feature, or - for standard input")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		item, err := newItem(cmd, &at, &s, file)
		if err != nil {
			return err
		}
		item.ID = cmp.Or(id, item.ID)
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
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
	cmd := &cobra.Command{
		Use: "move ITEM --lat LATITUDE --lon LONGITUDE", Short: "Move a place", Args: exactly(1),
		Example: "  idlebeacon move mooring-0042 --lat -38.51 --lon -22.03",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	at.flags(cmd)
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
			now, err := c.PatchItem(cmd.Context(), collection, args[0], patch, tag)
			if err != nil {
				return err
			}
			metres := geo.Distance(geo.Point{Lon: from.Lon, Lat: from.Lat}, geo.Point{Lon: at.lon, Lat: at.lat})
			return r.printItem(&now, "moved by "+distance(metres))
		})
	}
	return cmd
}

func removeCommand() *cobra.Command {
	var r remote
	var asked string
	var yes bool
	var choice client.Selection
	cmd := &cobra.Command{
		Use: "remove [ITEM...]", Short: "Take items out of a collection", Args: cobra.ArbitraryArgs,
		Example: "  idlebeacon remove mooring-0042\n  idlebeacon remove --filter \"condition = 'gone'\" --yes",
	}
	r.flags(cmd)
	selectionFlags(cmd, &asked, &choice)
	cmd.Flags().BoolVar(&yes, "yes", false, "really take out those that are chosen")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 == !choice.Empty() {
			return &usageError{errors.New("name items, or choose them with --filter, --category or --name")}
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
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

func editCommand() *cobra.Command {
	var r remote
	var asked string
	var yes bool
	var s setting
	var choice client.Selection
	cmd := &cobra.Command{
		Use: "edit [ITEM]", Short: "Change an item, or all that are chosen", Args: cobra.MaximumNArgs(1),
		Long: `Change an item. Without options it opens in the program that $VISUAL or $EDITOR
names, as GeoJSON. If somebody else has changed it meanwhile nothing is changed,
and you are told what they did.

With --filter, --category or --name instead of an item, all items that these
choose are changed: up to a thousand as one.`,
		Example: "  idlebeacon edit mooring-0042 --set condition=good --unset note\n" +
			"  idlebeacon edit mooring-0042\n" +
			"  idlebeacon edit --filter \"condition = 'new'\" --set condition=good --yes",
	}
	r.flags(cmd)
	selectionFlags(cmd, &asked, &choice)
	s.moreFlags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really change those that are chosen")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 == !choice.Empty() {
			return &usageError{errors.New("name an item, or choose some with --filter, --category or --name")}
		}
		patch, err := s.patch()
		if err != nil {
			return err
		}
		if patch == nil && len(args) == 0 {
			return &usageError{errors.New("say what to change with --set, --unset or --merge")}
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			switch {
			case len(args) == 0:
				return r.editChosen(cmd.Context(), c, collection, choice, "change", yes, func(e *api.Edit) {
					e.Op, e.Patch = "patch", patch
				})
			case patch == nil:
				return r.editByHand(cmd.Context(), c, collection, args[0])
			}
			_, tag, err := c.ItemTagged(cmd.Context(), collection, args[0])
			if err != nil {
				return err
			}
			now, err := c.PatchItem(cmd.Context(), collection, args[0], patch, tag)
			if err != nil {
				return err
			}
			return r.printItem(&now, "changed")
		})
	}
	return cmd
}

// editsTogether is how many edits go into one request.
const editsTogether = 1000

// editChosen does the same edit of all items that are chosen, as they are when it looks.
func (r *remote) editChosen(
	ctx context.Context,
	c *client.Client,
	collection string,
	choice client.Selection,
	what string,
	yes bool,
	edit func(*api.Edit),
) error {
	o := client.ItemsOptions{Selection: choice, Limit: editsTogether}
	done := 0
	for {
		page, err := c.Items(ctx, collection, o)
		if err != nil {
			return err
		}
		if n := page.NumberMatched; !yes {
			return &usageError{fmt.Errorf("this would %s %s; add --yes to do so", what, count(n, "item", "items"))}
		}
		if len(page.Features) == 0 {
			break
		}
		edits := make([]api.Edit, len(page.Features))
		for i, item := range page.Features {
			edits[i] = api.Edit{ID: item.ID, IfMatch: item.ETag}
			edit(&edits[i])
		}
		if _, err := c.EditItems(ctx, collection, edits); err != nil {
			if done > 0 {
				return fmt.Errorf("%s were done, then: %w", count(done, "item", "items"), err)
			}
			return err
		}
		done += len(edits)
		o.After = page.Features[len(page.Features)-1].ID
	}
	return r.printCount(done, map[string]string{"change": "changed", "take out": "taken out"}[what])
}

// editByHand opens an item in an editor and saves what comes of it.
func (r *remote) editByHand(ctx context.Context, c *client.Client, collection, id string) error {
	item, tag, err := c.ItemTagged(ctx, collection, id)
	if err != nil {
		return err
	}
	item.Change, item.ETag, item.Links = 0, "", nil
	text, err := json.MarshalIndent(item, "", "  ")
	if err != nil {
		return err
	}
	file, err := os.CreateTemp("", "item-*.geojson")
	if err != nil {
		return err
	}
	defer file.Close()
	if _, err := file.Write(append(text, '\n')); err != nil {
		return err
	}
	if err := openEditor(ctx, file.Name()); err != nil {
		return err
	}
	edited, err := os.ReadFile(file.Name())
	if err != nil {
		return err
	}
	if bytes.Equal(bytes.TrimSpace(edited), text) {
		_ = os.Remove(file.Name()) // at worst it stays in the temporary directory
		fmt.Println("Nothing was changed.")
		return nil
	}
	kept := func(err error) error { return fmt.Errorf("%w\nWhat you wrote is in %s", err, file.Name()) }
	var now api.Item
	if err := json.Unmarshal(edited, &now); err != nil {
		return kept(fmt.Errorf("this is not a GeoJSON feature: %w", err))
	}
	if now.ID != id {
		return kept(errors.New("the id of an item cannot be changed"))
	}
	now, err = c.PutItem(ctx, collection, now, tag)
	if err != nil {
		tellConflict(err)
		return kept(r.explain(err))
	}
	_ = os.Remove(file.Name()) // likewise
	return r.printItem(&now, "changed")
}

// openEditor has a file edited by the program that the user likes.
func openEditor(ctx context.Context, file string) error {
	editor := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	if len(editor) == 0 {
		return &usageError{errors.New("say what to change with --set, --unset or --merge, or set EDITOR to a program " +
			"that edits texts")}
	}
	cmd := exec.CommandContext(ctx, editor[0], append(editor[1:], file)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("the editor %s: %w", editor[0], err)
	}
	return nil
}

// tellConflict tells what others have done to an item meanwhile, if that is why an edit failed.
func tellConflict(err error) {
	var problem *client.Error
	if !errors.As(err, &problem) || len(problem.Differing) == 0 {
		return
	}
	fmt.Fprintln(os.Stderr, "Somebody else has changed it meanwhile:")
	for _, d := range problem.Differing {
		fmt.Fprintf(os.Stderr, "  %s\n", difference(&d))
	}
}

// difference tells of one member of an item what it was and is.
func difference(d *api.Difference) string {
	name := strings.TrimPrefix(strings.TrimPrefix(d.Member, "/properties/"), "/")
	name = strings.NewReplacer("~1", "/", "~0", "~").Replace(name)
	const width = 60
	switch {
	case d.Was == nil:
		return fmt.Sprintf("%s: %s (new)", name, short(string(d.Is), width))
	case d.Is == nil:
		return fmt.Sprintf("%s: %s (taken out)", name, short(string(d.Was), width))
	case name == "geometry":
		return "geometry: " + moved(d.Was, d.Is)
	}
	return fmt.Sprintf("%s: %s → %s", name, short(string(d.Was), width), short(string(d.Is), width))
}

// moved tells how a geometry has changed.
func moved(was, is json.RawMessage) string {
	var a, b api.Geometry
	if json.Unmarshal(was, &a) != nil || json.Unmarshal(is, &b) != nil {
		return "changed"
	}
	from, ok := a.Position()
	to, too := b.Position()
	if !ok || !too {
		return a.Type + " changed"
	}
	return fmt.Sprintf("moved by %s, to %s, %s", distance(geo.Distance(geo.Point{Lon: from.Lon, Lat: from.Lat},
		geo.Point{Lon: to.Lon, Lat: to.Lat})), degrees(to.Lat), degrees(to.Lon))
}

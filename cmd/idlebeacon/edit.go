package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
)

func editCommand() *cobra.Command {
	var r remote
	var asked string
	var yes bool
	var s setting
	var choice client.Selection
	var g suggesting
	cmd := &cobra.Command{
		Use: "edit [ITEM]", Short: "Change an item, or all that are chosen", Args: arguments(0, 1),
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
	g.flags(cmd)
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
		if g.asked(cmd) && (len(args) == 0 || patch == nil) {
			return errSuggestOne
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
			now, err := g.patch(cmd, &r, c, collection, args[0], patch, tag)
			if err != nil || now == nil {
				return err
			}
			return r.printItem(now, "changed")
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

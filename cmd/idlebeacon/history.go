package main

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
)

func historyCommand() *cobra.Command {
	var r remote
	var collections []string
	var bbox, since, until string
	var o client.HistoryOptions
	cmd := &cobra.Command{
		Use: "history [ITEM]", Short: "Show what was changed, by whom, and when", Args: arguments(0, 1),
		Example: "  idlebeacon history --limit 20\n  idlebeacon history mooring-0042 --collection brindlemere\n" +
			"  idlebeacon history --actor key/ab12cd --since 2026-04-12",
	}
	r.flags(cmd)
	cmd.Flags().StringSliceVar(&collections, "collection", nil, "which collections, separated by commas (default: all)")
	cmd.Flags().StringVar(&o.Actor, "actor", "", "only changes by this actor, such as key/ab12cd")
	cmd.Flags().StringVar(&o.Way, "way", "", "only changes made this way: edit, console, command, undo or import")
	cmd.Flags().StringVar(&since, "since", "", "only changes from this moment or date on")
	cmd.Flags().StringVar(&until, "until", "", "only changes up to this moment or date")
	cmd.Flags().StringVar(&bbox, "bbox", "", "only changes of items that were in this box: "+bboxHelp)
	cmd.Flags().Uint64Var(&o.Before, "before", 0, "only changes with smaller numbers")
	cmd.Flags().IntVar(&o.Limit, "limit", 50, "most changes to show")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if since != "" || until != "" {
			o.During = cmp.Or(since, "..") + "/" + cmp.Or(until, "..")
		}
		if bbox != "" {
			box, err := geo.ParseBox(bbox)
			if err != nil {
				return &usageError{fmt.Errorf("--bbox: %w", err)}
			}
			o.Box = (*client.Box)(&box)
		}
		return r.with(func(c *client.Client) error {
			o.Collections = collections
			if len(args) > 0 {
				if len(collections) > 1 {
					return &usageError{errors.New("an item is in one collection: name that")}
				}
				collection, err := r.collection(cmd.Context(), c, strings.Join(collections, ""))
				if err != nil {
					return err
				}
				o.Item, o.Collections = args[0], []string{collection}
			}
			page, err := c.History(cmd.Context(), o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(page)
			}
			return printHistory(&page)
		})
	}
	return cmd
}

func printHistory(page *api.Changes) error {
	if len(page.Changes) == 0 {
		fmt.Println("There are no such changes.")
	} else {
		t := newTable("Change", "When", "Who", "How", "Collection", "Item", "What")
		numeric(t, 1)
		for i := range page.Changes {
			c := &page.Changes[i]
			t.AppendRow(table.Row{
				c.Number, c.At.Local().Format("2006-01-02 15:04:05"), short(cmp.Or(c.By, c.Actor), 24), c.Way,
				short(c.Collection, 20), short(itemOf(c), 20), short(whatChanged(c), 80),
			})
		}
		t.Render()
	}
	for _, l := range page.Links {
		if l.Rel == "next" && len(page.Changes) > 0 {
			fmt.Printf("More follow: add --before %d\n", page.Changes[len(page.Changes)-1].Number)
		}
	}
	return nil
}

// whatChanged tells in a line what a change did.
func whatChanged(c *api.Change) string {
	if c.Item == nil {
		items := count(int(c.Items), "item", "items")
		if c.Way == "undo" && c.Items > 0 {
			return items + " put back"
		}
		return map[string]string{
			"create": "made", "replace": "described anew", "delete": "deleted",
			"fill": "filled with " + items, "merge": items + " imported",
		}[c.Op]
	}
	among := ""
	if c.Items > 1 { // to take that back is to take back all of them
		among = fmt.Sprintf(" (one of %d items)", c.Items)
	}
	switch c.Op {
	case "create":
		return "added" + among
	case "delete":
		return "taken out" + among
	}
	var parts []string
	for i := range c.Differing {
		parts = append(parts, difference(&c.Differing[i]))
	}
	return cmp.Or(strings.Join(parts, "; "), "changed") + among
}

// itemOf returns the id of the item that a change is to, or that it is to the collection.
func itemOf(c *api.Change) string {
	if c.Item == nil {
		return "(the collection)"
	}
	return *c.Item
}

func undoCommand() *cobra.Command {
	var r remote
	var asked, actor, since, until string
	var o api.UndoChange
	cmd := &cobra.Command{
		Use: "undo [CHANGE]", Short: "Take back a change, or what somebody has done", Args: arguments(0, 1),
		Long: `Take back a change: the item is put back to what it was before, by a new change.
If somebody has changed the item since, nothing is done and you are told what
they did, unless you add --force.

With --actor and --since instead of a change, all that an actor has done to the
items of a collection since then is taken back.`,
		Example: "  idlebeacon undo 4711\n  idlebeacon undo --actor key/ab12cd --since 2026-04-12T06:30:00Z",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.Flags().StringVar(&actor, "actor", "", "take back what this actor has done, such as key/ab12cd")
	cmd.Flags().StringVar(&since, "since", "", "with --actor: from this moment or date on")
	cmd.Flags().StringVar(&until, "until", "", "with --actor: up to this moment or date")
	cmd.Flags().BoolVar(&o.Together, "together", false, "take back all that was asked for together with the change, too")
	cmd.Flags().BoolVar(&o.Force, "force", false, "also if that takes back later changes of the same items")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 == (actor != "") {
			return &usageError{errors.New("name a change, or say whose changes with --actor")}
		}
		if len(args) > 0 {
			number, err := strconv.ParseUint(args[0], 10, 63)
			if err != nil {
				return &usageError{fmt.Errorf("%q is not the number of a change", args[0])}
			}
			return r.with(func(c *client.Client) error {
				done, err := c.Undo(cmd.Context(), number, o)
				return r.printUndo(&done, err)
			})
		}
		all := api.UndoChanges{Actor: actor, Force: o.Force}
		for _, option := range []struct {
			text string
			at   **time.Time
		}{{since, &all.Since}, {until, &all.Until}} {
			if option.text == "" {
				continue
			}
			moment, err := parseMoment(option.text)
			if err != nil {
				return err
			}
			*option.at = &moment
		}
		if all.Since == nil {
			return &usageError{errors.New("say from when on with --since")}
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			done, err := c.UndoAll(cmd.Context(), collection, all)
			return r.printUndo(&done, err)
		})
	}
	return cmd
}

// parseMoment reads a moment or a date, which is in this machine's time zone.
func parseMoment(text string) (time.Time, error) {
	if at, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return at, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, &usageError{fmt.Errorf("%q is not a moment such as 2026-04-12T06:30:00Z, or a date", text)}
	}
	return at, nil
}

func (r *remote) printUndo(done *api.Edits, err error) error {
	var problem *client.Error
	if errors.As(err, &problem) && len(problem.Later) > 0 && !r.json {
		fmt.Println("These came later:")
		if err := printHistory(&api.Changes{Changes: problem.Later}); err != nil {
			return err
		}
	}
	switch {
	case err != nil:
		return err
	case r.json:
		return printJSON(done)
	case done.Items > 0:
		fmt.Printf("%s put back, as change %d.\n", count(done.Items, "item", "items"), done.Change)
		return nil
	case len(done.Edits) == 0:
		fmt.Println("Nothing was to be taken back: the items are as they were before.")
		return nil
	}
	fmt.Printf("%s put back, as change %d.\n", count(len(done.Edits), "item", "items"), done.Change)
	return nil
}

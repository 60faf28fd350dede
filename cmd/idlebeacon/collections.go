package main

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/doubts"
)

func collectionsCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "collections", Short: "List the collections; make, change or delete one", Args: exactly(0)}
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
			if r.called.Key == "" {
				fmt.Println("There are no collections that guests may see. Name a key with --key to see others.")
				return nil
			}
			fmt.Println("There are no collections yet. Import a file with 'idlebeacon import FILE --into COLLECTION'.")
			return nil
		}
		t := newTable(
			"Collection",
			"Title",
			"Places",
			"Shapes",
			"Categories",
			"Guests",
			"West",
			"South",
			"East",
			"North",
			"Changed",
		)
		numeric(t, 3, 4, 7, 8, 9, 10)
		for _, found := range list.Collections {
			row := table.Row{found.ID, short(found.Title, 36), found.Places, found.Shapes, categories(found.Categories),
				found.Guests}
			if found.Extent != nil {
				for _, edge := range found.Extent.Spatial.BBox[0] {
					row = append(row, fmt.Sprintf("%.3f", edge))
				}
			} else {
				row = append(row, "", "", "", "")
			}
			t.AppendRow(append(row, found.ChangedAt.Local().Format("2006-01-02 15:04")))
		}
		t.Render()
		return nil
	}
	cmd.AddCommand(collectionsCreateCommand(), collectionsChangeCommand(), collectionsDeleteCommand(),
		collectionsDeletedCommand(), collectionsRestoreCommand(), collectionsPurgeCommand())
	return cmd
}

func categories(counts []api.CategoryCount) string {
	var names []string
	for _, c := range counts {
		names = append(names, cmp.Or(c.Category, "(none)"))
	}
	return short(strings.Join(names, ", "), 30)
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
	cmd.Flags().StringVar(&n.TimeProperty, "time-property", "", "property that is an item's time, which the "+
		"parameter datetime chooses by")
	guestFlags(cmd, &n.Guests, &n.GuestOrigins)
}

// guestFlags adds the options that say what guests may.
func guestFlags(cmd *cobra.Command, guests *string, origins *[]string) {
	cmd.Flags().StringVar(guests, "guests", "", "what callers without a key may: nothing, read or suggest (default "+
		"nothing)")
	cmd.Flags().StringSliceVar(origins, "guest-origins", nil, "origins of the web pages of other sites from which they "+
		"may, such as https://app.example, or * for all")
}

// editFlags adds the options that say how items may be edited.
func editFlags(cmd *cobra.Command, unconditional *bool, alike *float64, days *int) {
	cmd.Flags().IntVar(days, "history-days", 0, "how many days its history is kept, 0 for good (default: as long as the "+
		"service is told)")
	cmd.Flags().BoolVar(unconditional, "unconditional-edits", false, "let edits be made that do not say what they were "+
		"made from (so one may overwrite another)")
	cmd.Flags().Float64Var(alike, "alike-within", doubts.DefaultAlikeWithin, "warn of a new place if one like it is "+
		"within so many metres; 0 for never")
}

func collectionsChangeCommand() *cobra.Command {
	var r remote
	var title, description, name, category, moment, guests string
	var origins []string
	var unconditional bool
	var alike float64
	var days, pictures int
	cmd := &cobra.Command{
		Use:   "change ID",
		Short: "Change what is told of a collection, and what guests may",
		Long: `Change what is told of a collection, and what callers without a key may do
with it. Only what the options name changes. --guest-origins - is none.`,
		Args: exactly(1),
	}
	r.flags(cmd)
	flags := cmd.Flags()
	flags.StringVar(&title, "title", "", "its title")
	flags.StringVar(&description, "description", "", "its description")
	flags.StringVar(&name, "name-property", "", "property that names a place")
	flags.StringVar(&category, "category-property", "", "property that is a place's category")
	flags.StringVar(&moment, "time-property", "", "property that is an item's time")
	guestFlags(cmd, &guests, &origins)
	editFlags(cmd, &unconditional, &alike, &days)
	flags.IntVar(&pictures, "picture-mib", 0, "how many MiB its pictures may have together (default: 512)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var u api.CollectionUpdate
		said := false
		if flags.Changed("unconditional-edits") {
			u.UnconditionalEdits, said = &unconditional, true
		}
		if flags.Changed("picture-mib") {
			u.PictureMiB, said = &pictures, true
		}
		if flags.Changed("history-days") {
			u.HistoryDays, said = &days, true
		}
		if flags.Changed("alike-within") {
			u.AlikeWithin, said = &alike, true
		}
		for option, member := range map[string]struct {
			value *string
			to    **string
		}{
			"title": {&title, &u.Title}, "description": {&description, &u.Description},
			"name-property": {&name, &u.NameProperty}, "category-property": {&category, &u.CategoryProperty},
			"time-property": {&moment, &u.TimeProperty}, "guests": {&guests, &u.Guests},
		} {
			if flags.Changed(option) {
				*member.to, said = member.value, true
			}
		}
		if flags.Changed("guest-origins") {
			if len(origins) == 1 && origins[0] == "-" {
				origins = []string{}
			}
			u.GuestOrigins, said = &origins, true
		}
		if !said {
			return &usageError{errors.New("say what to change, with an option")}
		}
		return r.with(func(c *client.Client) error {
			now, err := c.UpdateCollection(cmd.Context(), args[0], u)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(now)
			}
			fmt.Printf("Changed collection %s. Guests may %s.\n", now.ID, guestsMay(now.Guests))
			return nil
		})
	}
	return cmd
}

// guestsMay says what guests may do, after "Guests may".
func guestsMay(guests string) string {
	return map[string]string{
		"nothing": "do nothing with it", "read": "see it", "suggest": "see it and suggest edits",
	}[guests]
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
			return &usageError{
				fmt.Errorf(
					"this deletes collection %s with %s; add --yes to do so",
					found.ID,
					count(found.Count, "item", "items"),
				),
			}
		}
		if err := c.DeleteCollection(cmd.Context(), found.ID); err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(map[string]string{"deleted": found.ID})
		}
		fmt.Printf("Deleted collection %s with %s. 'idlebeacon collections restore %s' brings it back.\n", found.ID,
			count(found.Count, "item", "items"), found.ID)
		return nil
	}
	return cmd
}

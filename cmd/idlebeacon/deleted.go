package main

import (
	"cmp"
	"errors"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func collectionsDeletedCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "deleted", Short: "List the deleted collections that can be brought back", Args: exactly(0)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			list, err := c.DeletedCollections(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(list)
			}
			if len(list.Deleted) == 0 {
				fmt.Println("No deleted collection can be brought back.")
				return nil
			}
			t := newTable("Collection", "Title", "Items", "Deleted", "By", "Until")
			numeric(t, 3)
			for _, d := range list.Deleted {
				t.AppendRow(table.Row{d.ID, short(d.Title, 36), d.Items, d.At.Local().Format("2006-01-02 15:04"),
					cmp.Or(d.By, d.Actor), d.Until.Local().Format("2006-01-02")})
			}
			t.Render()
			return nil
		})
	}
	return cmd
}

// deletedNamed returns the collection with an id that was deleted last.
func deletedNamed(cmd *cobra.Command, c *client.Client, id string) (found api.DeletedCollection, err error) {
	list, err := c.DeletedCollections(cmd.Context())
	if err != nil {
		return found, err
	}
	for _, d := range list.Deleted {
		if d.ID == id {
			return d, nil
		}
	}
	return found, fmt.Errorf("no deleted collection %s can be brought back; see 'idlebeacon collections deleted'", id)
}

func collectionsRestoreCommand() *cobra.Command {
	var r remote
	var as string
	cmd := &cobra.Command{
		Use: "restore ID", Short: "Bring a deleted collection back, with its items and their history", Args: exactly(1),
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&as, "as", "", "id under which it comes back (default: the one that it had)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			found, err := deletedNamed(cmd, c, args[0])
			if err != nil {
				return err
			}
			back, err := c.RestoreCollection(cmd.Context(), found.Change, as)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(back)
			}
			fmt.Printf("Collection %s is back with %s.\n", back.ID, count(back.Count, "item", "items"))
			return nil
		})
	}
	return cmd
}

func collectionsPurgeCommand() *cobra.Command {
	var r remote
	var yes bool
	cmd := &cobra.Command{Use: "purge ID", Short: "Take a deleted collection out for good", Args: exactly(1)}
	r.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really take it out")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			found, err := deletedNamed(cmd, c, args[0])
			if err != nil {
				return err
			}
			if !yes {
				return &usageError{errors.New("this takes " + count(int(found.Items), "item", "items") +
					" out for good; add --yes to do so")}
			}
			if err := c.PurgeCollection(cmd.Context(), found.Change); err != nil {
				return err
			}
			if r.json {
				return printJSON(map[string]string{"purged": found.ID})
			}
			fmt.Printf("Collection %s is gone for good.\n", found.ID)
			return nil
		})
	}
	return cmd
}

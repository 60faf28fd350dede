package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func styleCommand() *cobra.Command {
	var r remote
	var collection string
	cmd := &cobra.Command{
		Use: "style", Short: "Show how a collection is drawn; change it", Args: exactly(0),
		Example: "  idlebeacon style --collection waters > waters-style.json\n  idlebeacon style set waters-style.json --collection waters",
	}
	r.flags(cmd)
	collectionFlag(cmd, &collection)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		s, err := c.Style(cmd.Context(), collection)
		if err != nil {
			return r.explain(err)
		}
		return printJSON(s.Style) // what can be set again
	}
	cmd.AddCommand(styleSetCommand(), styleResetCommand())
	return cmd
}

func styleSetCommand() *cobra.Command {
	var r remote
	var collection string
	cmd := &cobra.Command{Use: "set FILE", Short: "Draw a collection as a file says", Args: exactly(1)}
	r.flags(cmd)
	collectionFlag(cmd, &collection)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		file := os.Stdin
		if args[0] != "-" {
			var err error
			if file, err = os.Open(args[0]); err != nil {
				return &usageError{err}
			}
			defer file.Close()
		}
		raw, err := io.ReadAll(file)
		if err != nil {
			return err
		}
		if !json.Valid(raw) {
			return fmt.Errorf("%s is not JSON", args[0])
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		s, err := c.SetStyle(cmd.Context(), collection, raw)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(s)
		}
		fmt.Printf("Collection %s is drawn as %s says.\n", collection, args[0])
		return nil
	}
	return cmd
}

func styleResetCommand() *cobra.Command {
	var r remote
	var collection string
	cmd := &cobra.Command{Use: "reset", Short: "Let the style be made from the categories again", Args: exactly(0)}
	r.flags(cmd)
	collectionFlag(cmd, &collection)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		if err := c.ResetStyle(cmd.Context(), collection); err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(map[string]string{"reset": collection})
		}
		fmt.Printf("The style of collection %s is made from its categories again.\n", collection)
		return nil
	}
	return cmd
}

func legendCommand() *cobra.Command {
	var r remote
	var collection string
	cmd := &cobra.Command{Use: "legend", Short: "Show the key to how a collection is drawn", Args: exactly(0)}
	r.flags(cmd)
	collectionFlag(cmd, &collection)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		l, err := c.Legend(cmd.Context(), collection)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(l)
		}
		t := newTable("Kind", "What", "Icon", "Colour", "Items", "Pixels")
		numeric(t, 5, 6)
		for _, e := range l.Entries {
			row := table.Row{e.Kind, short(e.Label, 50), e.Icon, e.Colour, "", ""}
			if e.Kind == "category" {
				row[4] = e.Count
			}
			if e.Pixels > 0 {
				row[5] = e.Pixels
			}
			t.AppendRow(row)
		}
		t.Render()
		if len(l.Unstyled) > 0 {
			fmt.Printf("Without a look of their own: %s.\n", strings.Join(l.Unstyled, ", "))
		}
		if len(l.Unused) > 0 {
			fmt.Printf("With a look, but not in the data: %s.\n", strings.Join(l.Unused, ", "))
		}
		return nil
	}
	return cmd
}

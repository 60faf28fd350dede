package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func styleCommand() *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{
		Use: "style", Short: "Show how a collection is drawn; change it", Args: exactly(0),
		Example: "  idlebeacon style --collection waters > waters-style.json\n  idlebeacon style set " +
			"waters-style.json --collection waters",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			s, err := c.Style(cmd.Context(), collection)
			if err != nil {
				return err
			}
			return printJSON(s.StyleDocument) // what can be set again
		})
	}
	cmd.AddCommand(styleSetCommand(), styleResetCommand())
	return cmd
}

func styleSetCommand() *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{Use: "set FILE", Short: "Draw a collection as a file says", Args: exactly(1)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		raw, err := readJSON(args[0])
		if err != nil {
			return err
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			s, err := c.SetStyle(cmd.Context(), collection, raw)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(s)
			}
			fmt.Printf("Collection %s is drawn as %s says.\n", collection, args[0])
			for _, warning := range s.Warnings {
				fmt.Printf("  %s: %s.\n", warning.Field, warning.Reason)
			}
			return nil
		})
	}
	return cmd
}

// readArgument reads the file of a name, - being standard input.
func readArgument(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(os.Stdin)
	}
	return os.ReadFile(name)
}

// readJSON is readArgument for a file with JSON.
func readJSON(name string) ([]byte, error) {
	raw, err := readArgument(name)
	if err != nil {
		return nil, &usageError{err}
	}
	if !json.Valid(raw) {
		return nil, fmt.Errorf("%s is not JSON", name)
	}
	return raw, nil
}

func styleResetCommand() *cobra.Command {
	return onCollection("reset", "Let the style be made from the categories again", "reset", (*client.Client).ResetStyle,
		"The style of collection %s is made from its categories again.\n")
}

// onCollection is a command that does one thing to a collection. What was done it names in JSON, and
// tells by a format that takes the id.
func onCollection(
	use, short, done string, do func(*client.Client, context.Context, string) error, told string,
) *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{Use: use, Short: short, Args: exactly(0)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			if err := do(c, cmd.Context(), collection); err != nil {
				return err
			}
			if r.json {
				return printJSON(map[string]string{done: collection})
			}
			fmt.Printf(told, collection)
			return nil
		})
	}
	return cmd
}

func legendCommand() *cobra.Command {
	var r remote
	var asked, draft string
	cmd := &cobra.Command{Use: "legend", Short: "Show the key to how a collection is drawn", Args: exactly(0)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.Flags().StringVar(&draft, "style", "", "file with a style to try, instead of the collection's own")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var raw []byte
		if draft != "" {
			var err error
			if raw, err = readArgument(draft); err != nil {
				return &usageError{err}
			}
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			l, err := c.Legend(cmd.Context(), collection, raw)
			var answered *client.Error
			if raw != nil && errors.As(err, &answered) && answered.Status == http.StatusBadRequest {
				answered.Field = "style" // whatever member of it is wrong
				return fmt.Errorf("style: %w", err)
			}
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(l)
			}
			printLegend(l)
			return nil
		})
	}
	return cmd
}

func printLegend(l api.Legend) {
	t := newTable("Kind", "What", "Icon", "Colour", "Items", "Pixels")
	numeric(t, 5, 6)
	for _, e := range l.Entries {
		row := table.Row{e.Kind, short(e.Label, 50), e.Icon, e.Colour, "", ""}
		if e.Kind == "category" || e.Kind == "rule" && e.Count > 0 {
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
		fmt.Printf("With a look, but without data: %s.\n", strings.Join(l.Unused, ", "))
	}
}

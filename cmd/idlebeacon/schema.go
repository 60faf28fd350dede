package main

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func schemaCommand() *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{
		Use:   "schema",
		Short: "Show what the items of a collection have to be; change or try it",
		Long: `Show what the items of a collection have to be: a JSON Schema (draft 2020-12) of
their properties. If nobody has said, it tells what they are, to begin with.`,
		Args: exactly(0),
		Example: "  idlebeacon schema --collection brindlemere > places.json\n" +
			"  idlebeacon schema check places.json --collection brindlemere\n" +
			"  idlebeacon schema set places.json --collection brindlemere",
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			schema, said, err := c.Schema(cmd.Context(), collection)
			if err != nil {
				return err
			}
			if !said && !r.json {
				fmt.Fprintf(os.Stderr, "Nobody has said what the items of %s have to be. This is what they are:\n", collection)
			}
			return printJSON(schema)
		})
	}
	cmd.AddCommand(
		schemaFileCommand("set FILE", "Let the items of a collection be what a schema in a file wants", true),
		schemaFileCommand("check FILE", "Try a schema in a file on all items of a collection", false),
		schemaDropCommand(),
	)
	return cmd
}

func schemaFileCommand(use, does string, set bool) *cobra.Command {
	var r remote
	var asked string
	cmd := &cobra.Command{Use: use, Short: does, Args: exactly(1)}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		raw, err := readJSON(args[0])
		if err != nil {
			return err
		}
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			call := c.CheckSchema
			if set {
				call = c.SetSchema
			}
			report, err := call(cmd.Context(), collection, raw)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(report)
			}
			if set {
				fmt.Printf("The items of collection %s have to be what %s says.\n", collection, args[0])
			}
			printSchemaReport(report)
			return nil
		})
	}
	return cmd
}

func printSchemaReport(report api.SchemaReport) {
	if report.Failing == 0 {
		fmt.Printf("Nothing stands against it in %s.\n", count(report.Checked, "item", "items"))
		return
	}
	fmt.Printf("%d of %s would be refused if they were brought as they are:\n", report.Failing,
		count(report.Checked, "item", "items"))
	t := newTable("Item", "Member", "What is wrong")
	for _, item := range report.Items {
		for i, p := range item.Problems {
			id := short(item.ID, 40)
			if i > 0 {
				id = ""
			}
			wrong := p.Reason
			if p.Want != "" {
				wrong += "; want " + p.Want
			}
			t.AppendRow([]any{id, short(strings.TrimPrefix(p.Member, "/"), 40), short(wrong, 80)})
		}
	}
	t.Render()
	if more := report.Failing - len(report.Items); more > 0 {
		fmt.Printf("And %s more.\n", count(more, "item", "items"))
	}
}

func schemaDropCommand() *cobra.Command {
	return onCollection("drop", "Let the items of a collection be anything", "dropped", (*client.Client).DropSchema,
		"The items of collection %s can be anything now.\n")
}

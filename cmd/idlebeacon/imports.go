package main

import (
	"fmt"
	"io"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func importsCommand() *cobra.Command {
	var r remote
	var collection, before string
	var limit int
	cmd := &cobra.Command{
		Use: "imports", Short: "List the imports under way and those that are over", Args: exactly(0),
		Example: "  idlebeacon imports\n  idlebeacon imports rejected 0197e4f0-9c1b-7d1e-8a3c-3f8d6c2b1a00 " +
			"huts-rejected.csv",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&collection, "collection", "", "only imports into this collection")
	cmd.Flags().StringVar(&before, "before", "", "only imports that began before the one with this id")
	cmd.Flags().IntVar(&limit, "limit", 20, "how many, at most 100")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			list, err := c.Imports(cmd.Context(), collection, before, limit)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(list)
			}
			if len(list.Imports) == 0 {
				fmt.Println("No imports.")
				return nil
			}
			t := newTable("Import", "Into", "File", "Begun", "Status", "Rows", "Rejected")
			numeric(t, 6, 7)
			for _, i := range list.Imports {
				rejected := any("")
				if i.Report != nil {
					rejected = i.Report.Rejected
				}
				t.AppendRow(
					table.Row{
						i.ID,
						i.Collection,
						short(i.FileName, 30),
						i.StartedAt.Local().Format(time.DateTime),
						statusOf(&i),
						i.Rows,
						rejected,
					},
				)
			}
			t.Render()
			for _, l := range list.Links {
				if l.Rel == "next" {
					fmt.Printf("There are more: --before %s\n", list.Imports[len(list.Imports)-1].ID)
				}
			}
			return nil
		})
	}
	cmd.AddCommand(importsShowCommand(), importsDismissCommand(), importsRejectedCommand())
	return cmd
}

// statusOf says how far an import is.
func statusOf(i *api.Import) string {
	if !i.Ended() && i.BytesTotal > 0 {
		return fmt.Sprintf("%s, %d %%", i.Status, 100*i.BytesRead/i.BytesTotal)
	}
	return i.Status
}

func importsShowCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use:   "show IMPORT",
		Short: "Show how far an import is, or what became of it",
		Args:  exactly(1),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			i, err := c.ImportByID(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(i)
			}
			fmt.Printf("%s into %s: %s.\n", orFile(i.FileName), i.Collection, statusOf(&i))
			switch {
			case i.Problem != "":
				fmt.Printf("%s.\n", i.Problem)
			case i.Report != nil && i.Status == "successful":
				printReport(*i.Report, i.Collection)
			default:
				fmt.Printf("%s read.\n", count(int(i.Rows), "row", "rows"))
			}
			return nil
		})
	}
	return cmd
}

func orFile(name string) string {
	if name == "" {
		return "A file"
	}
	return name
}

func importsDismissCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use:   "dismiss IMPORT",
		Short: "Call an import off, or forget one that is over",
		Args:  exactly(1),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			i, err := c.ImportByID(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := c.DismissImport(cmd.Context(), args[0]); err != nil {
				return err
			}
			became := "dismissed"
			if i.Ended() {
				became = "forgotten"
			}
			if r.json {
				return printJSON(map[string]string{became: args[0]})
			}
			fmt.Printf("Import %s is %s.", args[0], became)
			if i.Status == "successful" {
				fmt.Print(" What it imported stays.")
			}
			fmt.Println()
			return nil
		})
	}
	return cmd
}

func importsRejectedCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "rejected IMPORT FILE", Args: exactly(2),
		Short: "Write the rows that an import could not use to a file, to be corrected",
		Long: `Write the rows that an import could not use to a file of the same format, each with
the reason beside it. When they are corrected, the file can be imported as it is.
FILE may be - for standard output.`,
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			return r.download(
				args[1],
				"the rejected rows",
				func(w io.Writer) error { return c.Rejected(cmd.Context(), args[0], w) },
			)
		})
	}
	return cmd
}

// baseName is the name of a file as a list of imports shows it.
func baseName(name string) string {
	if name == "-" {
		return ""
	}
	return filepath.Base(name)
}

// printStarted says of an import that goes on by itself how to see after it.
func printStarted(i *api.Import) {
	fmt.Printf("The file has arrived; import %s goes on by itself.\n", i.ID)
	fmt.Printf("See how far it is with: idlebeacon imports show %s\n", i.ID)
}

// startImport is the beginning of an import in the background.
func startImport(cmd *cobra.Command, r *remote, c *client.Client, name, into string, o client.ImportOptions) error {
	var i api.Import
	err := sendFile(name, "sending", func(file io.Reader, _ int64) (err error) {
		i, err = c.StartImport(cmd.Context(), into, file, o)
		return err
	})
	if err != nil {
		return r.explain(lostImport(err, into))
	}
	if r.json {
		return printJSON(i)
	}
	printStarted(&i)
	return nil
}

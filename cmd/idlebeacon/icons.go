package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/client"
)

func iconsCommand() *cobra.Command {
	var r remote
	var own bool
	cmd := &cobra.Command{
		Use: "icons", Short: "List the icons that styles can name; bring your own", Args: exactly(0),
		Example: "  idlebeacon icons add lighthouse.svg\n  idlebeacon icons add mark.png --name tide-mark\n  " +
			"idlebeacon icons sheet all.svg",
	}
	r.flags(cmd)
	cmd.Flags().BoolVar(&own, "own", false, "only those that are not built in")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			list, err := c.Icons(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(list)
			}
			t := newTable("Icon", "Kind", "Size")
			var builtIn []string
			for _, i := range list.Icons {
				if i.BuiltIn {
					builtIn = append(builtIn, i.Name)
					continue
				}
				t.AppendRow(
					table.Row{
						i.Name,
						strings.TrimSuffix(strings.TrimPrefix(i.MediaType, "image/"), "+xml"),
						fmt.Sprintf("%v x %v", i.Width, i.Height),
					},
				)
			}
			if t.Length() > 0 {
				t.Render()
			} else {
				fmt.Println("None but the built-in ones. Bring your own with 'idlebeacon icons add FILE'.")
			}
			if !own {
				fmt.Printf("Built in: %s.\n", strings.Join(builtIn, ", "))
			}
			return nil
		})
	}
	cmd.AddCommand(iconsAddCommand(), iconsDeleteCommand(), iconsSheetCommand())
	return cmd
}

func iconsAddCommand() *cobra.Command {
	var r remote
	var name string
	cmd := &cobra.Command{
		Use: "add FILE", Short: "Bring an icon, an SVG or PNG picture", Args: exactly(1),
		Long: `Bring an icon, an SVG or PNG picture of at most 128 KiB; a PNG may have 512 pixels on
each side. An icon of the same name is replaced. An SVG that draws with currentColor
takes the colour that shows on the look's own. FILE may be - for standard input.`,
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&name, "name", "", "what styles call it (default: the name of the file without its ending)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		file := os.Stdin
		if args[0] != "-" {
			var err error
			if file, err = os.Open(args[0]); err != nil {
				return &usageError{err}
			}
			defer file.Close()
		} else if name == "" {
			return &usageError{errors.New("say with --name what styles call an icon from standard input")}
		}
		if name == "" {
			name = strings.ToLower(strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0])))
		}
		return r.with(func(c *client.Client) error {
			i, err := c.SetIcon(cmd.Context(), name, file)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(i)
			}
			fmt.Printf("Icon %s is there, %v by %v.\n", i.Name, i.Width, i.Height)
			if len(i.Removed) > 0 {
				fmt.Printf("What has no place in an icon was left out: %s.\n", strings.Join(i.Removed, ", "))
			}
			return nil
		})
	}
	return cmd
}

func iconsDeleteCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "delete NAME", Short: "Delete an icon that no style names", Args: exactly(1)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			if err := c.DeleteIcon(cmd.Context(), args[0]); err != nil {
				return err
			}
			if r.json {
				return printJSON(map[string]string{"deleted": args[0]})
			}
			fmt.Printf("Icon %s is deleted.\n", args[0])
			return nil
		})
	}
	return cmd
}

func iconsSheetCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "sheet FILE", Short: "Write all icons as symbols of one SVG document", Args: exactly(1),
		Long: "Write all icons as symbols of one SVG document. FILE may be - for standard output.",
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			return r.download(args[0], "all icons", func(w io.Writer) error { return c.IconSheet(cmd.Context(), w) })
		})
	}
	return cmd
}

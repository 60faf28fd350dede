package main

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func devicesFileCommand() *cobra.Command {
	var r remote
	var out string
	cmd := &cobra.Command{
		Use: "file DEVICE", Short: "Write everything that is kept of a device, as one file", Args: exactly(1),
		Example: "  idlebeacon devices file WB-07 --out wb-07.json",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&out, "out", "", "file to write (default: standard output)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			return writeOut(out, func(f *os.File) error { return c.DeviceFile(cmd.Context(), args[0], f) })
		})
	}
	return cmd
}

// writeOut writes a file, or standard output if it has no name. Of a file that could not be written whole nothing is
// left.
func writeOut(name string, write func(*os.File) error) error {
	if name == "" {
		return write(os.Stdout)
	}
	f, err := os.Create(name + ".part")
	if err != nil {
		return err
	}
	err = write(f)
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		_ = os.Remove(f.Name()) // it is of no use
		return err
	}
	return os.Rename(f.Name(), name)
}

func devicesEraseCommand() *cobra.Command {
	var r remote
	var from, to string
	var yes bool
	cmd := &cobra.Command{
		Use: "erase DEVICE", Short: "Take out positions of a device, for good", Args: exactly(1),
		Example: "  idlebeacon devices erase WB-07 --from 2026-04-12 --to 2026-04-13 --yes",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&from, "from", "", "positions from this time on (default: all)")
	cmd.Flags().StringVar(&to, "to", "", "positions up to this time (default: all)")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		first, last, err := spanOf(from, to)
		if err != nil {
			return err
		}
		if !yes {
			return &usageError{fmt.Errorf("this takes out positions of %s for good; add --yes to do so", args[0])}
		}
		return r.with(func(c *client.Client) error {
			erased, err := c.EraseTrack(cmd.Context(), args[0], first, last)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(erased)
			}
			fmt.Printf("%s of %s taken out.\n", count(int(erased.Erased), "position was", "positions were"), args[0])
			return nil
		})
	}
	return cmd
}

// spanOf reads two times; the zero time for one that is not there.
func spanOf(from, to string) (first, last time.Time, err error) {
	if from != "" {
		if first, err = momentOf(from); err != nil {
			return first, last, err
		}
	}
	if to != "" {
		last, err = momentOf(to)
	}
	return first, last, err
}

func devicesImportCommand() *cobra.Command {
	var r remote
	var format string
	cmd := &cobra.Command{
		Use: "import DEVICE FILE", Short: "Keep the positions of a GPX or CSV file as those of a device", Args: exactly(2),
		Example: "  idlebeacon devices import WB-07 yesterday.gpx",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&format, "format", "", "gpx or csv (default: as the name of the file ends)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if format == "" {
			switch name := strings.ToLower(args[1]); {
			case strings.HasSuffix(name, ".gpx"):
				format = "gpx"
			case strings.HasSuffix(name, ".csv"):
				format = "csv"
			default:
				return &usageError{fmt.Errorf("say with --format whether %s is gpx or csv", args[1])}
			}
		}
		f, err := os.Open(args[1])
		if err != nil {
			return err
		}
		defer f.Close()
		return r.with(func(c *client.Client) error {
			v, err := c.AddTrack(cmd.Context(), args[0], format, f)
			if err != nil {
				return err
			}
			return r.printVerdicts(&v)
		})
	}
	return cmd
}

// printVerdicts says what became of reports.
func (r *remote) printVerdicts(v *api.ReportVerdicts) error {
	if r.json {
		return printJSON(v)
	}
	fmt.Printf("%s kept", count(v.Kept, "position is", "positions are"))
	if v.Repeated > 0 {
		fmt.Printf(", %s there already", count(v.Repeated, "was", "were"))
	}
	fmt.Println(".")
	if v.Refused == 0 {
		return nil
	}
	for i := range v.Verdicts {
		if v.Verdicts[i].Status == "refused" {
			fmt.Fprintf(os.Stderr, "%s %s\n", v.Verdicts[i].Device, v.Verdicts[i].Detail)
		}
	}
	return &toldError{exitFailed}
}

func devicesShareCommand() *cobra.Command {
	var r remote
	var length time.Duration
	var title, end string
	var list bool
	cmd := &cobra.Command{
		Use: "share DEVICE", Short: "Make a link by which a device can be seen for a while; list or end such links",
		Args: exactly(1), Example: "  idlebeacon devices share WB-07 --for 4h --title \"Crew at the quay\"\n" +
			"  idlebeacon devices share WB-07 --list\n  idlebeacon devices share WB-07 --end 4fj2k6q3",
	}
	r.flags(cmd)
	cmd.Flags().DurationVar(&length, "for", 4*time.Hour, "for how long, at most 720h")
	cmd.Flags().StringVar(&title, "title", "", "for whom it is")
	cmd.Flags().BoolVar(&list, "list", false, "list the links that hold")
	cmd.Flags().StringVar(&end, "end", "", "end the link with this id")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			switch {
			case list:
				return r.listShares(cmd, c, args[0])
			case end != "":
				if err := c.EndShare(cmd.Context(), args[0], end); err != nil {
					return err
				}
				fmt.Fprintln(os.Stderr, "The link has ended.")
				return nil
			}
			s, err := c.Share(cmd.Context(), args[0], api.NewShare{Title: title, Until: time.Now().Add(length)})
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(s)
			}
			fmt.Println(s.Href)
			fmt.Fprintf(os.Stderr, "Whoever has this link sees %s until %s. It is not shown again; --end %s ends it before.\n",
				args[0], s.Until.Local().Format("2 January 15:04"), s.ID)
			return nil
		})
	}
	return cmd
}

func (r *remote) listShares(cmd *cobra.Command, c *client.Client, device string) error {
	all, err := c.Shares(cmd.Context(), device)
	switch {
	case err != nil:
		return err
	case r.json:
		return printJSON(all)
	case len(all.Shares) == 0:
		fmt.Printf("The device %s is not shared by a link.\n", device)
		return nil
	}
	t := newTable("Link", "Title", "Until")
	for _, s := range all.Shares {
		t.AppendRow(table.Row{s.ID, short(s.Title, 40), s.Until.Local().Format("2006-01-02 15:04")})
	}
	t.Render()
	return nil
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func importCommand() *cobra.Command {
	var r remote
	var n api.NewCollection
	var o client.ImportOptions
	cmd := &cobra.Command{
		Use:   "import FILE --into COLLECTION",
		Short: "Import a file of places",
		Long: `Import a CSV or GeoJSON file into a collection, which is made if it is not there.

Rows that cannot be used are listed with the reason, and the others imported. A
row with the id of a place replaces it, so the same file can be imported again.
FILE may be - for standard input.`,
		Example: `  idlebeacon import huts.csv --into huts
  idlebeacon import taps.csv --into taps --lon-column east --lat-column north --dry-run`,
		Args: exactly(1),
	}
	r.flags(cmd)
	collectionFlags(cmd, &n)
	cmd.Flags().StringVar(&n.ID, "into", "", "collection to import into (required)")
	cmd.Flags().StringVar(&o.Format, "format", "", "csv or geojson (default: found from the content)")
	cmd.Flags().StringVar(&o.LonColumn, "lon-column", "", "CSV column with the longitude in degrees (default: longitude, lon, lng, long or x)")
	cmd.Flags().StringVar(&o.LatColumn, "lat-column", "", "CSV column with the latitude in degrees (default: latitude, lat or y)")
	cmd.Flags().StringVar(&o.IDColumn, "id-column", "", "CSV column with the id (default: id, if there is one)")
	cmd.Flags().BoolVar(&o.DryRun, "dry-run", false, "read and check the file, write nothing")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if n.ID == "" {
			return &usageError{errors.New("say where to import with --into COLLECTION")}
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		report, err := importFile(cmd.Context(), c, args[0], n, o)
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			err = printJSON(report)
		} else {
			printReport(report, n.ID)
		}
		if err == nil && report.Stopped != "" {
			return fmt.Errorf("%s was not read to its end: %s", args[0], report.Stopped)
		}
		return err
	}
	return cmd
}

func importFile(ctx context.Context, c *client.Client, name string, n api.NewCollection, o client.ImportOptions) (api.ImportReport, error) {
	file, size := os.Stdin, int64(-1)
	if name != "-" {
		var err error
		if file, err = os.Open(name); err != nil {
			return api.ImportReport{}, &usageError{err}
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return api.ImportReport{}, err
		}
		if info.IsDir() {
			return api.ImportReport{}, &usageError{fmt.Errorf("%s is a directory, want a file", name)}
		}
		size = info.Size()
	}
	if !o.DryRun {
		if _, err := c.Collection(ctx, n.ID); client.IsNotFound(err) {
			if _, err := c.CreateCollection(ctx, n); err != nil {
				return api.ImportReport{}, err
			}
		} else if err != nil {
			return api.ImportReport{}, err
		}
	}
	// The service reads the file as it is sent, so what is sent is what is done.
	bar := progressbar.NewOptions64(size,
		progressbar.OptionSetWriter(os.Stderr), progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("importing"),
		progressbar.OptionSetVisibility(isTerminal(os.Stderr)), progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(progressInterval))
	report, err := c.Import(ctx, n.ID, io.TeeReader(file, bar), o)
	return report, errors.Join(err, bar.Finish())
}

// progressInterval is how often the progress bar is drawn.
const progressInterval = 65 * time.Millisecond

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func printReport(r api.ImportReport, collection string) {
	const most = 20
	for i, e := range r.Errors {
		if i == most {
			fmt.Printf("  ... and %d more; --json lists up to %d\n", r.Rejected-most, len(r.Errors))
			break
		}
		where := fmt.Sprintf("row %d", e.Row)
		if e.Line > 0 && e.Line != e.Row {
			where += fmt.Sprintf(" (line %d)", e.Line)
		}
		fmt.Printf("  %s: %s\n", where, e.Reason)
	}
	fmt.Printf("%s read, %d rejected.\n", count(r.Rows, "row", "rows"), r.Rejected)
	if r.DryRun {
		fmt.Printf("A dry run: nothing was written. %s could be imported into %s.\n", count(r.Rows-r.Rejected, "row", "rows"), collection)
	} else {
		fmt.Printf("In %s: %d new, %d replaced, %d unchanged.\n", collection, r.Created, r.Replaced, r.Unchanged)
	}
	if r.WithoutID > 0 {
		fmt.Printf("%s no id: importing the file again would add %s again. --id-column names a column with ids.\n",
			count(r.WithoutID, "row has", "rows have"), map[bool]string{true: "it", false: "them"}[r.WithoutID == 1])
	}
}

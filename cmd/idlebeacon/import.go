package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func importCommand() *cobra.Command {
	var r remote
	var n api.NewCollection
	var o client.ImportOptions
	var background bool
	cmd := &cobra.Command{
		Use:   "import FILE --into COLLECTION",
		Short: "Import a file of places, areas and paths",
		Long: `Import a file into a collection, which is made if it is not there. The file may be
CSV (or separated by semicolons or tabs), GeoJSON, GeoJSON with a feature on each
line or as a text sequence, KML, KMZ or GPX; which one is found from its content.

Rows that cannot be used are listed with the reason, and the others imported. Rows
whose positions are likely wrong are listed too; what is to be done about them is
said with --fix. A row with the id of an item replaces it, so the same file can be
imported again. FILE may be - for standard input, and compressed with gzip or zstd.

The exit status is 0 where all rows were used, 3 if some were not, and 1 where
none was.`,
		Example: `  idlebeacon import huts.csv --into huts
  idlebeacon import taps.csv --into taps --lon-column east --lat-column north --dry-run
  idlebeacon import old.csv --into huts --fix swap_doubtful,skip_zero`,
		Args: exactly(1),
	}
	r.flags(cmd)
	collectionFlags(cmd, &n)
	cmd.Flags().StringVar(&n.ID, "into", "", "collection to import into (required)")
	fileFlags(cmd, &o.FileOptions)
	cmd.Flags().BoolVar(&o.DryRun, "dry-run", false, "read and check the file, write nothing")
	cmd.Flags().BoolVar(&background, "background", false, "return when the file has arrived, and let the import go "+
		"on by itself")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if n.ID == "" {
			return &usageError{errors.New("say where to import with --into COLLECTION")}
		}
		if background && o.DryRun {
			return &usageError{
				errors.New("--dry-run and --background do not go together: a dry run has nothing that could go on"),
			}
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		o.FileName, o.Create = baseName(args[0]), &n
		if background {
			return startImport(cmd, &r, c, args[0], n.ID, o)
		}
		var report api.ImportReport
		err = sendFile(args[0], "importing", func(file io.Reader, _ int64) (err error) {
			report, err = c.Import(cmd.Context(), n.ID, file, o)
			return err
		})
		if err != nil {
			return r.explain(lostImport(err, n.ID))
		}
		if r.json {
			err = printJSON(report)
		} else {
			printReport(report, n.ID)
		}
		switch {
		case err != nil || report.Rejected == 0 && report.Rows > 0:
			return err
		case report.Rows == report.Rejected:
			return &toldError{exitFailed}
		}
		return &toldError{exitPartly}
	}
	return cmd
}

// fileFlags adds the options that say how to read a file.
func fileFlags(cmd *cobra.Command, o *api.FileOptions) {
	cmd.Flags().StringVar(&o.Format, "format", "", "csv, geojson, geojson-lines, geojson-seq, kml, kmz or gpx "+
		"(default: found from the content)")
	cmd.Flags().StringVar(&o.LonColumn, "lon-column", "", "CSV column with the longitude in degrees (default: "+
		"longitude, lon, lng, long or x)")
	cmd.Flags().StringVar(&o.LatColumn, "lat-column", "", "CSV column with the latitude in degrees (default: "+
		"latitude, lat or y)")
	cmd.Flags().StringVar(&o.GeometryColumn, "geometry-column", "", "CSV column with geometries in Well-Known Text "+
		"or GeoJSON, or with latitude and longitude in one text (default: geometry, wkt or geom)")
	cmd.Flags().StringVar(&o.IDColumn, "id-column", "", "column or property with the id (default: what the format "+
		"has for it; in CSV id, if there is one)")
	cmd.Flags().StringToStringVar(&o.Types, "type", nil, "types of columns that are not to be guessed: "+
		"COLUMN=text, number, boolean, date, timestamp, or decimal_comma or decimal_point for numbers such as "+
		"1.390,5 or 1,390.5")
	cmd.Flags().StringSliceVar(&o.NoValue, "no-value", nil, "words that stand for no value, such as n/a")
	cmd.Flags().StringVar(&o.Encoding, "encoding", "", "encoding of the text, such as windows-1252 (default: found "+
		"out)")
	cmd.Flags().StringVar(&o.CRS, "crs", "", "reference system of the positions, such as EPSG:32629 (default: what "+
		"the file says, or WGS 84)")
	cmd.Flags().StringVar(&o.Within, "within", "", "where the features are, as west,south,east,north: what fits "+
		"only with its axes swapped is doubtful")
	cmd.Flags().StringSliceVar(&o.Fixes, "fix", nil, "what to mend: decimal_comma, sexagesimal, web_mercator, "+
		"swap, swap_doubtful, skip_zero")
}

func inspectCommand() *cobra.Command {
	var r remote
	var into string
	var o api.FileOptions
	cmd := &cobra.Command{
		Use: "inspect FILE", Short: "Show what is in a file, without importing it", Args: exactly(1),
		Example: "  idlebeacon inspect huts.csv --into huts",
	}
	r.flags(cmd)
	fileFlags(cmd, &o)
	cmd.Flags().StringVar(&into, "into", "", "collection that the file is meant for: positions are compared with it")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		var found api.Inspection
		err = sendFile(args[0], "inspecting", func(file io.Reader, size int64) (err error) {
			found, err = c.Inspect(
				cmd.Context(),
				into,
				io.LimitReader(file, client.MaxInspected),
				size > client.MaxInspected,
				o,
			)
			return err
		})
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(found)
		}
		fmt.Printf("%s, read as %s.\n", args[0], found.Format)
		t := newTable("Column", "What it is", "Type", "Such as")
		for _, c := range found.Columns {
			what, kind := c.Role, ""
			switch {
			case what != "":
			case c.Name == found.NameProperty:
				what, kind = "name", c.Type
			case c.Name == found.CategoryProperty:
				what, kind = "category", c.Type
			default:
				what, kind = "property", c.Type
			}
			t.AppendRow(table.Row{short(c.Name, 30), what, kind, short(strings.Join(c.Samples, " | "), 60)})
		}
		t.Render()
		printRows(found.Report)
		printNotes(found.Report.Notes)
		if found.Report.Stopped != "" {
			fmt.Printf(
				"It cannot be imported so: %s.\n",
				inOptions(cmd, strings.TrimPrefix(found.Report.Stopped, "the file cannot be used: ")),
			)
		}
		if found.Report.Rows == 0 {
			return &toldError{exitFailed}
		}
		fmt.Printf(
			"%s looked at: %d can be imported, %d rejected, %d doubtful.\n",
			count(found.Report.Rows, "row", "rows"),
			found.Report.Rows-found.Report.Rejected,
			found.Report.Rejected,
			found.Report.Doubtful,
		)
		return nil
	}
	return cmd
}

// lostImport says of an import whose answer did not arrive how to learn what became of it.
func lostImport(err error, into string) error {
	var dialling *net.OpError
	var answered *client.Error
	if errors.As(err, &answered) || errors.Is(err, context.Canceled) ||
		errors.As(err, &dialling) && dialling.Op == "dial" {
		return err
	}
	return &unreachable{
		fmt.Errorf("%w\nThe connection was lost before the service answered. To see what became of the import, run: "+
			"idlebeacon imports --collection %s", err, into),
	}
}

// sendFile opens a file and calls send with it and its size in bytes, -1 if that is not
// known, showing how far that is.
func sendFile(name, doing string, send func(file io.Reader, size int64) error) error {
	file, size := os.Stdin, int64(-1)
	if name != "-" {
		var err error
		if file, err = os.Open(name); err != nil {
			return &usageError{err}
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return err
		}
		if info.IsDir() {
			return &usageError{fmt.Errorf("%s is a directory, want a file", name)}
		}
		size = info.Size()
	}
	// The service reads the file as it is sent, so what is sent is what is done. No speed is
	// shown: the first megabytes go into buffers at that of memory.
	bar := progressbar.NewOptions64(
		size,
		progressbar.OptionSetWriter(
			os.Stderr,
		),
		progressbar.OptionSetDescription(doing),
		progressbar.OptionSetPredictTime(false),
		progressbar.OptionSetVisibility(
			isTerminal(os.Stderr),
		),
		progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(progressInterval),
	)
	return errors.Join(send(io.TeeReader(file, &sentBar{bar: bar, size: size, doing: doing}), size), bar.Finish())
}

// A sentBar shows how many bytes have been sent.
type sentBar struct {
	bar        *progressbar.ProgressBar
	sent, size int64
	doing      string
}

func (b *sentBar) Write(p []byte) (int, error) {
	b.sent += int64(len(p))
	text := fmt.Sprintf("%s, %.1f MB", b.doing, float64(b.sent)/1e6)
	if b.size > 0 {
		text += fmt.Sprintf(" of %.1f MB", float64(b.size)/1e6)
	}
	b.bar.Describe(text)
	return b.bar.Write(p)
}

// progressInterval is how often the progress bar is drawn.
const progressInterval = 65 * time.Millisecond

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

// printRows lists the rows that are rejected, and those that are doubtful.
func printRows(r api.ImportReport) {
	const most = 20
	where := func(row, line int) string {
		if line > 0 && line != row {
			return fmt.Sprintf("row %d (line %d)", row, line)
		}
		return fmt.Sprintf("row %d", row)
	}
	for i, e := range r.Errors {
		if i < most {
			fmt.Printf("  %s: %s\n", where(e.Row, e.Line), e.Reason)
		}
	}
	if r.Rejected > most {
		fmt.Printf("  ... and %d more; --json lists up to %d\n", r.Rejected-most, len(r.Errors))
	}
	for i, d := range r.Doubts {
		if i < most {
			fmt.Printf("  %s is doubtful: %s\n", where(d.Row, d.Line), d.Reason)
		}
	}
	if r.Doubtful > most {
		fmt.Printf("  ... and %d more doubtful rows; --json lists up to %d\n", r.Doubtful-most, len(r.Doubts))
	}
}

func printReport(r api.ImportReport, collection string) {
	printRows(r)
	printNotes(r.Notes)
	fmt.Printf("%s read, %d rejected.\n", count(r.Rows, "row", "rows"), r.Rejected)
	if r.Repeated > 0 {
		fmt.Printf("%s an id that comes again later: the last one counts.\n", count(r.Repeated, "row has", "rows have"))
	}
	if r.Mended > 0 {
		fmt.Printf("The positions of %s were mended.\n", count(r.Mended, "row", "rows"))
	}
	if r.Kept > 0 {
		fmt.Printf("To correct the rejected rows: idlebeacon imports rejected %s rejected-rows\n", r.Import)
	}
	switch {
	case r.Rows == 0:
		fmt.Println("Nothing was imported: the file has no rows.")
	case r.Rows == r.Rejected:
		fmt.Println("Nothing was imported, as no row can be used.")
	case r.DryRun:
		fmt.Printf(
			"A dry run: nothing was written. %s could be imported into %s.\n",
			count(r.Rows-r.Rejected, "row", "rows"),
			collection,
		)
	default:
		fmt.Printf("In %s: %d new, %d replaced, %d unchanged.\n", collection, r.Created, r.Replaced, r.Unchanged)
	}
	if r.WithoutID > 0 {
		fmt.Printf("%s no id: importing the file again would add %s again. --id-column names a column with ids.\n",
			count(r.WithoutID, "row has", "rows have"), map[bool]string{true: "it", false: "them"}[r.WithoutID == 1])
	}
}

package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/client"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
)

func exportCommand() *cobra.Command {
	var r remote
	var collection, bbox string
	var o client.ExportOptions
	cmd := &cobra.Command{
		Use:   "export FILE",
		Short: "Write items of a collection to a file",
		Long: `Write items of a collection, all or those of a box or a selection, to a file: CSV,
GeoJSON, GeoJSON with a feature on each line or as a text sequence, KML or GPX. The
format is that of the ending of FILE's name, or of --format. FILE may be - for
standard output.`,
		Example: `  idlebeacon export moorings.csv --category mooring
  idlebeacon export waters.kml --collection waters --bbox -22.5,-38.8,-21.5,-38.2`,
		Args: exactly(1),
	}
	r.flags(cmd)
	selectionFlags(cmd, &collection, &o.Selection)
	cmd.Flags().StringVar(&o.Format, "format", "", "csv, geojson, geojson-lines, geojson-seq, kml or gpx")
	cmd.Flags().StringVar(&bbox, "bbox", "", bboxHelp)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if o.Format == "" {
			if o.Format = formatOfName(args[0]); o.Format == "" {
				return &usageError{
					fmt.Errorf("the ending of %s is not that of a format: name one with --format", args[0]),
				}
			}
		}
		if bbox != "" {
			box, err := geo.ParseBox(bbox)
			if err != nil {
				return &usageError{fmt.Errorf("--bbox: %w", err)}
			}
			o.Box = (*client.Box)(&box)
		}
		c, err := r.client()
		if err != nil {
			return err
		}
		if collection, err = r.collection(cmd.Context(), c, collection); err != nil {
			return err
		}
		if args[0] == "-" {
			_, err := c.Export(cmd.Context(), collection, os.Stdout, o)
			return r.explain(err)
		}
		var done client.Exported
		err = replaceFile(args[0], func(w io.Writer) (err error) {
			done, err = c.Export(cmd.Context(), collection, w, o)
			return err
		})
		if err != nil {
			return r.explain(err)
		}
		if r.json {
			return printJSON(map[string]any{"file": args[0], "items": done.Items, "left_out": done.LeftOut})
		}
		fmt.Printf("Wrote %s to %s.\n", count(done.Items, "item", "items"), args[0])
		if done.LeftOut > 0 {
			fmt.Printf(
				"%s not there: the format %s has no place for them.\n",
				count(done.LeftOut, "item is", "items are"),
				o.Format,
			)
		}
		return nil
	}
	return cmd
}

// replaceFile writes a file beside its place and puts it there when it is whole, so that
// what was there before is not lost to one that is cut off.
func replaceFile(name string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return &usageError{err}
	}
	err = write(f)
	if err = errors.Join(err, f.Chmod(0o644), f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		err = errors.Join(err, os.Remove(f.Name()))
	}
	return err
}

// download writes what the service gives to a file, or to standard output for -.
func (r *remote) download(name, what string, write func(io.Writer) error) error {
	if name == "-" {
		return r.explain(write(os.Stdout))
	}
	if err := replaceFile(name, write); err != nil {
		return r.explain(err)
	}
	if r.json {
		return printJSON(map[string]string{"file": name})
	}
	fmt.Printf("Wrote %s to %s.\n", what, name)
	return nil
}

func formatOfName(name string) string {
	extension := strings.ToLower(filepath.Ext(name))
	if extension == ".json" {
		extension = formats.GeoJSON.Extension()
	}
	for _, f := range formats.Formats {
		if f.Extension() == extension {
			return string(f)
		}
	}
	return ""
}

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

func trackCommand() *cobra.Command {
	var r remote
	var since, until, format, out string
	var zoom float64
	o := client.TrackOptions{Limit: 50_000}
	cmd := &cobra.Command{
		Use: "track DEVICE", Short: "Show where a device was, or write its track to a file", Args: exactly(1),
		Long: `Show where a device was: how far it went, for how long it moved, and where it
stopped. With --format its track is written, as GPX, GeoJSON, OGC Moving
Features JSON or CSV. What the service has no positions of is a gap.`,
		Example: "  idlebeacon track WB-07 --since 6h\n" +
			"  idlebeacon track WB-07 --since 2026-04-12 --format gpx --out wb-07.gpx",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&since, "since", "6h", "since when: how long ago, such as 6h, a date or a time")
	cmd.Flags().StringVar(&until, "until", "", "until when, likewise (default: now)")
	cmd.Flags().Float64Var(&zoom, "zoom", 0, "leave out what makes less than half a pixel at this zoom")
	cmd.Flags().StringVar(&format, "format", "", "write the track as gpx, geojson, movingfeatures or csv")
	cmd.Flags().StringVar(&out, "out", "", "file to write (default: standard output)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var err error
		if o.From, o.To, err = spanOf(since, until); err != nil {
			return err
		}
		if cmd.Flags().Changed("zoom") {
			o.Zoom = &zoom
		}
		return r.with(func(c *client.Client) error {
			if format != "" {
				return writeOut(out, func(f *os.File) error { return c.TrackFile(cmd.Context(), args[0], format, o, f) })
			}
			track, err := c.Track(cmd.Context(), args[0], o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(track)
			}
			printTrack(&track)
			return nil
		})
	}
	return cmd
}

func printTrack(t *api.Track) {
	s := &t.Summary
	if s.Positions == 0 {
		fmt.Printf("The device %s has said nothing in that time. --since looks further back.\n", t.Device)
		return
	}
	first, last := t.Positions[0].Timestamp, t.Positions[len(t.Positions)-1].Timestamp
	fmt.Printf("%s from %s to %s: %s.\n", t.Device, clockTime(first), clockTime(last), count(s.Positions, "position",
		"positions"))
	if t.More {
		fmt.Println("There are more positions; this is about the first.")
	}
	fmt.Printf("It went %s in %s, %.1f m/s on average and %.1f m/s at most, and was still for %s.\n", distance(s.Distance),
		seconds(s.Moving), s.MeanSpeed, s.MaxSpeed, seconds(s.Still))
	if s.Gaps > 0 || s.Jumps > 0 {
		fmt.Printf("There are %s of which nothing is known, and %s.\n", count(s.Gaps, "gap", "gaps"), count(s.Jumps,
			"jump that is not believed", "jumps that are not believed"))
	}
	if len(s.Stops) == 0 {
		return
	}
	table := newTable("Stopped", "Until", "For", "Latitude", "Longitude")
	numeric(table, 3, 4, 5)
	for _, stop := range s.Stops {
		table.AppendRow(stopRow(&stop))
	}
	table.Render()
}

func stopRow(s *api.Stop) table.Row {
	return table.Row{clockTime(s.From), clockTime(s.To), seconds(s.To.Sub(s.From).Seconds()), degrees(s.Latitude),
		degrees(s.Longitude)}
}

func clockTime(t time.Time) string { return t.Local().Format("2 Jan 15:04:05") }

// seconds says how long so many seconds are, such as 20m, 1h5m or 7m30s.
func seconds(s float64) string {
	text := (time.Duration(s) * time.Second).String()
	if short, whole := strings.CutSuffix(text, "m0s"); whole {
		text = short + "m"
	}
	if short, whole := strings.CutSuffix(text, "h0m"); whole {
		text = short + "h"
	}
	return text
}

package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func reportCommand() *cobra.Command {
	var r remote
	var p struct {
		lat, lon, accuracy, altitude, heading, speed float64
		at, properties, group, lines                 string
	}
	cmd := &cobra.Command{
		Use: "report [DEVICE]", Short: "Report where a device is", Args: arguments(0, 1),
		Long: `Report where a device is. With --lines reports are read from a file, or from
standard input if that is -, a line of JSON each, and each is answered with a
line of JSON once it is durable.`,
		Example: "  idlebeacon report WB-07 --lat -38.5 --lon -22 --speed 4.2 --properties '{\"battery\": 80}'\n" +
			"  gps-reader | idlebeacon report --lines -",
	}
	r.flags(cmd)
	f := cmd.Flags()
	f.Float64Var(&p.lat, "lat", 0, "latitude in degrees")
	f.Float64Var(&p.lon, "lon", 0, "longitude in degrees")
	f.Float64Var(&p.accuracy, "accuracy", 0, "accuracy in metres")
	f.Float64Var(&p.altitude, "altitude", 0, "altitude in metres")
	f.Float64Var(&p.heading, "heading", 0, "heading in degrees clockwise from north")
	f.Float64Var(&p.speed, "speed", 0, "speed in metres per second")
	f.StringVar(&p.at, "at", "", "when it was there (default: now)")
	f.StringVar(&p.properties, "properties", "", "what else to report, as a JSON object")
	f.StringVar(&p.group, "group", "", "the group in which the device is made if it is not there yet")
	f.StringVar(&p.lines, "lines", "", "file with a report in JSON on each line, or - for standard input")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if p.lines != "" {
			return r.reportLines(cmd, p.lines, p.group)
		}
		if len(args) == 0 || !f.Changed("lat") || !f.Changed("lon") {
			return &usageError{fmt.Errorf("say which device, and where it is with --lat and --lon")}
		}
		report := api.Report{Device: args[0], Latitude: p.lat, Longitude: p.lon, Properties: json.RawMessage(p.properties)}
		for name, m := range map[string]struct {
			from *float64
			to   **float64
		}{
			"accuracy": {&p.accuracy, &report.Accuracy}, "altitude": {&p.altitude, &report.Altitude},
			"heading": {&p.heading, &report.Heading}, "speed": {&p.speed, &report.Speed},
		} {
			if f.Changed(name) {
				*m.to = m.from
			}
		}
		if p.properties != "" && !json.Valid(report.Properties) {
			return &usageError{fmt.Errorf("--properties %s: want a JSON object", p.properties)}
		}
		if p.at != "" {
			at, err := momentOf(p.at)
			if err != nil {
				return err
			}
			report.Timestamp = &at
		}
		return r.with(func(c *client.Client) error {
			v, err := c.Report(cmd.Context(), []api.Report{report}, p.group)
			if err != nil {
				return err
			}
			return r.printVerdicts(&v)
		})
	}
	return cmd
}

// reportLines reports lines of a file, and prints what became of each.
func (r *remote) reportLines(cmd *cobra.Command, name, group string) error {
	var in io.Reader = os.Stdin
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	return r.with(func(c *client.Client) error {
		refused := 0
		err := c.ReportLines(cmd.Context(), in, group, func(v api.ReportVerdict) error {
			if v.Status == "refused" {
				refused++
			}
			return json.NewEncoder(os.Stdout).Encode(v)
		})
		if err == nil && refused > 0 {
			err = fmt.Errorf("%s refused", count(refused, "report was", "reports were"))
		}
		return err
	})
}

package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/demo"
	"idlebeacon/internal/admission"
	"idlebeacon/internal/daemon"
	"idlebeacon/internal/store"
	"idlebeacon/web"
)

const defaultListen = "127.0.0.1:8470"

// logOptions say what to log, and how.
type logOptions struct{ level, format string }

// serveFlags adds the options of running a service.
func serveFlags(cmd *cobra.Command, config *daemon.Config, data string) *logOptions {
	config.Version, config.Console = version, web.Console()
	flags, log := cmd.Flags(), &logOptions{}
	flags.StringVar(&config.Listen, "listen", defaultListen, "address to serve on; port 0 takes a free one")
	flags.StringVar(
		&config.BaseURL,
		"base-url",
		"",
		"where clients reach the service, such as https://maps.example/beacon (default: where their requests go to)",
	)
	flags.StringVar(&config.Data, "data", data, "directory of the private database")
	flags.IntVar(
		&config.Connections,
		"connections",
		store.DefaultConnections,
		fmt.Sprintf("the most connections to the database, %d or more", store.MinConnections),
	)
	flags.IntVar(
		&config.WorkMemory,
		"work-memory",
		admission.DefaultBytes>>20,
		"MiB of memory that sorting, searching and reading large bodies may take together",
	)
	flags.DurationVar(
		&config.KeepHistory,
		"keep-history",
		0,
		"how long changes are kept, such as 2160h for 90 days, at least 1h; 0 for good",
	)
	flags.DurationVar(&config.StopTimeout, "stop-timeout", daemon.DefaultStopTimeout, "how long a stop may take")
	flags.BoolVar(&config.AccessLog, "access-log", false, "write a line for each request")
	flags.StringVar(&log.level, "log", "info", "how much to log: debug, info, warn or error")
	flags.StringVar(&log.format, "log-format", "text", "how to log: text or json")
	return log
}

func (o *logOptions) logger() (*slog.Logger, error) {
	var options slog.HandlerOptions
	var level slog.Level
	if err := level.UnmarshalText([]byte(o.level)); err != nil {
		return nil, &usageError{fmt.Errorf("--log %s: want debug, info, warn or error", o.level)}
	}
	options.Level = level
	switch o.format {
	case "text":
		return slog.New(slog.NewTextHandler(os.Stderr, &options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(os.Stderr, &options)), nil
	}
	return nil, &usageError{fmt.Errorf("--log-format %s: want text or json", o.format)}
}

// checkServe refuses options that make no sense.
func checkServe(config *daemon.Config) error {
	base, err := url.Parse(config.BaseURL)
	switch {
	case config.BaseURL != "" && (err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" ||
		base.RawQuery != ""):
		return &usageError{
			fmt.Errorf("--base-url %s: want an address that begins with http:// or https://", config.BaseURL),
		}
	case config.Connections < store.MinConnections:
		return &usageError{fmt.Errorf("--connections %d: want at least %d", config.Connections, store.MinConnections)}
	case config.WorkMemory < leastWorkMemory:
		return &usageError{fmt.Errorf("--work-memory %d: want at least %d", config.WorkMemory, leastWorkMemory)}
	case config.StopTimeout < time.Second:
		return &usageError{fmt.Errorf("--stop-timeout %v: want at least 1s", config.StopTimeout)}
	case config.KeepHistory < 0 || config.KeepHistory > 0 && config.KeepHistory < time.Hour:
		return &usageError{fmt.Errorf("--keep-history %v: want at least 1h, or 0 for good", config.KeepHistory)}
	}
	return nil
}

const leastWorkMemory = 64 // MiB

func serveCommand() *cobra.Command {
	var config daemon.Config
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service until it is interrupted.

Without --dsn it keeps a private PostgreSQL database in the data directory,
which it starts and stops itself.`,
		Args: exactly(0),
	}
	logging := serveFlags(cmd, &config, "idlebeacon-data")
	cmd.Flags().StringVar(&config.DSN, "dsn", "", "PostgreSQL connection string of a database of your own")
	cmd.Flags().StringVar(&config.Schema, "schema", "", "schema of the service's tables in that database, made if "+
		"it is not there")
	cmd.Flags().StringVar(&config.Backdrop, "backdrop", "", "GeoJSON file of land outlines to draw below the markers")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logging.logger()
		if err == nil {
			err = checkServe(&config)
		}
		if err != nil {
			return err
		}
		return serve(cmd.Context(), config, log, func(string) error { return nil })
	}
	return cmd
}

// serve runs a service until ctx ends, calling ready with its URL once it
// answers.
func serve(ctx context.Context, config daemon.Config, log *slog.Logger, ready func(url string) error) error {
	d, err := daemon.Start(ctx, config, log)
	if err != nil {
		return err
	}
	err = ready(d.URL())
	if err == nil {
		err = d.Wait(ctx)
	}
	log.Info("stopping")
	err = errors.Join(err, d.Stop())
	if err == nil {
		log.Info("stopped")
	}
	return err
}

func demoCommand() *cobra.Command {
	var config daemon.Config
	var places int
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run a service with the demo data",
		Long: `Run a service with the demo data: the places that the Brindlemere Moorings
Trust looks after. Everything in it is made up. The first start makes and
imports the data; later starts find it as it was left.`,
		Args: exactly(0),
	}
	logging := serveFlags(cmd, &config, filepath.Join("idlebeacon-data", "demo"))
	cmd.Flags().IntVar(&places, "places", demo.DefaultPlaces, "how many places to make, the first time")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logging.logger()
		if err == nil {
			err = checkServe(&config)
		}
		if err != nil {
			return err
		}
		if places < 1 {
			return &usageError{fmt.Errorf("--places %d: want at least 1", places)}
		}
		world := demo.New(1)
		config.Pictures = demo.Pictures()
		config.Backdrop = filepath.Join(config.Data, "coast.geojson")
		if err := writeFile(config.Backdrop, world.WriteCoast); err != nil {
			return err
		}
		return serve(cmd.Context(), config, log, func(url string) error {
			if err := fillDemo(cmd.Context(), url, config.Data, demoParts(world, places), log); err != nil {
				return err
			}
			fmt.Printf("\nIdle Beacon is ready: %s\nStop it with Ctrl-C.\n\n", url)
			return nil
		})
	}
	return cmd
}

// demoParts are the collections of the demo and the files that they are made of.
func demoParts(world *demo.World, places int) []demoPart {
	return []demoPart{
		{
			api.NewCollection{
				ID: "brindlemere", Title: "Brindlemere Moorings Trust",
				Description:  "Shared moorings and what goes with them, around the Brindlemere Isles. All made up.",
				NameProperty: "name", CategoryProperty: "category",
			}, "places.csv", func(w io.Writer) error { return world.WritePlaces(w, places) }, demo.PlacesStyle,
		},
		{
			api.NewCollection{
				ID: "waters", Title: "Waters of the Isles",
				Description:  "Harbour areas, areas where not to anchor, and ferry lanes. All made up.",
				NameProperty: "name", CategoryProperty: "category",
			}, "waters.geojson", world.WriteWaters, demo.WatersStyle,
		},
	}
}

type demoPart struct {
	collection api.NewCollection
	file       string
	write      func(io.Writer) error
	style      string
}

// fillDemo imports the demo data unless an earlier start has done so to the end.
// Importing again does no harm: the rows have ids.
func fillDemo(ctx context.Context, url, data string, parts []demoPart, log *slog.Logger) error {
	c, err := client.New(url)
	if err != nil {
		return err
	}
	for _, part := range parts {
		done := filepath.Join(data, part.collection.ID+"-imported")
		if _, err := os.Stat(done); err == nil {
			continue
		}
		if err := part.fill(ctx, c, data, log); err != nil {
			return err
		}
		if err := os.WriteFile(done, nil, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (p *demoPart) fill(ctx context.Context, c *client.Client, data string, log *slog.Logger) error {
	file := filepath.Join(data, p.file)
	if err := writeFile(file, p.write); err != nil {
		return err
	}
	log.Info("importing the demo data", "file", file)
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	report, err := c.Import(ctx, p.collection.ID, f, client.ImportOptions{FileName: p.file, Create: &p.collection})
	if err != nil {
		return err
	}
	if report.Rejected > 0 {
		return fmt.Errorf("the demo data was not imported whole: %+v", report)
	}
	_, err = c.SetStyle(ctx, p.collection.ID, json.RawMessage(p.style))
	return err
}

// writeFile makes a file, and the directory it is in, with what write writes.
func writeFile(name string, write func(io.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	return errors.Join(write(f), f.Close())
}

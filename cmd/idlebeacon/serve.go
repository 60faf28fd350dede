package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/demo"
	"idlebeacon/internal/daemon"
	"idlebeacon/web"
)

const defaultListen = "127.0.0.1:8470"

// serveFlags adds the options of running a service.
func serveFlags(cmd *cobra.Command, config *daemon.Config, data string) *string {
	config.Version, config.Console = version, web.Console()
	cmd.Flags().StringVar(&config.Listen, "listen", defaultListen, "address to serve on; port 0 takes a free one")
	cmd.Flags().StringVar(&config.Data, "data", data, "directory of the private database")
	return cmd.Flags().String("log", "info", "how much to log: debug, info, warn or error")
}

func logger(level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, &usageError{fmt.Errorf("--log %s: want debug, info, warn or error", level)}
	}
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: l})), nil
}

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
	level := serveFlags(cmd, &config, "idlebeacon-data")
	cmd.Flags().StringVar(&config.DSN, "dsn", "", "PostgreSQL connection string of a database of your own")
	cmd.Flags().StringVar(&config.Backdrop, "backdrop", "", "GeoJSON file of land outlines to draw below the markers")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logger(*level)
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
	return errors.Join(err, d.Stop())
}

// demoCollection is the id of the demo's collection.
const demoCollection = "brindlemere"

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
	level := serveFlags(cmd, &config, filepath.Join("idlebeacon-data", "demo"))
	cmd.Flags().IntVar(&places, "places", demo.DefaultPlaces, "how many places to make, the first time")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logger(*level)
		if err != nil {
			return err
		}
		if places < 1 {
			return &usageError{fmt.Errorf("--places %d: want at least 1", places)}
		}
		world := demo.New(1)
		config.Backdrop = filepath.Join(config.Data, "coast.geojson")
		if err := writeFile(config.Backdrop, world.WriteCoast); err != nil {
			return err
		}
		return serve(cmd.Context(), config, log, func(url string) error {
			if err := fillDemo(cmd.Context(), url, config.Data, world, places, log); err != nil {
				return err
			}
			fmt.Printf("\nIdle Beacon is ready: %s\nStop it with Ctrl-C.\n\n", url)
			return nil
		})
	}
	return cmd
}

// fillDemo imports the demo data unless an earlier start has done so to the end.
// Importing again does no harm: the rows have ids.
func fillDemo(ctx context.Context, url, data string, world *demo.World, places int, log *slog.Logger) error {
	done := filepath.Join(data, "demo-imported")
	if _, err := os.Stat(done); err == nil {
		return nil
	}
	c, err := client.New(url)
	if err != nil {
		return err
	}
	if _, err := c.Collection(ctx, demoCollection); client.IsNotFound(err) {
		_, err = c.CreateCollection(ctx, api.NewCollection{
			ID: demoCollection, Title: "Brindlemere Moorings Trust",
			Description:  "Shared moorings and what goes with them, around the Brindlemere Isles. All made up.",
			NameProperty: "name", CategoryProperty: "category",
		})
		if err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	file := filepath.Join(data, "places.csv")
	if err := writeFile(file, func(w io.Writer) error { return world.WritePlaces(w, places) }); err != nil {
		return err
	}
	log.Info("importing the demo data", "file", file, "places", places)
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	report, err := c.Import(ctx, demoCollection, f, client.ImportOptions{})
	if err != nil {
		return err
	}
	if report.Rejected > 0 || report.Stopped != "" {
		return fmt.Errorf("the demo data was not imported whole: %+v", report)
	}
	return os.WriteFile(done, nil, 0o644)
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

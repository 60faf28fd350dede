package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/demo"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/daemon"
)

func demoCommand() *cobra.Command {
	var config daemon.Config
	var places int
	moving := simulation{late: 2, doubled: 1, dropOuts: 4}
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run a service with the demo data",
		Long: `Run a service with the demo data: the places that the Brindlemere Moorings
Trust looks after, and its devices, which move. Everything in it is made up. The
first start makes and imports the data; later starts find it as it was left.`,
		Args: exactly(0),
	}
	logging := serveFlags(cmd, &config, demoData)
	cmd.Flags().IntVar(&places, "places", demo.DefaultPlaces, "how many places to make, the first time")
	cmd.Flags().IntVar(&moving.devices, "devices", demo.DefaultDevices, "how many devices move about; 0 for none")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log, err := logging.logger()
		if err == nil {
			err = logging.check(&config)
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
		stopMoving := func() {}
		defer func() { stopMoving() }()
		return serve(cmd.Context(), config, log, func(url string) error {
			r := remote{server: url, data: config.Data, ca: config.Certificate}
			c, err := r.client()
			if err != nil {
				return err
			}
			if err := fillDemo(cmd.Context(), c, config.Data, demoParts(world, places), log); err != nil {
				return err
			}
			as := func(key string) (*client.Client, error) {
				other := r
				other.key = key
				return other.client()
			}
			if err := makeDemoHistory(cmd.Context(), as, config.Data); err != nil {
				return err
			}
			if moving.devices > 0 {
				stop, err := moveDemo(cmd.Context(), c, config.Data, moving, world)
				if err != nil {
					return err
				}
				stopMoving = stop
			}
			// The address signs its reader in once. Without the owner key, people sign in by themselves.
			if code, err := c.SignInCode(cmd.Context()); err == nil {
				url = code.Href
			}
			fmt.Printf("\nIdle Beacon is ready: %s\nStop it with Ctrl-C.\n\n", url)
			return nil
		})
	}
	return cmd
}

// moveDemo has devices move about, at first with what they did in the hour before, until the function that it
// returns is called, or ctx ends.
func moveDemo(
	ctx context.Context, c *client.Client, data string, s simulation, world *demo.World,
) (stop func(), err error) {
	fleet := world.Fleet(s.devices)
	if err := makeFleetGroups(ctx, c, fleet); err != nil {
		return nil, err
	}
	if err := makeDemoWatches(ctx, c, world); err != nil {
		return nil, err
	}
	done := filepath.Join(data, "devices-reported")
	if _, err := os.Stat(done); err != nil {
		s.past = time.Hour
		told := &simulated{}
		s.sendPast(ctx, &httpSender{client: c}, fleet, told)
		if told.failed != nil {
			return nil, told.failed
		}
		s.past = 0
		if err := os.WriteFile(done, nil, 0o644); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.run(ctx, &httpSender{client: c}, fleet, func(*simulated) {})
	}()
	return func() { cancel(); <-ended }, nil
}

// demoParts are the collections of the demo and the files that they are made of.
func demoParts(world *demo.World, places int) []demoPart {
	return []demoPart{
		{
			api.NewCollection{
				ID: "brindlemere", Title: "Brindlemere Moorings Trust",
				Description:  "Shared moorings and what goes with them, around the Brindlemere Isles. All made up.",
				NameProperty: "name", CategoryProperty: "category", Guests: string(policy.GuestsRead),
			}, "places.csv", func(w io.Writer) error { return world.WritePlaces(w, places) }, demo.PlacesStyle,
			demo.PlacesSchema,
		},
		{
			api.NewCollection{
				ID: "waters", Title: "Waters of the Isles",
				Description:  "Harbour areas, areas where not to anchor, and ferry lanes. All made up.",
				NameProperty: "name", CategoryProperty: "category", Guests: string(policy.GuestsRead),
			}, "waters.geojson", world.WriteWaters, demo.WatersStyle, "",
		},
	}
}

type demoPart struct {
	collection api.NewCollection
	file       string
	write      func(io.Writer) error
	style      string
	schema     string // "" for none
}

// fillDemo imports the demo data unless an earlier start has done so to the end.
// Importing again does no harm: the rows have ids.
func fillDemo(ctx context.Context, c *client.Client, data string, parts []demoPart, log *slog.Logger) error {
	if err := makeDemoKeys(ctx, c, data); err != nil {
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

// makeDemoKeys makes a key of each role, in a file each, for trying out what they can do.
func makeDemoKeys(ctx context.Context, c *client.Client, data string) error {
	for _, k := range append([]demoKey{
		{"reader", api.NewKey{
			Name: "Harbour kiosk", Role: "reader", Limits: &api.Limits{Collections: []string{"brindlemere"}},
		}},
		{"contributor", api.NewKey{Name: "Visitors' app", Role: "contributor", Limits: &api.Limits{PerMinute: 600}}},
		{"editor", api.NewKey{Name: "Wardens' handhelds", Role: "editor", Limits: &api.Limits{Own: true}}},
		{"device", api.NewKey{
			Name: "Workboat WB-07", Role: "device", Limits: &api.Limits{Devices: []string{"WB-07"}},
		}},
	}, demoEditors...) {
		file := filepath.Join(data, k.file+".key")
		if _, err := os.Stat(file); err == nil {
			continue
		}
		made, err := c.MakeKey(ctx, k.key)
		if err != nil {
			return err
		}
		const mine = 0o600
		if err := os.WriteFile(file, []byte(made.Secret+"\n"), mine); err != nil {
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
	if p.schema != "" {
		if _, err := c.SetSchema(ctx, p.collection.ID, json.RawMessage(p.schema)); err != nil {
			return err
		}
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

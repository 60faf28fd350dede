package main

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
)

func watchCommand() *cobra.Command {
	var r remote
	var o client.WatchOptions
	var bbox string
	var devices bool
	var groups []string
	cmd := &cobra.Command{
		Use: "watch", Short: "Show changes, or where devices are, as it happens", Args: exactly(0),
		Long: `Show changes as they happen, a line each, until you stop it with Ctrl-C. With
--devices show where devices are, whenever one has moved, and which have left the
box or are paused. With --json each line is a change, or a device, as JSON.`,
		Example: "  idlebeacon watch\n  idlebeacon watch --collection brindlemere --bbox -22.2,-38.6,-22,-38.4 --json\n" +
			"  idlebeacon watch --devices --group workboats",
	}
	r.flags(cmd)
	cmd.Flags().StringSliceVar(&o.Collections, "collection", nil, "which collections, separated by commas (default: all)")
	cmd.Flags().StringVar(&bbox, "bbox", "", "only changes of items in this box: "+bboxHelp)
	cmd.Flags().Uint64Var(&o.After, "after", 0, "begin with the changes after this one (default: with what happens now)")
	cmd.Flags().BoolVar(&devices, "devices", false, "show devices in the place of changes")
	cmd.Flags().StringSliceVar(&groups, "group", nil, "with --devices, only those of these groups, separated by commas")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if !devices && groups != nil || devices && (o.Collections != nil || o.After != 0) {
			return &usageError{fmt.Errorf("--group goes with --devices; --collection and --after go without it")}
		}
		if bbox != "" {
			box, err := geo.ParseBox(bbox)
			if err != nil {
				return &usageError{fmt.Errorf("--bbox: %w", err)}
			}
			o.Box = (*client.Box)(&box)
		}
		if devices {
			return r.with(func(c *client.Client) error {
				return c.WatchDevices(cmd.Context(), groups, o.Box, r.printMoved)
			})
		}
		return r.with(func(c *client.Client) error { return r.watch(cmd.Context(), c, &o) })
	}
	return cmd
}

// printMoved prints devices, a line each, and which are not to be seen any more.
func (r *remote) printMoved(e api.PositionsEvent) error {
	for _, id := range e.Gone {
		line := fmt.Sprintf("%s  %-10s is not in sight any more", time.Now().Format("15:04:05"), id)
		if r.json {
			line = fmt.Sprintf(`{"id":%q,"gone":true}`, id)
		}
		if _, err := fmt.Println(line); err != nil {
			return err
		}
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		if r.json {
			if err := json.NewEncoder(os.Stdout).Encode(d); err != nil {
				return err
			}
			continue
		}
		if d.Position == nil {
			continue
		}
		p := d.Position
		_, err := fmt.Printf("%s  %-10s %-7s %s, %s  %s\n", p.Timestamp.Local().Format("15:04:05"), d.ID, d.State,
			degrees(p.Latitude), degrees(p.Longitude), speedOf(d.Speed))
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *remote) watch(ctx context.Context, c *client.Client, o *client.WatchOptions) error {
	if len(o.Collections) == 0 {
		list, err := c.Collections(ctx)
		if err != nil {
			return err
		}
		for _, found := range list.Collections {
			o.Collections = append(o.Collections, found.ID)
		}
	}
	if len(o.Collections) == 0 {
		return fmt.Errorf("the service has no collection yet")
	}
	heard := make(chan uint64, 1) // the newest change that was heard of
	var first atomic.Uint64       // the first of them
	working, ctx := errgroup.WithContext(ctx)
	working.Go(func() error {
		defer close(heard)
		return c.Watch(ctx, *o, func(e api.ChangeEvent) error {
			first.CompareAndSwap(0, e.Number)
			select { // what was heard before and not shown yet is shown with it
			case <-heard:
			default:
			}
			heard <- e.Number
			return nil
		}, func() error {
			fmt.Fprintln(os.Stderr, "Some changes were missed; 'idlebeacon history' has them.")
			return nil
		})
	})
	working.Go(func() error {
		shown := o.After
		for newest := range heard {
			if err := r.show(ctx, c, o, cmp.Or(shown, first.Load()-1), newest); err != nil {
				return err
			}
			shown = newest
		}
		return nil
	})
	return working.Wait()
}

// show prints the changes after one and up to another, oldest first.
func (r *remote) show(ctx context.Context, c *client.Client, o *client.WatchOptions, after, last uint64) error {
	const together = 500
	for after < last {
		to := min(last, after+together) // no numbers are left out
		page, err := c.History(ctx, client.HistoryOptions{
			Collections: o.Collections, Box: o.Box, Before: to + 1, Limit: together,
		})
		if err != nil {
			return err
		}
		for _, change := range slices.Backward(page.Changes) {
			if change.Number <= after {
				continue
			}
			if err := r.printChange(&change); err != nil {
				return err
			}
		}
		after = to
	}
	return nil
}

func (r *remote) printChange(c *api.Change) error {
	if r.json {
		return json.NewEncoder(os.Stdout).Encode(c)
	}
	_, err := fmt.Printf("%d  %s  %s (%s)  %s  %s: %s\n", c.Number, c.At.Local().Format("15:04:05"),
		cmp.Or(c.By, c.Actor, "somebody"), c.Way, c.Collection, itemOf(c), whatChanged(c))
	return err
}

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func noticesCommand() *cobra.Command {
	var r remote
	var since, until string
	var follow bool
	o := client.NoticesOptions{}
	cmd := &cobra.Command{
		Use: "notices", Short: "Show what watches noticed", Args: exactly(0),
		Long: `Show what watches noticed, the newest last. With --follow show what they notice
as it happens, until you stop it with Ctrl-C.`,
		Example: "  idlebeacon notices --since 24h --kind entered,left\n  idlebeacon notices --follow --json",
	}
	r.flags(cmd)
	f := cmd.Flags()
	f.StringVar(&since, "since", "24h", "since when: how long ago, such as 6h, a date or a time")
	f.StringVar(&until, "until", "", "until when, likewise (default: now)")
	f.StringSliceVar(&o.Groups, "group", nil, "only about devices of these groups, separated by commas")
	f.StringSliceVar(&o.Devices, "device", nil, "only about these devices, separated by commas")
	f.StringSliceVar(&o.Watches, "watch", nil, "only of these watches, separated by commas")
	f.StringSliceVar(&o.Kinds, "kind", nil, "only of these kinds: entered, left, stayed, fast, silent, near")
	f.IntVar(&o.Limit, "limit", 50, "how many of the newest")
	f.BoolVar(&follow, "follow", false, "show what is noticed from now on")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if follow {
			return r.with(func(c *client.Client) error {
				return c.WatchNotices(cmd.Context(), func(some []api.Notice) error { return r.followNotices(some, &o) })
			})
		}
		var err error
		if o.From, o.To, err = spanOf(since, until); err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			n, err := c.Notices(cmd.Context(), o)
			if err != nil {
				return err
			}
			slices.Reverse(n.Notices)
			if r.json {
				return printJSON(n)
			}
			if len(n.Notices) == 0 {
				fmt.Println("Nothing was noticed in that time. --since looks further back.")
				return nil
			}
			printNotices(n.Notices)
			return nil
		})
	}
	return cmd
}

// followNotices prints notices that were asked for, a line each.
func (r *remote) followNotices(some []api.Notice, o *client.NoticesOptions) error {
	takes := func(list []string, value string) bool { return list == nil || slices.Contains(list, value) }
	for i := range some {
		n := &some[i]
		if !takes(o.Groups, n.Group) || !takes(o.Watches, n.Watch) || !takes(o.Kinds, n.Kind) ||
			!takes(o.Devices, n.Device) && !takes(o.Devices, n.Other) {
			continue
		}
		var err error
		if r.json {
			err = json.NewEncoder(os.Stdout).Encode(n)
		} else {
			_, err = fmt.Printf("%s  %-10s %-24s %s\n", n.Time.Local().Format("15:04:05"), n.Device, noticeInWords(n), n.Title)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func printNotices(all []api.Notice) {
	if len(all) == 0 {
		return
	}
	t := newTable("Time", "Device", "What", "Watch", "Latitude", "Longitude")
	numeric(t, 5, 6)
	t.SuppressEmptyColumns() // what a watch would have noticed names none
	for i := range all {
		n := &all[i]
		t.AppendRow(table.Row{
			clockTime(n.Time), n.Device, noticeInWords(n), n.Watch, degrees(n.Latitude), degrees(n.Longitude),
		})
	}
	t.Render()
}

// noticeInWords says what was noticed of a device.
func noticeInWords(n *api.Notice) string {
	switch n.Kind {
	case "entered":
		return "entered" + circleOf(n)
	case "left":
		if n.Since != nil {
			return "left" + circleOf(n) + " after " + seconds(n.Time.Sub(*n.Since).Seconds())
		}
	case "stayed":
		if n.Since != nil {
			return "stayed" + circleOf(n) + " for " + seconds(n.Time.Sub(*n.Since).Seconds())
		}
	case "fast":
		return "is fast: " + speedOf(n.Speed)
	case "silent":
		if n.Since != nil {
			return "has been silent for " + seconds(n.Time.Sub(*n.Since).Seconds())
		}
	case "near":
		return "is near " + n.Other
	}
	return n.Kind
}

func circleOf(n *api.Notice) string {
	if n.Other == "" {
		return ""
	}
	return " the circle of " + n.Other
}

package main

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func devicesCommand() *cobra.Command {
	var r remote
	var o client.DevicesOptions
	cmd := &cobra.Command{
		Use: "devices", Short: "List the devices with where they are; show, make or change one", Args: exactly(0),
		Example: "  idlebeacon devices --group workboats --state moving --sort=-speed\n  idlebeacon devices --search tern\n" +
			"  idlebeacon devices --filter \"battery < 20\"",
	}
	r.flags(cmd)
	chooseDevices(cmd, &o.DeviceSelection)
	cmd.Flags().StringVar(&o.Text, "search", "", "only devices whose id or name contains this, in any case")
	cmd.Flags().StringVar(&o.Filter, "filter", "", "only devices that meet this condition on their properties, those of "+
		"their last position, and id, name, group, state and speed, such as \"battery < 20 AND speed > 0\"")
	cmd.Flags().StringVar(&o.Sort, "sort", "", "id, name, group, state, time or speed, with - before it for the reverse "+
		"(default: id)")
	cmd.Flags().IntVar(&o.Offset, "offset", 0, "how many devices to pass over")
	cmd.Flags().IntVar(&o.Limit, "limit", 20, "most devices to show")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			page, err := c.Devices(cmd.Context(), o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(page)
			}
			if len(page.Devices) == 0 {
				fmt.Println("There are no such devices.")
				return nil
			}
			t := newTable("Device", "Name", "Group", "State", "Last heard", "Speed", "Battery", "Latitude", "Longitude")
			numeric(t, 6, 7, 8, 9)
			for i := range page.Devices {
				t.AppendRow(deviceRow(&page.Devices[i]))
			}
			t.Render()
			fmt.Printf("%s", count(page.Matched, "device", "devices"))
			if page.Returned < page.Matched {
				fmt.Printf(", of which %d are shown; --offset %d shows those after them", page.Returned, o.Offset+page.Returned)
			}
			fmt.Println(".")
			return nil
		})
	}
	cmd.AddCommand(devicesShowCommand(), devicesAddCommand(), devicesChangeCommand(), devicesPauseCommand(true),
		devicesPauseCommand(false), devicesRemoveCommand(), devicesNearCommand(), devicesAtCommand(), devicesFileCommand(),
		devicesEraseCommand(), devicesImportCommand(), devicesShareCommand())
	return cmd
}

// chooseDevices adds the options that choose among devices.
func chooseDevices(cmd *cobra.Command, s *client.DeviceSelection) {
	cmd.Flags().StringSliceVar(&s.Groups, "group", nil, "only devices of these groups, separated by commas")
	cmd.Flags().StringSliceVar(&s.States, "state", nil, "only devices in these states: moving, still, silent, unheard, "+
		"paused")
}

func deviceRow(d *api.Device) table.Row {
	row := table.Row{d.ID, short(d.Name, 28), short(d.Group, 20), d.State, "never", "", "", "", ""}
	if p := d.Position; p != nil {
		row[4], row[5], row[6] = agoInWords(p.Timestamp), speedOf(d.Speed), battery(p.Properties)
		row[7], row[8] = degrees(p.Latitude), degrees(p.Longitude)
	} else if d.State == "paused" {
		row[4] = ""
	}
	return row
}

// agoInWords says how long ago something was, to a second if that is little.
func agoInWords(at time.Time) string {
	if since := time.Since(at); since < 2*time.Minute {
		return fmt.Sprintf("%d s ago", max(0, int(since.Seconds())))
	}
	return ago(&at)
}

// speedOf writes metres per second for people.
func speedOf(v *float32) string {
	if v == nil {
		return ""
	}
	return fmt.Sprintf("%.1f m/s", *v)
}

// battery returns what properties tell of a battery.
func battery(properties json.RawMessage) string {
	var p struct {
		Battery *float64 `json:"battery"`
	}
	if json.Unmarshal(properties, &p) != nil || p.Battery == nil {
		return ""
	}
	return fmt.Sprintf("%.0f %%", *p.Battery)
}

func devicesShowCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device", Args: exactly(1), Example: "  idlebeacon devices show WB-07",
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			d, err := c.Device(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(d)
			}
			printDevice(&d)
			return nil
		})
	}
	return cmd
}

func printDevice(d *api.Device) {
	row := func(name, value string) {
		if value != "" {
			fmt.Printf("%-12s %s\n", name, value)
		}
	}
	row("Device", d.ID)
	row("Name", d.Name)
	row("Group", d.Group)
	state := d.State
	if d.Since != nil {
		state += ", since " + d.Since.Local().Format("2 January 15:04:05") + " or earlier"
	}
	row("State", state)
	if p := d.Position; p != nil {
		row("Last heard", fmt.Sprintf("%s (%s)", agoInWords(p.Timestamp), p.Timestamp.Local().Format("2006-01-02 15:04:05")))
		at := degrees(p.Latitude) + ", " + degrees(p.Longitude)
		if p.Accuracy != nil {
			at += fmt.Sprintf(", within %.0f m", *p.Accuracy)
		}
		row("Position", at)
		row("Speed", speedOf(d.Speed))
		if d.Heading != nil {
			row("Heading", fmt.Sprintf("%.0f°", *d.Heading))
		}
		if p.Altitude != nil {
			row("Altitude", fmt.Sprintf("%.0f m", *p.Altitude))
		}
		if d.Step != "" {
			row("Before", map[string]string{
				"gap":  "it said nothing for a while before this position",
				"jump": "nothing travels so fast from the position before",
			}[d.Step])
		}
		row("Reported", string(p.Properties))
	}
	switch {
	case d.ClockAhead > 0:
		row("Clock", fmt.Sprintf("about %.0f s ahead", d.ClockAhead))
	case d.ClockAhead < 0:
		row("Clock", fmt.Sprintf("about %.0f s behind, or its reports take that long", -d.ClockAhead))
	}
	if string(d.Properties) != "{}" {
		row("Properties", string(d.Properties))
	}
}

// deviceLook is the options that say what a device is like.
type deviceLook struct{ name, group, icon, colour, properties string }

func (l *deviceLook) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&l.name, "name", "", "what people call it")
	cmd.Flags().StringVar(&l.group, "group", "", "the id of its group")
	cmd.Flags().StringVar(&l.icon, "icon", "", "the name of an icon (default: that of the group)")
	cmd.Flags().StringVar(&l.colour, "colour", "", "a colour such as #0b6e99 (default: that of the group)")
	cmd.Flags().StringVar(&l.properties, "properties", "", "its properties, as a JSON object")
}

func (l *deviceLook) update(cmd *cobra.Command) (u api.DeviceUpdate) {
	for name, m := range map[string]struct {
		from *string
		to   **string
	}{
		"name": {&l.name, &u.Name}, "group": {&l.group, &u.Group}, "icon": {&l.icon, &u.Icon},
		"colour": {&l.colour, &u.Colour},
	} {
		if cmd.Flags().Changed(name) {
			*m.to = m.from
		}
	}
	if cmd.Flags().Changed("properties") {
		raw := json.RawMessage(l.properties)
		u.Properties = &raw
	}
	return u
}

func devicesAddCommand() *cobra.Command {
	var r remote
	var look deviceLook
	cmd := &cobra.Command{
		Use: "add DEVICE", Short: "Make a device", Args: exactly(1),
		Long: `Make a device. Devices are also made by themselves with their first report,
if the key may report for them.`,
		Example: "  idlebeacon devices add WB-99 --group workboats --name \"Storm Tern\"",
	}
	r.flags(cmd)
	look.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if look.group == "" {
			return &usageError{fmt.Errorf("say in which group with --group; 'idlebeacon groups' lists them")}
		}
		return r.changedDevice(func(c *client.Client) (api.Device, error) {
			return c.CreateDevice(cmd.Context(), api.NewDevice{ID: args[0], DeviceUpdate: look.update(cmd)})
		}, "made")
	}
	return cmd
}

// changedDevice changes a device, and says so.
func (r *remote) changedDevice(change func(c *client.Client) (api.Device, error), what string) error {
	return r.with(func(c *client.Client) error {
		d, err := change(c)
		if err != nil {
			return err
		}
		if r.json {
			return printJSON(d)
		}
		fmt.Printf("The device %s was %s.\n", d.ID, what)
		return nil
	})
}

func devicesChangeCommand() *cobra.Command {
	var r remote
	var look deviceLook
	cmd := &cobra.Command{
		Use: "change DEVICE", Short: "Change the name, group, looks or properties of a device", Args: exactly(1),
		Example: "  idlebeacon devices change WB-07 --name \"Storm Tern\" --colour \"#0b6e99\"",
	}
	r.flags(cmd)
	look.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.changedDevice(func(c *client.Client) (api.Device, error) {
			return c.UpdateDevice(cmd.Context(), args[0], look.update(cmd))
		}, "changed")
	}
	return cmd
}

func devicesPauseCommand(pause bool) *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "pause DEVICE", Short: "Let nobody see where a device is, and keep nothing meanwhile", Args: exactly(1),
		Example: "  idlebeacon devices pause WB-07 --key @wb-07.key",
	}
	what := "paused: nobody sees where it is, and nothing is kept until 'idlebeacon devices resume'"
	if !pause {
		cmd.Use, cmd.Short, what = "resume DEVICE", "Let others see again where a device is", "resumed"
		cmd.Example = "  idlebeacon devices resume WB-07 --key @wb-07.key"
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.changedDevice(func(c *client.Client) (api.Device, error) {
			return c.UpdateDevice(cmd.Context(), args[0], api.DeviceUpdate{Paused: &pause})
		}, what)
	}
	return cmd
}

func devicesRemoveCommand() *cobra.Command {
	var r remote
	var yes bool
	cmd := &cobra.Command{
		Use: "remove DEVICE", Short: "Take out a device with all its positions, for good", Args: exactly(1),
		Example: "  idlebeacon devices remove WB-99 --yes",
	}
	r.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !yes {
			return &usageError{fmt.Errorf("this takes out the device %s with all its positions, for good; add --yes to do so",
				args[0])}
		}
		return r.with(func(c *client.Client) error {
			if err := c.DeleteDevice(cmd.Context(), args[0]); err != nil {
				return err
			}
			if !r.json {
				fmt.Printf("The device %s is gone.\n", args[0])
			}
			return nil
		})
	}
	return cmd
}

func devicesNearCommand() *cobra.Command {
	var r remote
	var o client.NearDevicesOptions
	cmd := &cobra.Command{
		Use: "near", Short: "Show the devices nearest to a position, a device or a place", Args: exactly(0),
		Example: "  idlebeacon devices near --device WB-07 --group workboats\n" +
			"  idlebeacon devices near --place brindlemere/M00004 --radius 5000",
	}
	r.flags(cmd)
	chooseDevices(cmd, &o.DeviceSelection)
	originFlags(cmd, &o.Origin)
	cmd.Flags().Float64Var(&o.Radius, "radius", 0, "furthest distance in metres (default: the whole Earth)")
	cmd.Flags().IntVar(&o.Limit, "limit", 10, "most devices to show")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if err := checkOrigin(cmd, &o.Origin); err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			near, err := c.NearDevices(cmd.Context(), o)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(near)
			}
			if len(near.Devices) == 0 {
				fmt.Println("There are no devices that near. Try a larger --radius.")
				return nil
			}
			t := newTable("Distance", "Bearing", "Device", "Name", "Group", "State", "Last heard")
			numeric(t, 1, 2)
			for _, d := range near.Devices {
				t.AppendRow(table.Row{distance(d.Distance), fmt.Sprintf("%.1f°", d.Bearing), d.ID, short(d.Name, 28), d.Group,
					d.State, agoInWords(d.Position.Timestamp)})
			}
			t.Render()
			return nil
		})
	}
	return cmd
}

func devicesAtCommand() *cobra.Command {
	var r remote
	var groups []string
	cmd := &cobra.Command{
		Use: "at TIME", Short: "Show where devices were at a moment", Args: exactly(1),
		Long: `Show where devices were at a moment: a time such as 2026-04-12T06:30:00Z, or
how long ago, such as 90m. Of each device it is the newest position that is no
newer; nothing is made up between two positions.`,
		Example: "  idlebeacon devices at 10m --group workboats",
	}
	r.flags(cmd)
	cmd.Flags().StringSliceVar(&groups, "group", nil, "only devices of these groups, separated by commas")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		at, err := momentOf(args[0])
		if err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			past, err := c.DevicesAt(cmd.Context(), at, groups)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(past)
			}
			if len(past.Devices) == 0 {
				fmt.Println("No device had said where it is, in the week before.")
				return nil
			}
			t := newTable("Device", "Name", "Group", "Heard before", "Speed", "Latitude", "Longitude")
			numeric(t, 4, 5, 6, 7)
			for _, d := range past.Devices {
				before := past.Time.Sub(d.Position.Timestamp).Round(time.Second).String()
				if d.Silent {
					before += ", silent"
				}
				t.AppendRow(table.Row{d.ID, short(d.Name, 28), d.Group, before, speedOf(d.Position.Speed),
					degrees(d.Position.Latitude), degrees(d.Position.Longitude)})
			}
			t.Render()
			if past.More {
				fmt.Println("There are more devices; choose some with --group.")
			}
			return nil
		})
	}
	return cmd
}

// momentOf reads a time, or how long ago one was.
func momentOf(text string) (time.Time, error) {
	if length, err := time.ParseDuration(text); err == nil && length >= 0 {
		return time.Now().Add(-length), nil
	}
	for _, layout := range []string{time.RFC3339, time.DateTime, time.DateOnly} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, &usageError{fmt.Errorf("%q is no time: want one such as 2026-04-12T06:30:00Z, or how long ago, "+
		"such as 90m", text)}
}

package main

import (
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func groupsCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "groups", Short: "List the groups of devices; make, change or remove one", Args: exactly(0),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			groups, err := c.Groups(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(groups)
			}
			if len(groups.Groups) == 0 {
				fmt.Println("There is no group yet. Make one with 'idlebeacon groups add ID'; the first report makes one, too.")
				return nil
			}
			t := newTable("Group", "Title", "Guests", "Moving", "Still", "Silent", "Unheard", "Paused", "Kept for")
			numeric(t, 4, 5, 6, 7, 8)
			for _, g := range groups.Groups {
				kept := "as the service says"
				if g.KeepDays != nil {
					if kept = count(*g.KeepDays, "day", "days"); *g.KeepDays == 0 {
						kept = "good"
					}
				}
				t.AppendRow(table.Row{
					g.ID, short(g.Title, 32), g.Guests, g.Devices["moving"], g.Devices["still"], g.Devices["silent"],
					g.Devices["unheard"], g.Devices["paused"], kept,
				})
			}
			t.Render()
			return nil
		})
	}
	cmd.AddCommand(groupsAddCommand(), groupsChangeCommand(), groupsRemoveCommand())
	return cmd
}

// groupOptions are the options that say what a group is like.
type groupOptions struct {
	title, description, icon, colour, guests, keepDays string
	origins                                            []string
	settings                                           api.GroupSettings
}

func (o *groupOptions) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.title, "title", "", "what people call it")
	f.StringVar(&o.description, "description", "", "what it is for")
	f.StringVar(&o.icon, "icon", "", "the name of an icon, for devices that have none")
	f.StringVar(&o.colour, "colour", "", "a colour such as #0b6e99, for devices that have none")
	f.StringVar(&o.guests, "guests", "", "what guests may: nothing or read")
	f.StringSliceVar(&o.origins, "guest-origins", nil, "origins of web pages from which guests may, or * for all")
	f.StringVar(&o.keepDays, "keep-days", "", "for how many days positions are kept; 0 for good, default for what the "+
		"service keeps")
	f.Float64Var(&o.settings.MovingFrom, "moving-from", 0, "metres per second from which on a still device moves")
	f.Float64Var(&o.settings.StillBelow, "still-below", 0, "metres per second below which a moving device is still")
	f.Float64Var(&o.settings.SilentAfter, "silent-after", 0, "seconds without a position after which a device is silent")
	f.Float64Var(&o.settings.Fastest, "fastest", 0, "metres per second; what is faster is a jump")
	f.Float64Var(&o.settings.StopFrom, "stop-from", 0, "seconds of being still that make a stop")
}

// update returns what options say, beside the settings that a group has.
func (o *groupOptions) update(cmd *cobra.Command, has api.GroupSettings) (u api.GroupUpdate, err error) {
	changed := cmd.Flags().Changed
	for name, m := range map[string]struct {
		from *string
		to   **string
	}{
		"title": {&o.title, &u.Title}, "description": {&o.description, &u.Description}, "icon": {&o.icon, &u.Icon},
		"colour": {&o.colour, &u.Colour}, "guests": {&o.guests, &u.Guests},
	} {
		if changed(name) {
			*m.to = m.from
		}
	}
	if changed("guest-origins") {
		u.GuestOrigins = &o.origins
	}
	for name, m := range map[string]struct{ from, to *float64 }{
		"moving-from": {&o.settings.MovingFrom, &has.MovingFrom}, "still-below": {&o.settings.StillBelow, &has.StillBelow},
		"silent-after": {&o.settings.SilentAfter, &has.SilentAfter}, "fastest": {&o.settings.Fastest, &has.Fastest},
		"stop-from": {&o.settings.StopFrom, &has.StopFrom},
	} {
		if changed(name) {
			*m.to = *m.from
			u.Settings = &has
		}
	}
	switch o.keepDays {
	case "":
	case "default":
		u.KeepDays = json.RawMessage("null")
	default:
		if _, err := strconv.Atoi(o.keepDays); err != nil {
			return u, &usageError{fmt.Errorf("--keep-days %s: want a number of days, or default", o.keepDays)}
		}
		u.KeepDays = json.RawMessage(o.keepDays)
	}
	return u, nil
}

func groupsAddCommand() *cobra.Command {
	var r remote
	var o groupOptions
	cmd := &cobra.Command{
		Use: "add ID", Short: "Make a group of devices", Args: exactly(1),
		Example: "  idlebeacon groups add couriers --title Couriers --icon bike --silent-after 120",
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		update, err := o.update(cmd, api.GroupSettings{})
		if err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			g, err := c.CreateGroup(cmd.Context(), api.NewGroup{ID: args[0], GroupUpdate: update})
			return r.changedGroup(&g, "made", err)
		})
	}
	return cmd
}

func (r *remote) changedGroup(g *api.Group, what string, err error) error {
	switch {
	case err != nil:
		return err
	case r.json:
		return printJSON(g)
	}
	fmt.Printf("The group %s was %s.\n", g.ID, what)
	return nil
}

func groupsChangeCommand() *cobra.Command {
	var r remote
	var o groupOptions
	cmd := &cobra.Command{
		Use: "change ID", Short: "Change a group of devices", Args: exactly(1),
		Example: "  idlebeacon groups change workboats --guests read --keep-days 30",
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			has, err := groupByID(cmd, c, args[0])
			if err != nil {
				return err
			}
			update, err := o.update(cmd, has.Settings)
			if err != nil {
				return err
			}
			g, err := c.UpdateGroup(cmd.Context(), args[0], update)
			return r.changedGroup(&g, "changed", err)
		})
	}
	return cmd
}

// groupByID returns a group; one that is not there is for the service to tell.
func groupByID(cmd *cobra.Command, c *client.Client, id string) (api.Group, error) {
	groups, err := c.Groups(cmd.Context())
	for _, g := range groups.Groups {
		if g.ID == id {
			return g, nil
		}
	}
	return api.Group{}, err
}

func groupsRemoveCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "remove ID", Short: "Take out a group without devices", Args: exactly(1)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			if err := c.DeleteGroup(cmd.Context(), args[0]); err != nil {
				return err
			}
			if !r.json {
				fmt.Printf("The group %s is gone.\n", args[0])
			}
			return nil
		})
	}
	return cmd
}

package main

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"idlebeacon/api"
	"idlebeacon/client"
)

func watchesCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "watches", Short: "List the watches; make, try, change or remove one", Args: exactly(0),
		Long: `List the watches. A watch notices devices: when they enter an area or leave it,
stay there for long, are too fast, are silent, or come near each other. What was
noticed is shown by 'idlebeacon notices'.`,
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			all, err := c.Watches(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(all)
			}
			if len(all.Watches) == 0 {
				fmt.Println("There is no watch yet. Make one with 'idlebeacon watches add ID'.")
				return nil
			}
			t := newTable("Watch", "Title", "Notices", "Where", "Devices", "")
			for i := range all.Watches {
				w := &all.Watches[i]
				t.AppendRow(table.Row{
					w.ID, short(w.Title, 36), noticesInWords(&w.Rule), whereInWords(w.Rule.Where), whoInWords(&w.Rule), watchState(w),
				})
			}
			t.Render()
			return nil
		})
	}
	cmd.AddCommand(watchesAddCommand(), watchesChangeCommand(), watchesTryCommand(), watchesRemoveCommand())
	return cmd
}

func watchState(w *api.Watch) string {
	switch {
	case w.Problem != "":
		return "does not watch: " + w.Problem
	case w.Off:
		return "off"
	}
	return ""
}

// noticesInWords says what a rule notices.
func noticesInWords(r *api.WatchRule) string {
	var all []string
	for _, k := range r.Notices {
		switch k {
		case "stayed":
			k = "stayed " + seconds(r.StayedFor)
		case "fast":
			k = fmt.Sprintf("faster than %g m/s", r.FasterThan)
		case "silent":
			k = "silent " + seconds(r.SilentFor)
		case "near":
			k = "within " + distance(r.NearerThan)
		}
		all = append(all, k)
	}
	return strings.Join(all, ", ")
}

func whereInWords(w *api.WatchWhere) string {
	around := ""
	switch {
	case w == nil:
		return "everywhere"
	case w.Device != "":
		around = w.Device
	case w.Item != "":
		if around = w.Collection + "/" + w.Item; w.Radius == 0 {
			return around
		}
	default:
		around = degrees(*w.Latitude) + ", " + degrees(*w.Longitude)
	}
	return fmt.Sprintf("%s around %s", distance(w.Radius), around)
}

func whoInWords(r *api.WatchRule) string {
	switch {
	case r.Devices != nil:
		return short(strings.Join(r.Devices, ", "), 32)
	case r.Groups != nil:
		return short("of "+strings.Join(r.Groups, ", "), 32)
	}
	return "all"
}

// ruleOptions are the options that say what a watch is about.
type ruleOptions struct {
	title, description               string
	entered, left                    bool
	stayed, silent                   time.Duration
	faster, nearer                   float64
	item, place, around, hours, zone string
	lat, lon, radius                 float64
	margin, worst                    float64
	groups, devices, states, days    []string
	filter                           string
	set                              *pflag.FlagSet // of all that says what the rule is
}

func (o *ruleOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.title, "title", "", "what people call it")
	cmd.Flags().StringVar(&o.description, "description", "", "what it is for")
	f := pflag.NewFlagSet("rule", pflag.ContinueOnError)
	o.set = f
	f.BoolVar(&o.entered, "entered", false, "notice who enters")
	f.BoolVar(&o.left, "left", false, "notice who leaves")
	f.DurationVar(&o.stayed, "stayed", 0, "notice who stays for longer than this, such as 10m")
	f.Float64Var(&o.faster, "faster", 0, "notice who is faster than this, in metres per second")
	f.DurationVar(&o.silent, "silent", 0, "notice who says nothing for this long, such as 15m")
	f.Float64Var(&o.nearer, "nearer", 0, "notice who comes nearer to another device than this, in metres")
	f.StringVar(&o.item, "area", "", "where: an area, as the id of its collection, a slash and its own id")
	f.StringVar(&o.place, "place", "", "where: --radius around a place, likewise")
	f.StringVar(&o.around, "around", "", "where: --radius around a device")
	f.Float64Var(&o.lat, "lat", 0, "where: --radius around a position: its latitude")
	f.Float64Var(&o.lon, "lon", 0, "and its longitude")
	f.Float64Var(&o.radius, "radius", 0, "how large the circle is, in metres")
	f.StringSliceVar(&o.groups, "group", nil, "only devices of these groups, separated by commas")
	f.StringSliceVar(&o.devices, "device", nil, "only these devices, separated by commas")
	f.StringSliceVar(&o.states, "state", nil, "only while they do this: moving or still")
	f.StringVar(&o.filter, "filter", "", "only devices whose properties meet this condition, in CQL2 Text")
	f.StringVar(&o.hours, "hours", "", "only at this time of the day, such as 22:00-06:00")
	f.StringSliceVar(&o.days, "days", nil, "with --hours: only when it begins on these days, such as sat,sun")
	f.StringVar(&o.zone, "zone", "", "with --hours: in the time of this zone, such as Europe/Dublin (default: UTC)")
	f.Float64Var(&o.margin, "margin", 10, "how many metres outside a device has to be to have left")
	f.Float64Var(&o.worst, "worst-accuracy", 100, "leave out positions that are less accurate, in metres")
	cmd.Flags().AddFlagSet(f)
}

// rule returns what the options say.
func (o *ruleOptions) rule(cmd *cobra.Command) (r api.WatchRule, err error) {
	changed := cmd.Flags().Changed
	r = api.WatchRule{
		Groups: o.groups, Devices: o.devices, StayedFor: o.stayed.Seconds(), SilentFor: o.silent.Seconds(),
		FasterThan: o.faster, NearerThan: o.nearer, Margin: &o.margin, WorstAccuracy: &o.worst, State: o.states,
		Filter: o.filter,
	}
	for _, m := range []struct {
		is   bool
		kind string
	}{
		{o.entered, "entered"}, {o.left, "left"}, {o.stayed != 0, "stayed"}, {o.faster != 0, "fast"},
		{o.silent != 0, "silent"}, {o.nearer != 0, "near"},
	} {
		if m.is {
			r.Notices = append(r.Notices, m.kind)
		}
	}
	if len(r.Notices) == 0 {
		return r, &usageError{
			fmt.Errorf("say what is to be noticed: --entered, --left, --stayed, --faster, --silent or --nearer"),
		}
	}
	given := 0
	for _, name := range []string{"area", "place", "around", "lat"} {
		if changed(name) {
			given++
		}
	}
	if given > 1 || changed("lat") != changed("lon") {
		return r, &usageError{fmt.Errorf("say where in one way: --area, --place, --around, or --lat and --lon")}
	}
	switch {
	case o.item != "" || o.place != "":
		collection, item, found := strings.Cut(o.item+o.place, "/")
		if !found {
			return r, &usageError{fmt.Errorf("want the id of a collection, a slash and the id of an item, such as waters/sound")}
		}
		r.Where = &api.WatchWhere{Collection: collection, Item: item, Radius: o.radius}
	case o.around != "":
		r.Where = &api.WatchWhere{Device: o.around, Radius: o.radius}
	case changed("lat"):
		r.Where = &api.WatchWhere{Longitude: &o.lon, Latitude: &o.lat, Radius: o.radius}
	case o.radius != 0:
		return r, &usageError{fmt.Errorf("--radius goes with --place, --around, or --lat and --lon")}
	}
	if o.hours != "" {
		from, to, found := strings.Cut(o.hours, "-")
		if !found {
			return r, &usageError{fmt.Errorf("--hours %s: want such as 22:00-06:00", o.hours)}
		}
		r.Hours = &api.WatchHours{From: from, To: to, Days: o.days, Zone: o.zone}
	} else if o.days != nil || o.zone != "" {
		return r, &usageError{fmt.Errorf("--days and --zone go with --hours")}
	}
	return r, nil
}

func watchesAddCommand() *cobra.Command {
	var r remote
	var o ruleOptions
	cmd := &cobra.Command{
		Use: "add ID", Short: "Make a watch", Args: exactly(1),
		Example: `  idlebeacon watches add sound --title "Boats in the sound" --area waters/gannet-sound --entered --left
  idlebeacon watches add slow --area waters/north-harbour --faster 3 --group workboats
  idlebeacon watches add lost --silent 15m --hours 06:00-20:00
  idlebeacon watches add close --nearer 50 --state moving`,
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		rule, err := o.rule(cmd)
		if err != nil {
			return err
		}
		n := api.NewWatch{
			ID:          args[0],
			WatchUpdate: api.WatchUpdate{Rule: &rule, Title: &o.title, Description: &o.description},
		}
		return r.with(func(c *client.Client) error {
			w, err := c.CreateWatch(cmd.Context(), n)
			return r.changedWatch(&w, "made", err)
		})
	}
	return cmd
}

func (r *remote) changedWatch(w *api.Watch, what string, err error) error {
	switch {
	case err != nil:
		return err
	case r.json:
		return printJSON(w)
	}
	fmt.Printf("The watch %s was %s.\n", w.ID, what)
	return nil
}

func watchesChangeCommand() *cobra.Command {
	var r remote
	var o ruleOptions
	var off, on bool
	cmd := &cobra.Command{
		Use: "change ID", Short: "Change a watch, or turn it off or on", Args: exactly(1),
		Long: `Change a watch. What says what is noticed and where takes the place of all that
was said of it before; the title, and whether it is off, stay as they are.`,
		Example: "  idlebeacon watches change sound --off\n" +
			"  idlebeacon watches change slow --area waters/north-harbour --faster 4",
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.Flags().BoolVar(&off, "off", false, "notice nothing until it is turned on again")
	cmd.Flags().BoolVar(&on, "on", false, "notice things again")
	cmd.MarkFlagsMutuallyExclusive("on", "off")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		changed := cmd.Flags().Changed
		var u api.WatchUpdate
		if changed("title") {
			u.Title = &o.title
		}
		if changed("description") {
			u.Description = &o.description
		}
		if on || off {
			u.Off = &off
		}
		if o.says() {
			rule, err := o.rule(cmd)
			if err != nil {
				return err
			}
			u.Rule = &rule
		}
		if u == (api.WatchUpdate{}) {
			return &usageError{fmt.Errorf("say what is to change; see --help")}
		}
		return r.with(func(c *client.Client) error {
			w, err := c.UpdateWatch(cmd.Context(), args[0], u)
			return r.changedWatch(&w, "changed", err)
		})
	}
	return cmd
}

// says reports whether the options say anything of a rule.
func (o *ruleOptions) says() (says bool) {
	o.set.VisitAll(func(f *pflag.Flag) { says = says || f.Changed })
	return says
}

func watchesTryCommand() *cobra.Command {
	var r remote
	var o ruleOptions
	var since, until string
	cmd := &cobra.Command{
		Use: "try [ID]", Short: "Show what a watch would have noticed", Args: arguments(0, 1),
		Long: `Show what a watch, or what one with the given options, would have noticed of the
positions that are kept. Nothing is kept of that.`,
		Example: "  idlebeacon watches try sound --since 24h\n  idlebeacon watches try --nearer 50 --since 1h",
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.Flags().StringVar(&since, "since", "6h", "since when: how long ago, such as 6h, a date or a time")
	cmd.Flags().StringVar(&until, "until", "", "until when, likewise (default: now)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var ask api.WatchTrial
		from, to, err := spanOf(since, until)
		if err != nil {
			return err
		}
		if ask.From = from; !to.IsZero() {
			ask.To = &to
		}
		if len(args) == 0 {
			if ask.Rule, err = o.rule(cmd); err != nil {
				return err
			}
		} else if o.says() {
			return &usageError{fmt.Errorf("name a watch, or say what to notice, but not both")}
		}
		return r.with(func(c *client.Client) error {
			if len(args) > 0 {
				w, err := c.Watched(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				ask.Rule = w.Rule
			}
			tried, err := c.TryWatch(cmd.Context(), ask)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(tried)
			}
			fmt.Printf("Of %s of %s it would have noticed %s.\n", count(tried.Positions, "position", "positions"),
				count(tried.Devices, "device", "devices"), count(len(tried.Notices), "thing", "things"))
			if tried.More {
				fmt.Println("There would have been more; these are the first.")
			}
			printNotices(tried.Notices)
			return nil
		})
	}
	return cmd
}

func watchesRemoveCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "remove ID", Short: "Take out a watch; what it noticed stays", Args: exactly(1),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			if err := c.DeleteWatch(cmd.Context(), args[0]); err != nil {
				return err
			}
			if !r.json {
				fmt.Printf("The watch %s is gone. What it noticed stays.\n", args[0])
			}
			return nil
		})
	}
	return cmd
}

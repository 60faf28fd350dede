package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/daemon"
)

func keysCommand() *cobra.Command {
	var r remote
	var all bool
	cmd := &cobra.Command{Use: "keys", Short: "List the access keys; make, change or revoke one", Args: exactly(0)}
	r.flags(cmd)
	cmd.Flags().BoolVar(&all, "all", false, "list those too that were revoked or have expired")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			keys, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(map[string]any{"keys": keys})
			}
			t := newTable("Key", "Name", "What it can do", "Last used", "From", "30 days", "State")
			numeric(t, 6)
			left := 0
			for i := range keys {
				k := &keys[i]
				if k.State != "live" && !all {
					left++
					continue
				}
				t.AppendRow(table.Row{
					k.ID, short(k.Name, 30), short(strings.TrimSuffix(k.Can, "."), 64), ago(k.UsedAt), k.UsedFrom,
					requests(k.Days), k.State,
				})
			}
			t.Render()
			if left > 0 {
				fmt.Printf("%s not shown: revoked or expired. --all shows them.\n", count(left, "key is", "keys are"))
			}
			return nil
		})
	}
	cmd.AddCommand(keysAddCommand(), keysShowCommand(), keysChangeCommand(), keysRevokeCommand(), keysOwnerCommand())
	return cmd
}

func requests(days []int64) (sum int64) {
	for _, n := range days {
		sum += n
	}
	return sum
}

// ago says how long ago something was.
func ago(at *time.Time) string {
	if at == nil {
		return "never"
	}
	switch since := time.Since(*at); {
	case since < time.Minute:
		return "just now"
	case since < time.Hour:
		return count(int(since.Minutes()), "minute ago", "minutes ago")
	case since < 48*time.Hour:
		return count(int(since.Hours()), "hour ago", "hours ago")
	default:
		return at.Local().Format("2006-01-02")
	}
}

// keyOptions are the options that say what a key is to be like.
type keyOptions struct {
	role    string
	limits  api.Limits
	expires string
}

func (o *keyOptions) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	var roles []string
	for _, role := range policy.Roles {
		roles = append(roles, string(role))
	}
	flags.StringVar(&o.role, "role", "", "what the key can do: "+strings.Join(roles, ", "))
	flags.StringSliceVar(&o.limits.Collections, "collections", nil, "ids of the only collections that it is for")
	flags.StringSliceVar(&o.limits.Groups, "groups", nil, "ids of the only groups of devices that it is for")
	flags.StringSliceVar(&o.limits.Devices, "devices", nil, "ids of the only devices that it is for")
	flags.StringSliceVar(&o.limits.Origins, "origins", nil, "origins of the only web pages that may use it, such as "+
		"https://app.example, or * for all")
	flags.BoolVar(&o.limits.Own, "own", false, "of items it may only change those that it made")
	flags.IntVar(&o.limits.PerMinute, "per-minute", 0, "the most requests a minute; 0 for no limit")
	flags.StringVar(&o.expires, "expires", "", "when it ends: a date, a time, or how long from now, such as 720h; never "+
		"for no end")
}

// set changes limits as far as options say something about them. A list of nothing but - is
// one that limits to nothing, and of nothing but all is one that does not limit.
func (o *keyOptions) set(flags *pflag.FlagSet, limits *api.Limits) (changed bool) {
	for _, list := range []struct {
		name string
		from []string
		to   *[]string
	}{
		{"collections", o.limits.Collections, &limits.Collections}, {"groups", o.limits.Groups, &limits.Groups},
		{"devices", o.limits.Devices, &limits.Devices}, {"origins", o.limits.Origins, &limits.Origins},
	} {
		if !flags.Changed(list.name) {
			continue
		}
		changed = true
		switch {
		case len(list.from) == 1 && list.from[0] == "-":
			*list.to = []string{}
		case len(list.from) == 1 && list.from[0] == "all":
			*list.to = nil
		default:
			*list.to = list.from
		}
	}
	if flags.Changed("own") {
		limits.Own, changed = o.limits.Own, true
	}
	if flags.Changed("per-minute") {
		limits.PerMinute, changed = o.limits.PerMinute, true
	}
	return changed
}

// until returns when a key is to end; nil for never.
func (o *keyOptions) until() (*time.Time, error) {
	if o.expires == "" || o.expires == "never" {
		return nil, nil
	}
	if length, err := time.ParseDuration(o.expires); err == nil {
		at := time.Now().Add(length)
		return &at, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateTime, time.DateOnly} {
		if at, err := time.ParseInLocation(layout, o.expires, time.Local); err == nil {
			return &at, nil
		}
	}
	return nil, &usageError{fmt.Errorf("--expires %s: want a date such as 2027-04-01, a time such as "+
		"2027-04-01T12:00:00Z, or how long from now, such as 720h", o.expires)}
}

func keysAddCommand() *cobra.Command {
	var r remote
	var o keyOptions
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a key, and print its secret once",
		Long: `Make a key, and print its secret. That is the only time: the service keeps
a hash of it. The secret is the only thing on standard output.`,
		Args: exactly(1),
		Example: `  idlebeacon keys add "Harbour kiosk" --role reader --collections brindlemere
  idlebeacon keys add "Trust's app" --role reader --origins https://app.example --per-minute 600`,
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if o.role == "" {
			return &usageError{errors.New("say what the key can do with --role")}
		}
		n := api.NewKey{Name: args[0], Role: o.role, Limits: &api.Limits{}}
		o.set(cmd.Flags(), n.Limits)
		var err error
		if n.ExpiresAt, err = o.until(); err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			made, err := c.MakeKey(cmd.Context(), n)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(made)
			}
			fmt.Fprintf(os.Stderr, "Made key %s, %q. %s\nKeep its secret: it is shown this once.\n", made.ID, made.Name,
				made.Can)
			fmt.Println(made.Secret)
			return nil
		})
	}
	return cmd
}

// keyBy returns the key with an id or, if there is just one of them, with a name.
func keyBy(ctx context.Context, c *client.Client, text string) (api.Key, error) {
	found, err := c.Key(ctx, text)
	if !client.IsNotFound(err) {
		return found, err
	}
	all, listing := c.Keys(ctx)
	if listing != nil {
		return found, listing
	}
	var named []api.Key
	for _, k := range all {
		if k.Name == text && k.State == "live" {
			named = append(named, k)
		}
	}
	switch len(named) {
	case 0:
		return found, err
	case 1:
		return named[0], nil
	}
	return found, &usageError{fmt.Errorf("there are %d keys named %q; say which by its id", len(named), text)}
}

func keysShowCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "show KEY", Short: "Show a key, by its id or name, and how it is used", Args: exactly(1)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			k, err := keyBy(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			return r.printKey(&k)
		})
	}
	return cmd
}

func (r *remote) printKey(k *api.Key) error {
	if r.json {
		return printJSON(k)
	}
	fmt.Printf("%s  %q, which ends with ...%s, is %s\n%s\n", k.ID, k.Name, k.Hint, k.State, k.Can)
	by := k.MadeBy
	if by == "" {
		by = "the service"
	}
	fmt.Printf("Made %s by %s. Last used: %s", k.CreatedAt.Local().Format("2006-01-02 15:04"), by, ago(k.UsedAt))
	if k.UsedFrom != "" {
		fmt.Printf(", from %s", k.UsedFrom)
	}
	sum := requests(k.Days)
	fmt.Printf(". Requests in the last thirty days: %d\n", sum)
	if sum > 0 {
		fmt.Println(plot(k.Days))
	}
	return nil
}

// plot draws numbers as bars of text, the greatest as high as a line.
func plot(numbers []int64) string {
	bars := []rune(" ▁▂▃▄▅▆▇█")
	most := int64(1)
	for _, n := range numbers {
		most = max(most, n)
	}
	var b strings.Builder
	for _, n := range numbers {
		step := (n*int64(len(bars)-1) + most - 1) / most
		b.WriteRune(bars[step])
	}
	return b.String()
}

func keysChangeCommand() *cobra.Command {
	var r remote
	var o keyOptions
	var name string
	cmd := &cobra.Command{
		Use:   "change KEY",
		Short: "Change what a key can do; it acts at once",
		Long: `Change what a key can do, by its id or name. Only what the options name
changes. A list of all limits no more, and one of - limits to none.`,
		Args: exactly(1),
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.Flags().StringVar(&name, "name", "", "another name")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		until, err := o.until()
		if err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			k, err := keyBy(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			var u api.KeyUpdate
			if name != "" {
				u.Name = &name
			}
			if o.role != "" {
				u.Role = &o.role
			}
			if o.set(cmd.Flags(), &k.Limits) {
				u.Limits = &k.Limits
			}
			if o.expires != "" {
				if u.ExpiresAt, err = json.Marshal(until); err != nil {
					return err
				}
			}
			if u.Name == nil && u.Role == nil && u.Limits == nil && u.ExpiresAt == nil {
				return &usageError{errors.New("say what to change, with an option")}
			}
			if k, err = c.ChangeKey(cmd.Context(), k.ID, u); err != nil {
				return err
			}
			return r.printKey(&k)
		})
	}
	return cmd
}

func keysRevokeCommand() *cobra.Command {
	var r remote
	var yes bool
	cmd := &cobra.Command{Use: "revoke KEY", Short: "End a key, by its id or name, at once and for good", Args: exactly(1)}
	r.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really revoke it")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			k, err := keyBy(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if !yes {
				return &usageError{fmt.Errorf("this ends key %s, %q, last used %s, for good; add --yes to do so", k.ID,
					k.Name, ago(k.UsedAt))}
			}
			if k, err = c.RevokeKey(cmd.Context(), k.ID); err != nil {
				return err
			}
			if r.json {
				return printJSON(k)
			}
			fmt.Printf("Revoked key %s, %q.\n", k.ID, k.Name)
			return nil
		})
	}
	return cmd
}

func keysOwnerCommand() *cobra.Command {
	var config daemon.Config
	cmd := &cobra.Command{
		Use:   "new-owner",
		Short: "Make an owner key from the data directory, when all are lost",
		Long: `Make an owner key without one, from the data directory of a service that
does not run, or from a database of your own (--dsn). It is written to the file
owner.key in the data directory, in the place of one that is there.`,
		Args: exactly(0),
	}
	cmd.Flags().StringVar(&config.Data, "data", defaultData, "data directory of the service")
	cmd.Flags().StringVar(&config.DSN, "dsn", "", "PostgreSQL connection string, if the service has one")
	cmd.Flags().StringVar(&config.Schema, "schema", "", "schema of the service's tables, if it has one")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
		path, err := daemon.NewOwnerKey(cmd.Context(), config, log)
		if err != nil {
			return err
		}
		fmt.Printf("Made an owner key. It is in %s.\n", path)
		return nil
	}
	return cmd
}

func whoamiCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "whoami", Short: "Say who the service takes one for, and what one may", Args: exactly(0)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			s, err := c.Session(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(s)
			}
			if s.Kind == string(policy.Guest) {
				fmt.Printf("A guest of %s, without a key.\n%s\n", r.called.URL, s.Can)
				return nil
			}
			fmt.Printf("%s (%s), %s at %s. The key is %s.\n%s\n", s.Name, s.ID, s.Role, r.called.URL, r.called.keyFrom, s.Can)
			return nil
		})
	}
	return cmd
}

func signInCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use:   "sign-in",
		Short: "Print an address that signs its reader in to the console, once",
		Args:  exactly(0),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			code, err := c.SignInCode(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(code)
			}
			fmt.Println(code.Href)
			return nil
		})
	}
	return cmd
}

package main

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/hookstub"
)

func hooksCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "hooks", Short: "List the addresses that are told of notices and changes; make or change one", Args: exactly(0),
		Long: `List the hooks: addresses that are sent what watches notice, and the changes of
collections. Messages are signed as Standard Webhooks says, and sent again for a
day if they are not taken.`,
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			all, err := c.Hooks(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(all)
			}
			if len(all.Hooks) == 0 {
				fmt.Println("There is no hook yet. Make one with 'idlebeacon hooks add ID URL'.")
				return nil
			}
			t := newTable("Hook", "Address", "Told of", "Waiting", "Given up", "")
			numeric(t, 4, 5)
			for i := range all.Hooks {
				h := &all.Hooks[i]
				state := ""
				if h.Off {
					state = "off"
				}
				t.AppendRow(table.Row{h.ID, short(h.URL, 48), short(toldOf(h), 48), h.Waiting, h.Dead, state})
			}
			t.Render()
			return nil
		})
	}
	cmd.AddCommand(
		hooksAddCommand(), hooksChangeCommand(), hooksMessagesCommand(), hooksAgainCommand(), hooksRemoveCommand(),
	)
	return cmd
}

func toldOf(h *api.Hook) string {
	var all []string
	if h.Notices {
		what := "notices"
		for _, list := range [][]string{h.Kinds, h.Watches, h.Groups} {
			if list != nil {
				what += " (" + strings.Join(list, ", ") + ")"
			}
		}
		all = append(all, what)
	}
	if len(h.Collections) > 0 {
		all = append(all, "changes of "+strings.Join(h.Collections, ", "))
	}
	return strings.Join(all, "; ")
}

// hookOptions are the options that say what a hook is told of.
type hookOptions struct {
	description                         string
	notices                             bool
	groups, watches, kinds, collections []string
}

func (o *hookOptions) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.description, "description", "", "whose it is, and what for")
	f.BoolVar(&o.notices, "notices", false, "tell it what watches notice")
	f.StringSliceVar(&o.groups, "group", nil, "with --notices: only about devices of these groups, separated by commas")
	f.StringSliceVar(&o.watches, "watch", nil, "with --notices: only of these watches")
	f.StringSliceVar(&o.kinds, "kind", nil, "with --notices: only of these kinds")
	f.StringSliceVar(&o.collections, "changes", nil, "tell it of the changes of these collections, separated by commas")
}

func (o *hookOptions) update(cmd *cobra.Command) (u api.HookUpdate) {
	changed := cmd.Flags().Changed
	if changed("description") {
		u.Description = &o.description
	}
	if changed("notices") {
		u.Notices = &o.notices
	}
	for name, m := range map[string]struct {
		from *[]string
		to   **[]string
	}{
		"group": {&o.groups, &u.Groups}, "watch": {&o.watches, &u.Watches}, "kind": {&o.kinds, &u.Kinds},
		"changes": {&o.collections, &u.Collections},
	} {
		if changed(name) {
			*m.to = m.from
		}
	}
	return u
}

func hooksAddCommand() *cobra.Command {
	var r remote
	var o hookOptions
	cmd := &cobra.Command{
		Use: "add ID URL", Short: "Make a hook, and print its secret", Args: exactly(2),
		Example: `  idlebeacon hooks add office https://office.example/told --notices
  idlebeacon hooks add copy https://copy.example/told --changes brindlemere`,
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		n := api.NewHook{ID: args[0], HookUpdate: o.update(cmd)}
		n.URL = &args[1]
		return r.with(func(c *client.Client) error {
			h, err := c.CreateHook(cmd.Context(), n)
			return r.changedHook(&h, "made", err)
		})
	}
	return cmd
}

func (r *remote) changedHook(h *api.Hook, what string, err error) error {
	switch {
	case err != nil:
		return err
	case r.json:
		return printJSON(h)
	}
	fmt.Printf("The hook %s was %s.\n", h.ID, what)
	if h.Secret != "" {
		fmt.Printf("Its messages are signed with this secret, which is not shown again:\n%s\n", h.Secret)
	}
	return nil
}

func hooksChangeCommand() *cobra.Command {
	var r remote
	var o hookOptions
	var address string
	var off, on, secret bool
	cmd := &cobra.Command{
		Use: "change ID", Short: "Change a hook, turn it off or on, or give it a new secret", Args: exactly(1),
		Example: "  idlebeacon hooks change office --kind silent\n  idlebeacon hooks change office --new-secret",
	}
	r.flags(cmd)
	o.flags(cmd)
	cmd.Flags().StringVar(&address, "url", "", "where messages are sent")
	cmd.Flags().BoolVar(&off, "off", false, "send nothing; what is noticed meanwhile is not told later")
	cmd.Flags().BoolVar(&on, "on", false, "send again")
	cmd.Flags().BoolVar(&secret, "new-secret", false, "sign with another secret from now on, and print it")
	cmd.MarkFlagsMutuallyExclusive("on", "off")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		u := o.update(cmd)
		u.NewSecret = secret
		if address != "" {
			u.URL = &address
		}
		if on || off {
			u.Off = &off
		}
		if u == (api.HookUpdate{}) {
			return &usageError{fmt.Errorf("say what is to change; see --help")}
		}
		return r.with(func(c *client.Client) error {
			h, err := c.UpdateHook(cmd.Context(), args[0], u)
			return r.changedHook(&h, "changed", err)
		})
	}
	return cmd
}

func hooksMessagesCommand() *cobra.Command {
	var r remote
	var state string
	cmd := &cobra.Command{
		Use: "messages ID", Short: "Show the messages to a hook, and what was answered", Args: exactly(1),
		Example: "  idlebeacon hooks messages office --state dead",
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&state, "state", "", "only those: waiting, delivered or dead")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			d, err := c.Deliveries(cmd.Context(), args[0], state, 0)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(d)
			}
			if len(d.Deliveries) == 0 {
				fmt.Println("There is no such message.")
				return nil
			}
			t := newTable("Number", "About", "Made", "State", "Attempts", "Problem")
			numeric(t, 1, 5)
			for _, m := range d.Deliveries {
				about := fmt.Sprintf("notice %d", m.Notice)
				if m.Change != 0 {
					about = fmt.Sprintf("change %d", m.Change)
				}
				t.AppendRow(table.Row{m.Number, about, clockTime(m.MadeAt), m.State, m.Attempts, short(m.Problem, 60)})
			}
			t.Render()
			return nil
		})
	}
	return cmd
}

func hooksAgainCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use: "again ID [NUMBER]", Short: "Send messages again: one, or all that were given up", Args: arguments(1, 2),
		Example: "  idlebeacon hooks again office\n  idlebeacon hooks again office 17",
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		number := int64(0)
		if len(args) > 1 {
			var err error
			if number, err = strconv.ParseInt(args[1], 10, 64); err != nil || number <= 0 {
				return &usageError{fmt.Errorf("%q is no number of a message", args[1])}
			}
		}
		return r.with(func(c *client.Client) error {
			sent, err := c.SendAgain(cmd.Context(), args[0], number)
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(sent)
			}
			are := "are"
			if sent.Messages == 1 {
				are = "is"
			}
			fmt.Printf("%s %s sent again.\n", count(int(sent.Messages), "message", "messages"), are)
			return nil
		})
	}
	return cmd
}

func hooksRemoveCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "remove ID", Short: "Take out a hook with its messages", Args: exactly(1)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			if err := c.DeleteHook(cmd.Context(), args[0]); err != nil {
				return err
			}
			if !r.json {
				fmt.Printf("The hook %s is gone.\n", args[0])
			}
			return nil
		})
	}
	return cmd
}

func hookStubCommand() *cobra.Command {
	var listen, secret string
	var fail int
	cmd := &cobra.Command{
		Use: "hook-stub", Short: "Run a stand-in for an address that is told, to try hooks with", Args: exactly(0),
		Long: `Run a stand-in for whoever is told by a hook. It checks how messages are signed,
and prints them, a line each. It is for trying things out and for tests.`,
		Example: "  idlebeacon hook-stub --secret whsec_...",
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:8472", "address to serve on; port 0 takes a free one")
	cmd.Flags().StringVar(&secret, "secret", "", "that of the hook (default: signatures are not checked)")
	cmd.Flags().IntVar(&fail, "fail", 0, "answer the first so many messages with an error")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		stub, err := hookstub.New(secret, fail, os.Stdout)
		if err != nil {
			return &usageError{fmt.Errorf("--secret: %w", err)}
		}
		var config net.ListenConfig
		listener, err := config.Listen(cmd.Context(), "tcp", listen)
		if err != nil {
			return err
		}
		fmt.Printf("A stand-in receiver, not for use, answers at http://%s\n", listener.Addr())
		return stub.Serve(cmd.Context(), listener)
	}
	return cmd
}

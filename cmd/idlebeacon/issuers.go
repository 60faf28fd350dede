package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/loopback"
	"idlebeacon/internal/issuerstub"
)

func issuersCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{
		Use:   "issuers",
		Short: "List the issuers whose tokens are taken; add, change, remove or try one",
		Args:  exactly(0),
	}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return r.with(func(c *client.Client) error {
			list, err := c.Issuers(cmd.Context())
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(list)
			}
			if len(list.Issuers) == 0 {
				fmt.Println("There are no issuers. Add one with 'idlebeacon issuers add ID --settings FILE'.")
				return nil
			}
			t := newTable("Issuer", "Title", "Its tokens name it", "Keys", "Audience", "Rules", "Signs in")
			numeric(t, 6)
			for i := range list.Issuers {
				s := &list.Issuers[i]
				t.AppendRow(table.Row{
					s.ID, short(s.Title, 30), short(s.Issuer, 48), s.KeysFrom, short(strings.Join(s.Audience, ", "), 30),
					len(s.Rules), yesOrNo(s.ClientID != ""),
				})
			}
			t.Render()
			return nil
		})
	}
	cmd.AddCommand(issuersShowCommand(), issuersSetCommand("add"), issuersSetCommand("change"), issuersRemoveCommand(),
		issuersCheckCommand())
	return cmd
}

func yesOrNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// settingsIn reads settings of an issuer from a file, or standard input if that is "-".
func settingsIn(file string) (s api.IssuerSettings, err error) {
	if file == "" {
		return s, &usageError{errors.New("name the file with its settings with --settings")}
	}
	text, err := readArgument(file)
	if err != nil {
		return s, &usageError{fmt.Errorf("reading the settings: %w", err)}
	}
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&s); err != nil {
		return s, &usageError{fmt.Errorf("the settings in %s: %w", file, err)}
	}
	return s, nil
}

func issuersShowCommand() *cobra.Command {
	var r remote
	cmd := &cobra.Command{Use: "show ID", Short: "Print the settings of an issuer, as a file for change", Args: exactly(1)}
	r.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			i, err := c.Issuer(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(i)
			}
			return printJSON(i.IssuerSettings)
		})
	}
	return cmd
}

// issuersSetCommand returns the command that adds, or changes, an issuer.
func issuersSetCommand(verb string) *cobra.Command {
	var r remote
	var file string
	cmd := &cobra.Command{
		Use:   verb + " ID",
		Short: map[string]string{"add": "Take the tokens of an issuer", "change": "Give an issuer other settings"}[verb],
		Long: `The settings are a JSON file, such as

  {"title": "The Trust's accounts", "issuer": "https://accounts.example",
   "keys_from": "discovery", "audience": ["brindlemere-app"],
   "rules": [{"claim": "groups", "has": "wardens", "role": "editor"},
             {"role": "reader", "collections": ["brindlemere"]}]}

docs/ACCESS.md tells of each member. Try them first: idlebeacon issuers check.`,
		Args: exactly(1),
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&file, "settings", "", "file with the settings, - for standard input")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		settings, err := settingsIn(file)
		if err != nil {
			return err
		}
		return r.with(func(c *client.Client) error {
			var i api.Issuer
			if verb == "add" {
				i, err = c.AddIssuer(cmd.Context(), api.NewIssuer{ID: args[0], IssuerSettings: settings})
			} else {
				i, err = c.ChangeIssuer(cmd.Context(), args[0], settings)
			}
			if err != nil {
				return err
			}
			if r.json {
				return printJSON(i)
			}
			fmt.Printf("Tokens of %s are taken, by %s.\n", i.Issuer, count(len(i.Rules), "rule", "rules"))
			return nil
		})
	}
	return cmd
}

func issuersRemoveCommand() *cobra.Command {
	var r remote
	var yes bool
	cmd := &cobra.Command{Use: "remove ID", Short: "Take the tokens of an issuer no more", Args: exactly(1)}
	r.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "really remove it")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.with(func(c *client.Client) error {
			i, err := c.Issuer(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if !yes {
				return &usageError{fmt.Errorf("the tokens of %s will not be taken any more, and whoever has signed in "+
					"through it is signed out; add --yes to do so", i.Issuer)}
			}
			if err := c.DeleteIssuer(cmd.Context(), args[0]); err != nil {
				return err
			}
			if r.json {
				return printJSON(map[string]string{"removed": args[0]})
			}
			fmt.Printf("Removed issuer %s.\n", args[0])
			return nil
		})
	}
	return cmd
}

func issuersCheckCommand() *cobra.Command {
	var r remote
	var file, token string
	cmd := &cobra.Command{
		Use:   "check [ID]",
		Short: "Try what an issuer, or settings for one, make of a token",
		Long: `Try what the settings of an issuer make of a token: whether it is taken,
which rule decides, and what the person may. Nothing is kept of it.`,
		Args: arguments(0, 1),
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&file, "settings", "", "file with settings to try, - for standard input")
	cmd.Flags().StringVar(&token, "token", "", "token, or @ and a file that has it")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if (file == "") == (len(args) == 0) {
			return &usageError{errors.New("name an issuer, or the file with settings to try with --settings")}
		}
		if name, named := strings.CutPrefix(token, "@"); named {
			text, err := readArgument(name)
			if err != nil {
				return &usageError{fmt.Errorf("reading the token: %w", err)}
			}
			token = strings.TrimSpace(string(text))
		}
		if token == "" {
			return &usageError{errors.New("give a token with --token")}
		}
		return r.with(func(c *client.Client) error {
			trial := api.IssuerTrial{Token: token}
			if file != "" {
				var err error
				if trial.Settings, err = settingsIn(file); err != nil {
					return err
				}
			} else {
				i, err := c.Issuer(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				trial.Settings = i.IssuerSettings
			}
			v, err := c.TryIssuer(cmd.Context(), trial)
			if err != nil {
				return err
			}
			return r.printVerdict(&v)
		})
	}
	return cmd
}

func (r *remote) printVerdict(v *api.IssuerVerdict) error {
	if r.json {
		return printJSON(v)
	}
	if v.Taken {
		fmt.Printf("The token is taken: rule %d decides. %s is %s.\n%s\n", *v.Rule+1, cmp.Or(v.Name, "The person"),
			withArticle(v.Role), v.Can)
	} else {
		fmt.Printf("Not taken: %s.\n", v.Reason)
	}
	if v.Claims != nil {
		fmt.Println("It says:")
		return printJSON(v.Claims)
	}
	return nil
}

func withArticle(noun string) string {
	if strings.ContainsAny(noun[:1], "aeiou") {
		return "an " + noun
	}
	return "a " + noun
}

func issuerStubCommand() *cobra.Command {
	var listen string
	cmd := &cobra.Command{
		Use:   "issuer-stub",
		Short: "Run a stand-in for an issuer, to try signing in with; on this machine only",
		Long: `Run a stand-in for an issuer of tokens. It lets anyone be any of a few
made-up people, without a password, so it answers on this machine only. It is
for trying things out and for tests, never for use.`,
		Args: exactly(0),
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:8471", "address to serve on, of this machine; port 0 takes a "+
		"free one")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		host, _, err := net.SplitHostPort(listen)
		if err != nil || !loopback.Is(host) {
			return &usageError{fmt.Errorf("--listen %s: want an address of this machine, such as 127.0.0.1:8471", listen)}
		}
		var config net.ListenConfig
		listener, err := config.Listen(cmd.Context(), "tcp", listen)
		if err != nil {
			return err
		}
		address := "http://" + listener.Addr().String()
		stub, err := issuerstub.New(address)
		if err != nil {
			return err
		}
		fmt.Printf("A stand-in issuer, not for use, answers at %s\n", address)
		fmt.Printf("Tokens of its people: %s/token-of/maren, and ivo, tilda. Stop it with Ctrl-C.\n", address)
		return stub.Serve(cmd.Context(), listener)
	}
	return cmd
}

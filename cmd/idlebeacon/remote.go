package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

// remote is the options of a command that talks to a service.
type remote struct {
	server, servers string
	key, data, ca   string
	json            bool

	called server // which service was called, and how
}

func (r *remote) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&r.server, "server", "http://"+defaultListen, "URL of the service, or its name in the file of servers")
	flags.StringVar(&r.servers, "servers", "", "file with servers by name, each with its url and key (default: "+
		"idlebeacon/servers.yaml in the user's configuration directory)")
	flags.StringVar(&r.key, "key", "", "access key, or @ and a file that has it (default: the owner key of a service "+
		"on this machine)")
	flags.StringVar(&r.data, "data", "", "data directory of a service on this machine, for its owner key")
	flags.StringVar(&r.ca, "ca", "", "file with certificates to trust beside those of this machine")
	flags.BoolVar(&r.json, "json", false, "print JSON for programs")
}

// explain says what to do about a service that does not answer.
func (r *remote) explain(err error) error {
	var answered *client.Error
	var bad *usageError
	var explained *unreachable
	if errors.As(err, &answered) {
		if more := r.asWhom(answered); more != "" && !strings.HasSuffix(answered.Detail, more) {
			told := *answered
			told.Detail += more
			return &told
		}
		return err
	}
	var calling *url.Error
	if err == nil || errors.As(err, &bad) || errors.As(err, &explained) ||
		errors.Is(err, context.Canceled) || !errors.As(err, &calling) {
		return err
	}
	return &unreachable{
		fmt.Errorf(
			"%w\nIs the service running? Start it with 'idlebeacon serve' or 'idlebeacon demo', or name another "+
				"with --server",
			err,
		),
	}
}

// An unreachable error says already what to do about it.
type unreachable struct{ error }

func (e *unreachable) Unwrap() error { return e.error }

// collection returns the id that was asked for or, without one, that of the only
// collection there is, or the only one that has places.
func (r *remote) collection(ctx context.Context, c *client.Client, asked string) (string, error) {
	return r.collectionWith(ctx, c, asked, func(found *api.Collection) bool { return found.Places > 0 })
}

// collectionWith is collection for the only one that has something.
func (r *remote) collectionWith(
	ctx context.Context,
	c *client.Client,
	asked string,
	has func(*api.Collection) bool,
) (string, error) {
	if asked != "" {
		return asked, nil
	}
	list, err := c.Collections(ctx)
	if err != nil {
		return "", r.explain(err)
	}
	var ids, having []string
	for i := range list.Collections {
		found := &list.Collections[i]
		ids = append(ids, found.ID)
		if has(found) {
			having = append(having, found.ID)
		}
	}
	switch {
	case len(ids) == 0:
		return "", errors.New(
			"the service has no collection yet; import a file with 'idlebeacon import FILE --into COLLECTION'",
		)
	case len(ids) == 1:
		return ids[0], nil
	case len(having) == 1:
		return having[0], nil
	}
	return "", &usageError{fmt.Errorf("say which collection with --collection: there are %s", strings.Join(ids, ", "))}
}

// with runs f with a client, and explains its error.
func (r *remote) with(f func(c *client.Client) error) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	return r.explain(f(c))
}

// on runs f with a client and the id of the collection that was asked for or is meant,
// and explains its error.
func (r *remote) on(cmd *cobra.Command, asked string, f func(c *client.Client, collection string) error) error {
	return r.with(func(c *client.Client) error {
		collection, err := r.collection(cmd.Context(), c, asked)
		if err != nil {
			return err
		}
		return f(c, collection)
	})
}

func printJSON(v any) error {
	encoder := json.NewEncoder(os.Stdout)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// newTable returns a table for people that prints to standard output.
func newTable(columns ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.SetStyle(table.StyleLight)
	t.Style().Options.DrawBorder = false
	t.Style().Options.SeparateColumns = false
	t.Style().Format.Header = text.FormatDefault
	t.Style().Format.Footer = text.FormatDefault
	t.AppendHeader(table.Row(columns))
	return t
}

// numeric puts the columns with the given numbers, from 1, to the right.
func numeric(t table.Writer, columns ...int) {
	var configs []table.ColumnConfig
	for _, n := range columns {
		configs = append(
			configs,
			table.ColumnConfig{
				Number:      n,
				Align:       text.AlignRight,
				AlignHeader: text.AlignRight,
				AlignFooter: text.AlignRight,
			},
		)
	}
	t.SetColumnConfigs(configs)
}

// short cuts text to a width for a column.
func short(s string, width int) string {
	r := []rune(s)
	if len(r) <= width {
		return s
	}
	return string(r[:width-1]) + "…"
}

// count writes a number with the right form of its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return fmt.Sprintf("%d %s", n, one)
	}
	return fmt.Sprintf("%d %s", n, many)
}

func degrees(v float64) string { return fmt.Sprintf("%.6f", v) }

// distance writes metres for people.
func distance(metres float64) string {
	if metres < 10_000 {
		return fmt.Sprintf("%.1f m", metres)
	}
	return fmt.Sprintf("%.2f km", metres/1000)
}

package main

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"idlebeacon/client"
	"idlebeacon/internal/core/formats"
)

// complete offers values for the options and arguments of a command and of those below it.
// What the service knows is asked for.
func complete(cmd *cobra.Command) {
	formatNames := make([]string, len(formats.Formats))
	for i, f := range formats.Formats {
		formatNames[i] = string(f)
	}
	for option, values := range map[string]cobra.CompletionFunc{
		"format": cobra.FixedCompletions(formatNames, cobra.ShellCompDirectiveNoFileComp),
		"fix":    cobra.FixedCompletions(formats.Fixes, cobra.ShellCompDirectiveNoFileComp),
		"into":   completing(collectionIDs), "collection": completing(collectionIDs),
		"category": completing(categoryNames),
	} {
		if cmd.Flags().Lookup(option) != nil {
			_ = cmd.RegisterFlagCompletionFunc(option, values) // it fails only for an option that is not there
		}
	}
	switch cmd.CommandPath() {
	case "idlebeacon icons delete":
		cmd.ValidArgsFunction = completing(iconNames)
	case "idlebeacon collections delete":
		cmd.ValidArgsFunction = completing(collectionIDs)
	}
	for _, below := range cmd.Commands() {
		complete(below)
	}
}

// completing offers what the service of a command knows.
func completing(ask func(context.Context, *cobra.Command, *remote) ([]string, error)) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if settle(cmd.Flags()) != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		r := &remote{}
		for name, to := range map[string]*string{
			"server": &r.server, "servers": &r.servers, "key": &r.key, "data": &r.data, "ca": &r.ca,
		} {
			value, err := cmd.Flags().GetString(name)
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			*to = value
		}
		values, err := ask(ctx, cmd, r)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		return values, cobra.ShellCompDirectiveNoFileComp
	}
}

func collectionIDs(ctx context.Context, _ *cobra.Command, r *remote) (ids []string, err error) {
	err = r.with(func(c *client.Client) error {
		list, err := c.Collections(ctx)
		for _, collection := range list.Collections {
			ids = append(ids, collection.ID)
		}
		return err
	})
	return ids, err
}

func iconNames(ctx context.Context, _ *cobra.Command, r *remote) (names []string, err error) {
	err = r.with(func(c *client.Client) error {
		list, err := c.Icons(ctx)
		for _, icon := range list.Icons {
			names = append(names, icon.Name)
		}
		return err
	})
	return names, err
}

func categoryNames(ctx context.Context, cmd *cobra.Command, r *remote) (names []string, err error) {
	flag := cmd.Flags().Lookup("collection")
	asked := flag.Value.String()
	if several, ok := flag.Value.(pflag.SliceValue); ok { // the categories of the first
		asked = strings.Join(several.GetSlice()[:min(1, len(several.GetSlice()))], "")
	}
	err = r.with(func(c *client.Client) error {
		id, err := r.collection(ctx, c, asked)
		if err != nil {
			return err
		}
		collection, err := c.Collection(ctx, id)
		for _, category := range collection.Categories {
			names = append(names, category.Category)
		}
		return err
	})
	return names, err
}

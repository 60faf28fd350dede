package main

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"idlebeacon/client"
)

// A layered is the options of a command about one collection or several.
type layered struct {
	collections, selects []string
	selection            client.Selection // of one
}

func (l *layered) flags(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&l.collections, "collection", nil, "which collections, separated by commas or one by "+
		"one; "+
		"may be left out if there is only one, or only one with places")
	choiceFlags(cmd, &l.selection)
	cmd.Flags().StringArrayVar(&l.selects, "select", nil, "of several collections, what of one: its id, a full stop, "+
		"and category, name, filter or numbers with a value, such as huts.category=shelter")
}

// only returns the one collection that is named, or "".
func (l *layered) only() string { return strings.Join(l.collections, "") }

// layers returns the layers, or nil if not several collections are named.
func (l *layered) layers() ([]client.Layer, error) {
	switch {
	case len(l.collections) < 2 && len(l.selects) > 0:
		return nil, &usageError{errors.New("--select is for several collections: name them with --collection, " +
			"or use --category, --name and --filter")}
	case len(l.collections) < 2:
		return nil, nil
	case !l.selection.Empty():
		return nil, &usageError{fmt.Errorf("--category, --name and --filter are for one collection: of several, write "+
			"--select %s.name=Lee and the like", l.collections[0])}
	}
	var all []client.Layer
	for _, id := range l.collections {
		all = append(all, client.Layer{Collection: id})
	}
	for _, text := range l.selects {
		if err := selectIn(all, text); err != nil {
			return nil, &usageError{fmt.Errorf("--select %q: %w", text, err)}
		}
	}
	return all, nil
}

// selectIn sets the selection of a layer from a text such as "huts.category=shelter,hut".
func selectIn(layers []client.Layer, text string) error {
	id, rest, _ := strings.Cut(text, ".")
	name, value, found := strings.Cut(rest, "=")
	at := slices.IndexFunc(layers, func(l client.Layer) bool { return l.Collection == id })
	switch {
	case !found:
		return errors.New("want a collection, a full stop, category, name, filter or numbers, an equals sign and a value")
	case at < 0:
		return fmt.Errorf("%q is not one of the collections that are asked for", id)
	}
	switch s := &layers[at]; name {
	case "category":
		s.Categories = strings.Split(value, ",")
	case "name":
		s.Name = value
	case "filter":
		s.Filter = value
	case "numbers":
		s.Numbers = strings.Split(value, ",")
	default:
		return fmt.Errorf("%q is not known: want category, name, filter or numbers", name)
	}
	return nil
}

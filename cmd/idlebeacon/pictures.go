package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"idlebeacon/api"
	"idlebeacon/client"
)

func pictureCommand() *cobra.Command {
	var r remote
	var asked, property string
	var place bool
	cmd := &cobra.Command{
		Use:   "picture ITEM FILE...",
		Short: "Bring pictures and let an item show them",
		Long: `Bring pictures (JPEG, PNG, WebP or GIF) and let an item show them, after those that
it shows already. What the files say beside the pictures is not kept. With
--place the item goes to where the first was taken, if its file says so.`,
		Args: arguments(2, math.MaxInt),
	}
	r.flags(cmd)
	collectionFlag(cmd, &asked)
	cmd.Flags().StringVar(&property, "property", "pictures", "property that has the pictures")
	cmd.Flags().BoolVar(&place, "place", false, "put the item where the first picture was taken")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return r.on(cmd, asked, func(c *client.Client, collection string) error {
			was, tag, err := c.ItemTagged(cmd.Context(), collection, args[0])
			if err != nil {
				return err
			}
			made, err := bringPictures(cmd.Context(), c, collection, args[1:])
			if err != nil {
				return err
			}
			patch, err := picturePatch(&was, property, made, place)
			if err != nil {
				return err
			}
			now, err := c.PatchItem(cmd.Context(), collection, args[0], patch, tag)
			if err != nil {
				return err
			}
			if !r.json {
				tellWhereTaken(made, place)
			}
			return r.printItem(&now, "shows "+count(len(made), "picture more", "pictures more"))
		})
	}
	return cmd
}

func bringPictures(
	ctx context.Context, c *client.Client, collection string, names []string,
) (all []api.Picture, err error) {
	for _, name := range names {
		file, err := readArgument(name)
		if err != nil {
			return nil, &usageError{err}
		}
		made, err := c.AddPicture(ctx, collection, bytes.NewReader(file))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all = append(all, made)
	}
	return all, nil
}

// picturePatch is the merge patch that lets an item show pictures after those that it shows.
func picturePatch(was *api.Item, property string, made []api.Picture, place bool) (json.RawMessage, error) {
	var properties map[string]json.RawMessage
	if err := json.Unmarshal(was.Properties, &properties); err != nil {
		return nil, err
	}
	var shown []string
	var one string
	if raw := properties[property]; json.Unmarshal(raw, &one) == nil && one != "" {
		shown = []string{one}
	} else if len(raw) > 0 && string(raw) != "null" {
		if err := json.Unmarshal(raw, &shown); err != nil {
			return nil, fmt.Errorf("the property %s has something else than pictures; name another with --property", property)
		}
	}
	for _, p := range made {
		shown = append(shown, p.Href)
	}
	patch := map[string]any{"properties": map[string]any{property: shown}}
	if place && made[0].Taken != nil {
		patch["geometry"] = made[0].Taken
	}
	return json.Marshal(patch)
}

// tellWhereTaken tells where pictures were taken, or that nobody knows.
func tellWhereTaken(made []api.Picture, place bool) {
	for i, p := range made {
		switch {
		case p.Taken != nil && !(place && i == 0):
			lon, lat := p.Taken.Coordinates[0], p.Taken.Coordinates[1]
			fmt.Printf("Picture %d was taken at %s, %s.\n", i+1, degrees(lat), degrees(lon))
		case p.Taken == nil && place && i == 0:
			fmt.Println("The file does not say where the picture was taken, so the item stays where it is.")
		}
	}
}

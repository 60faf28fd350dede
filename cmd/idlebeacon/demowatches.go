package main

import (
	"context"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/demo"
)

// makeDemoWatches makes the watches of the demo that are not there yet, around its first harbour and anywhere.
func makeDemoWatches(ctx context.Context, c *client.Client, world *demo.World) error {
	harbour := world.Harbours[0].Name
	inHarbour := &api.WatchWhere{Collection: "waters", Item: "A001"}
	boats := []string{"workboats"}
	for _, w := range []struct {
		id, title string
		rule      api.WatchRule
	}{
		{"first-harbour", harbour + " harbour", api.WatchRule{
			Where: inHarbour, Notices: []string{"entered", "left", "stayed"}, StayedFor: 1200, Groups: boats,
		}},
		{"harbour-speed", "Too fast in " + harbour, api.WatchRule{
			Where: inHarbour, Notices: []string{"fast"}, FasterThan: 3,
		}},
		{"close-boats", "Close boats in " + harbour, api.WatchRule{
			Where: inHarbour, Notices: []string{"near"}, NearerThan: 20, Groups: boats, State: []string{"moving"},
		}},
		{"not-heard-of", "Not heard of for a while", api.WatchRule{Notices: []string{"silent"}, SilentFor: 600}},
	} {
		_, err := c.CreateWatch(ctx, api.NewWatch{ID: w.id, WatchUpdate: api.WatchUpdate{Title: &w.title, Rule: &w.rule}})
		if err != nil && !isThere(err) {
			return err
		}
	}
	return nil
}

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"idlebeacon/api"
	"idlebeacon/client"
)

// demoEditors are who has corrected places of the demo: two editors with keys of their own.
var demoEditors = []demoKey{
	{"office", api.NewKey{Name: "Trust office", Role: "editor", Limits: &ofTheTrust}},
	{"survey", api.NewKey{Name: "Survey crew", Role: "editor", Limits: &ofTheTrust}},
}

var ofTheTrust = api.Limits{Collections: []string{"brindlemere"}}

// A demoKey is a key and the name of the file that it is kept in.
type demoKey struct {
	file string
	key  api.NewKey
}

// makeDemoHistory has the editors correct some moorings, and the office take back what the crew did
// to one, unless an earlier start has done so. The places are as many as before.
func makeDemoHistory(ctx context.Context, as func(key string) (*client.Client, error), data string) error {
	done := filepath.Join(data, "history-made")
	if _, err := os.Stat(done); err == nil {
		return nil
	}
	office, err := as("@" + filepath.Join(data, "office.key"))
	if err != nil {
		return err
	}
	survey, err := as("@" + filepath.Join(data, "survey.key"))
	if err != nil {
		return err
	}
	const collection = "brindlemere"
	page, err := office.Items(ctx, collection, client.ItemsOptions{
		Selection: client.Selection{Categories: []string{"mooring"}}, Limit: 8,
	})
	if err != nil {
		return err
	}
	const needed = 8
	if len(page.Features) < needed { // a demo of a few places
		return os.WriteFile(done, nil, 0o644)
	}
	for i, patch := range []string{
		`{"properties":{"depth_m":2.4}}`, `{"properties":{"depth_m":3.1,"note":"Sounded at low water springs."}}`,
		`{"properties":{"depth_m":4.6}}`,
	} {
		if _, err := patchDemo(ctx, survey, &page.Features[i], patch); err != nil {
			return err
		}
	}
	const note = `{"properties":{"note":"The buoy has a new number."}}`
	if _, err := patchDemo(ctx, office, &page.Features[3], note); err != nil {
		return err
	}
	if at, ok := page.Features[4].Geometry.Position(); ok {
		moved := fmt.Sprintf(`{"geometry":{"coordinates":[%.6f,%.6f]}}`, at.Lon+1e-4, at.Lat-4e-5)
		if _, err := patchDemo(ctx, office, &page.Features[4], moved); err != nil {
			return err
		}
	}
	wrong, err := patchDemo(ctx, survey, &page.Features[5], `{"properties":{"note":"Taken up for the winter."}}`)
	if err != nil {
		return err
	}
	if _, err := office.Undo(ctx, wrong, api.UndoChange{}); err != nil {
		return err
	}
	if err := suggestInDemo(ctx, as, data, page.Features[6:]); err != nil {
		return err
	}
	return os.WriteFile(done, nil, 0o644)
}

// suggestInDemo has visitors suggest two corrections, which nobody decides on.
func suggestInDemo(ctx context.Context, as func(key string) (*client.Client, error), data string, of []api.Item) error {
	visitors, err := as("@" + filepath.Join(data, "contributor.key"))
	if err != nil {
		return err
	}
	for i, s := range []api.NewSuggestion{
		{Edit: api.Edit{Patch: json.RawMessage(`{"properties":{"berths":2,"condition":"good"}}`)},
			Note: "There are two buoys now; we lay there in August."},
		{Edit: api.Edit{}, Note: "The light on the buoy is out."},
	} {
		item := &of[i]
		s.Op, s.ID, s.IfMatch = "patch", item.ID, item.ETag
		if at, ok := item.Geometry.Position(); ok && s.Patch == nil {
			s.Patch = json.RawMessage(fmt.Sprintf(`{"geometry":{"coordinates":[%.6f,%.6f]},"properties":{"note":"Unlit."}}`,
				at.Lon-2e-4, at.Lat+1e-4))
		}
		if _, err := visitors.Suggest(ctx, "brindlemere", s); err != nil {
			return err
		}
	}
	return nil
}

// patchDemo changes an item, and returns the number of its newest change.
func patchDemo(ctx context.Context, c *client.Client, item *api.Item, patch string) (uint64, error) {
	now, err := c.PatchItem(ctx, "brindlemere", item.ID, json.RawMessage(patch), client.AnyTag)
	return now.Change, err
}

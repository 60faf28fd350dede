package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"idlebeacon/api"
)

// Watches returns the watches, in the order of their ids.
func (c *Client) Watches(ctx context.Context) (w api.Watches, err error) {
	return w, c.get(ctx, "/api/watches", nil, &w)
}

func watchPath(id string) string { return "/api/watches/" + url.PathEscape(id) }

// Watched returns the watch with an id.
func (c *Client) Watched(ctx context.Context, id string) (w api.Watch, err error) {
	return w, c.get(ctx, watchPath(id), nil, &w)
}

// CreateWatch makes a watch.
func (c *Client) CreateWatch(ctx context.Context, n api.NewWatch) (w api.Watch, err error) {
	return w, c.send(ctx, http.MethodPost, "/api/watches", n, &w)
}

// UpdateWatch changes a watch.
func (c *Client) UpdateWatch(ctx context.Context, id string, u api.WatchUpdate) (w api.Watch, err error) {
	return w, c.send(ctx, http.MethodPatch, watchPath(id), u, &w)
}

// DeleteWatch takes out a watch. What it noticed stays.
func (c *Client) DeleteWatch(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, watchPath(id), nil, nil)
}

// TryWatch tells what a rule would have noticed.
func (c *Client) TryWatch(ctx context.Context, t api.WatchTrial) (tried api.WatchTried, err error) {
	return tried, c.send(ctx, http.MethodPost, "/api/watches/try", t, &tried)
}

// NoticesOptions ask for a page of notices.
type NoticesOptions struct {
	Groups, Devices, Watches, Kinds []string  // nil for all
	From, To                        time.Time // zero for no end
	Before, After                   int64     // numbers; 0 for no end
	Limit                           int       // 0 for the service's default
}

// Notices returns what watches noticed, the newest first, but with After the oldest first.
func (c *Client) Notices(ctx context.Context, o NoticesOptions) (n api.Notices, err error) {
	q := url.Values{}
	for name, list := range map[string][]string{
		"groups": o.Groups, "devices": o.Devices, "watches": o.Watches, "kinds": o.Kinds,
	} {
		setList(q, name, list)
	}
	for name, at := range map[string]time.Time{"from": o.From, "to": o.To} {
		if !at.IsZero() {
			q.Set(name, at.UTC().Format(time.RFC3339Nano))
		}
	}
	for name, number := range map[string]int64{"before": o.Before, "after": o.After} {
		if number != 0 {
			q.Set(name, strconv.FormatInt(number, 10))
		}
	}
	setPage(q, "", o.Limit)
	return n, c.get(ctx, "/api/notices", q, &n)
}

// WatchNotices calls each with what watches notice, as it happens, until ctx ends or each returns an error, which it
// returns. After a connection was lost it first reads what was noticed meanwhile.
func (c *Client) WatchNotices(ctx context.Context, each func([]api.Notice) error) error {
	last := int64(0)
	tell := func(some []api.Notice) error {
		for len(some) > 0 && some[0].Number <= last { // it was read before
			some = some[1:]
		}
		if len(some) == 0 {
			return nil
		}
		last = some[len(some)-1].Number
		return each(some)
	}
	return c.listen(ctx, url.Values{"notices": {"true"}}, func(name string, data []byte) (told, err error) {
		switch name {
		case "hello":
			for last != 0 {
				missed, err := c.Notices(ctx, NoticesOptions{After: last, Limit: 1000})
				if err != nil {
					return nil, err
				}
				if len(missed.Notices) == 0 {
					break
				}
				if told := tell(missed.Notices); told != nil {
					return told, nil
				}
			}
		case "notices":
			var event api.NoticesEvent
			if err := json.Unmarshal(data, &event); err != nil {
				return nil, err
			}
			return tell(event.Notices), nil
		}
		return nil, nil
	})
}

// Hooks returns the hooks, in the order of their ids.
func (c *Client) Hooks(ctx context.Context) (h api.Hooks, err error) {
	return h, c.get(ctx, "/api/hooks", nil, &h)
}

func hookPath(id string) string { return "/api/hooks/" + url.PathEscape(id) }

// CreateHook makes a hook. Its secret is only in the answer.
func (c *Client) CreateHook(ctx context.Context, n api.NewHook) (h api.Hook, err error) {
	return h, c.send(ctx, http.MethodPost, "/api/hooks", n, &h)
}

// UpdateHook changes a hook.
func (c *Client) UpdateHook(ctx context.Context, id string, u api.HookUpdate) (h api.Hook, err error) {
	return h, c.send(ctx, http.MethodPatch, hookPath(id), u, &h)
}

// DeleteHook takes out a hook with its messages.
func (c *Client) DeleteHook(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, hookPath(id), nil, nil)
}

// Deliveries returns messages to a hook, the newest first: those in a state, "" for any, before a number, 0 for all.
func (c *Client) Deliveries(ctx context.Context, hook, state string, before int64) (d api.Deliveries, err error) {
	q := url.Values{}
	if state != "" {
		q.Set("state", state)
	}
	if before != 0 {
		q.Set("before", strconv.FormatInt(before, 10))
	}
	return d, c.get(ctx, hookPath(hook)+"/deliveries", q, &d)
}

// SendAgain has a message to a hook sent again, or all that were given up for the number 0.
func (c *Client) SendAgain(ctx context.Context, hook string, number int64) (s api.SentAgain, err error) {
	path := hookPath(hook) + "/deliveries/again"
	if number != 0 {
		path = hookPath(hook) + "/deliveries/" + strconv.FormatInt(number, 10) + "/again"
	}
	return s, c.send(ctx, http.MethodPost, path, nil, &s)
}

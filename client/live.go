package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"idlebeacon/api"
)

// WatchOptions choose which changes are told of.
type WatchOptions struct {
	Collections []string // ids; at least one
	Box         *Box     // only items in it, and those that are gone; nil for everywhere
	After       uint64   // only changes with greater numbers; 0 for from now on
}

// Watch calls each with every change to some collections as it happens, in order, until ctx ends
// or each returns an error, which it returns. If changes were missed, so that what was kept up to
// date has to be read anew, it calls missed; what it tells after that is complete. If the
// connection is lost, it takes another, with growing pauses, and goes on where it was; what the
// service refuses ends it.
func (c *Client) Watch(
	ctx context.Context, o WatchOptions, each func(api.ChangeEvent) error, missed func() error,
) error {
	q := url.Values{"collections": {strings.Join(o.Collections, ",")}}
	if o.Box != nil {
		q.Set("bbox", o.Box.String())
	}
	pauses := backoff.NewExponentialBackOff()
	for {
		if o.After != 0 {
			q.Set("after", strconv.FormatUint(o.After, 10))
		}
		told, err := c.watchOnce(ctx, q, &o.After, each, missed)
		var problem *Error
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case told != nil:
			return told
		case errors.As(err, &problem) && !problem.passing():
			return err
		case err == nil:
			pauses.Reset()
		}
		if err := wait(ctx, pauses); err != nil {
			return err
		}
	}
}

// wait waits until the next attempt.
func wait(ctx context.Context, pauses *backoff.ExponentialBackOff) error {
	select {
	case <-time.After(pauses.NextBackOff()):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// watchOnce reads one stream to its end. told is the error of who was told.
func (c *Client) watchOnce(
	ctx context.Context, q url.Values, after *uint64, each func(api.ChangeEvent) error, missed func() error,
) (told, err error) {
	response, err := c.once(ctx, http.MethodGet, "/api/live?"+q.Encode(), "", nil)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	const longest = 1 << 20
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, longest)
	name := ""
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case field == "event":
			name = value
		case field != "data":
		case name == "hello":
			var hello api.Hello
			if err := json.Unmarshal([]byte(value), &hello); err != nil {
				return nil, fmt.Errorf("reading the stream: %w", err)
			}
			if *after == 0 {
				*after = hello.Change
			}
		case name == "reload":
			if err := missed(); err != nil {
				return err, nil
			}
		case name == "change":
			var change api.ChangeEvent
			if err := json.Unmarshal([]byte(value), &change); err != nil {
				return nil, fmt.Errorf("reading the stream: %w", err)
			}
			if err := each(change); err != nil {
				return err, nil
			}
			*after = change.Number
		}
	}
	return nil, nil // whyever it ended, another may go on
}

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
	if o.After != 0 {
		q.Set("after", strconv.FormatUint(o.After, 10))
	}
	return c.listen(ctx, q, func(name string, data []byte) (told, err error) {
		switch name {
		case "hello":
			var hello api.Hello
			if err := json.Unmarshal(data, &hello); err != nil {
				return nil, err
			}
			if o.After == 0 {
				o.After = hello.Change
			}
		case "reload":
			return missed(), nil
		case "change":
			var change api.ChangeEvent
			if err := json.Unmarshal(data, &change); err != nil {
				return nil, err
			}
			if told = each(change); told == nil {
				o.After = change.Number
			}
		}
		if o.After != 0 {
			q.Set("after", strconv.FormatUint(o.After, 10)) // for the next stream
		}
		return told, nil
	})
}

// listen calls each with the events of streams with some parameters, one stream after the other, until ctx ends, or
// each returns told, which it returns, or the service refuses. An error of each ends a stream.
func (c *Client) listen(
	ctx context.Context, q url.Values, each func(name string, data []byte) (told, err error),
) error {
	pauses := backoff.NewExponentialBackOff()
	for {
		told, err := c.listenOnce(ctx, q, each)
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

// listenOnce reads one stream to its end.
func (c *Client) listenOnce(
	ctx context.Context, q url.Values, each func(name string, data []byte) (told, err error),
) (told, err error) {
	response, err := c.once(ctx, http.MethodGet, "/api/live?"+q.Encode(), "", nil)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	const longest = 8 << 20
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, longest)
	name := ""
	for lines.Scan() {
		switch field, value, _ := strings.Cut(lines.Text(), ": "); field {
		case "event":
			name = value
		case "data":
			if told, err = each(name, []byte(value)); err != nil {
				return nil, fmt.Errorf("reading the stream: %w", err)
			}
			if told != nil {
				return told, nil
			}
		}
	}
	return nil, nil // whyever it ended, another may go on
}

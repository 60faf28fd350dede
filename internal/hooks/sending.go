package hooks

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"idlebeacon/api"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

const (
	// lookEvery is how often is looked for what is to be sent.
	lookEvery = time.Second
	// tidyEvery is how often is looked for what is to be given up or forgotten.
	tidyEvery = time.Minute
	// inTurn is how many messages a hook gets before it is looked again which are due.
	inTurn = 50
)

// usualPauses let a receiver be away for a day.
var usualPauses = []time.Duration{
	5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour, 12 * time.Hour,
}

// run sends what is due, while this process has the duty, until ctx ends.
func (h *Hooks) run(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	var tidied time.Time
	var sending sync.WaitGroup
	defer sending.Wait()
	failing := false
	for {
		if epoch := h.watching.Epoch(); epoch != 0 {
			err := h.send(ctx, epoch, &sending)
			if err == nil && time.Since(tidied) >= tidyEvery {
				tidied = time.Now()
				err = h.store.TidyDeliveries(ctx)
			}
			if errors.Is(err, store.ErrNotHeld) {
				err = nil
			}
			if err != nil && ctx.Err() == nil && !failing {
				h.log.Warn("hooks cannot be told for a while", "error", err)
			}
			failing = err != nil
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		case <-h.watching.News():
		}
	}
}

// send begins to send what is due, to each hook in turn and to all hooks at once.
func (h *Hooks) send(ctx context.Context, epoch int64, sending *sync.WaitGroup) error {
	if err := h.store.GatherChanges(ctx, epoch); err != nil {
		return err
	}
	due, err := h.store.DueDeliveries(ctx, inTurn)
	if err != nil || len(due) == 0 {
		return err
	}
	byHook := map[int64][]store.Delivery{}
	for _, d := range due {
		byHook[d.HookKey] = append(byHook[d.HookKey], d)
	}
	byKey, err := h.store.HooksByKey(ctx, slices.Collect(maps.Keys(byHook)))
	if err != nil {
		return err
	}
	for key, all := range byHook {
		hook := byKey[key]
		h.mu.Lock()
		free := hook != nil && !h.busy[key]
		if free {
			h.busy[key] = true
		}
		h.mu.Unlock()
		if !free {
			continue
		}
		sending.Go(func() {
			defer func() {
				h.mu.Lock()
				delete(h.busy, key)
				h.mu.Unlock()
			}()
			for i := range all {
				if ctx.Err() != nil || h.watching.Epoch() != epoch || !h.deliver(ctx, hook, &all[i]) {
					return
				}
			}
		})
	}
	return nil
}

// deliver sends a message and notes how that ended. It reports whether it makes sense to go on with others.
func (h *Hooks) deliver(ctx context.Context, hook *store.Hook, d *store.Delivery) bool {
	body, err := h.message(ctx, d)
	if err != nil {
		return false // of the database; it is tried again soon
	}
	d.Attempts++
	d.State, d.Status, d.Problem = store.Delivered, 0, ""
	after := time.Duration(0)
	if body != nil {
		d.Status, err = h.post(ctx, hook, d, body)
	} else {
		d.State, d.Problem = store.Dead, "what it was about is not kept any more"
	}
	if ctx.Err() != nil {
		return false // it was cut off, and is sent again
	}
	if err != nil {
		d.State, d.Problem = store.Dead, tell(err)
		if d.Attempts <= len(h.pauses) && d.Status != http.StatusGone {
			d.State, after = store.Waiting, h.pauses[d.Attempts-1]
		}
	}
	if err := h.store.Tried(ctx, d, after); err != nil {
		return false
	}
	if err != nil {
		h.failed.Add(1)
	}
	switch d.State {
	case store.Delivered:
		h.taken.Add(1)
	case store.Dead:
		h.dead.Add(1)
	}
	if d.Status == http.StatusGone {
		off := true
		h.log.Warn("a hook answers that it is gone, and is told no more", "hook", hook.ID)
		_, _ = h.store.UpdateHook(ctx, hook.ID, (&Edit{Off: &off}).set) // it will say so again
		return false
	}
	return d.State != store.Waiting
}

// tell returns what is told of an error of sending: not the address, which may have a secret of its receiver's.
func tell(err error) string {
	var inURL *url.Error
	if errors.As(err, &inURL) {
		err = inURL.Err
	}
	if errors.Is(err, errPrivate) {
		err = errPrivate
	}
	const most = 300
	text := strings.ReplaceAll(err.Error(), "\x00", "")
	return strings.ToValidUTF8(text[:min(most, len(text))], "") // what is cut may end within a character
}

// post sends a message, and returns what was answered. An answer other than of success is an error too.
func (h *Hooks) post(ctx context.Context, hook *store.Hook, d *store.Delivery, body []byte) (status int, err error) {
	signer, err := standardwebhooks.NewWebhook(hook.Secret)
	if err != nil {
		return 0, err
	}
	now := time.Now()
	signature, err := signer.Sign(d.Message, now, body)
	if err != nil {
		return 0, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, hook.URL, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", h.agent)
	r.Header.Set(standardwebhooks.HeaderWebhookID, d.Message)
	r.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	r.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	answer, err := h.client.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	const read = 4 << 10 // so that the connection may serve again
	_, _ = io.CopyN(io.Discard, answer.Body, read)
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return answer.StatusCode, fmt.Errorf("it answers %s", answer.Status)
	}
	return answer.StatusCode, nil
}

// message returns what is sent, nil if that is not kept any more.
func (h *Hooks) message(ctx context.Context, d *store.Delivery) ([]byte, error) {
	if d.Notice != 0 {
		n, err := h.store.NoticeByNumber(ctx, d.Notice)
		if err != nil || n == nil {
			return nil, err
		}
		return json.Marshal(api.HookMessage{
			Type: "notice." + string(n.Event.Kind), Timestamp: n.NoticedAt.UTC(), Data: watching.Describe(n),
		})
	}
	c, err := h.store.ChangeLine(ctx, d.Change)
	if err != nil || c == nil {
		return nil, err
	}
	out := api.HookChange{Number: c.Number, Collection: c.Collection, Op: c.Op, Actor: c.Actor, At: c.At.UTC()}
	if c.Item != "" {
		out.Item = &c.Item
	}
	return json.Marshal(api.HookMessage{Type: "change." + c.Op, Timestamp: c.At.UTC(), Data: out})
}

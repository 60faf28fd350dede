package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/coder/websocket"
	"github.com/klauspost/compress/gzhttp"

	"idlebeacon/api"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fleet"
)

const (
	// maxMessage is the largest message that a sender of positions may send, in bytes.
	maxMessage = 256 << 10
	// pingEvery is how often it is looked whether a sender is still there.
	pingEvery = 30 * time.Second
	// sendTimeout is how long a sender may take to read what it is told.
	sendTimeout = 10 * time.Second
	// verdictsTogether is how many verdicts a message has at most: many clients take messages of 32 KiB.
	verdictsTogether = 100
)

// streamPositions takes reports on a WebSocket (RFC 6455): a message is a report, or an array of them. What became of
// them is told in arrays of verdicts, in the order of the reports.
func (h *server) streamPositions(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "group")
	if q.err != nil {
		return q.err
	}
	if around, ok := w.(*gzhttp.GzipResponseWriter); ok {
		w = around.Unwrap()
	}
	connection, err := websocket.Accept(w, r, &websocket.AcceptOptions{
		OriginPatterns: hostsOfOrigins(actorOf(r).Limits.Origins),
	})
	if err != nil {
		h.options.Log.Debug("a sender of positions was not taken", "error", err)
		return nil // it was answered
	}
	defer func() { _ = connection.CloseNow() }()
	connection.SetReadLimit(maxMessage)
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	if h.options.Stopping != nil {
		stops := context.AfterFunc(h.options.Stopping, func() {
			_ = connection.Close(websocket.StatusGoingAway, "the service is stopping")
		})
		defer stops()
	}
	watched := make(chan struct{})
	go func() { defer close(watched); h.watchSender(ctx, connection, r) }()
	defer func() { cancel(); <-watched }()
	in := fleet.NewInflow(ctx, h.options.Fleet, q.text("group"), func(told []fleet.Told[struct{}]) error {
		for some := range slices.Chunk(told, verdictsTogether) {
			if err := sendVerdicts(ctx, connection, some); err != nil {
				return err
			}
		}
		return nil
	})
	defer in.Close()
	for {
		_, message, err := connection.Read(ctx)
		if err != nil {
			return nil // the sender has gone, or sent too much
		}
		for _, report := range reportsIn(message) {
			if err := in.Put(ctx, report, struct{}{}, false); err != nil {
				return nil
			}
		}
	}
}

func sendVerdicts(ctx context.Context, connection *websocket.Conn, told []fleet.Told[struct{}]) error {
	out := make([]api.ReportVerdict, len(told))
	for i := range told {
		out[i] = describeVerdict(&told[i].Verdict)
	}
	text, err := json.Marshal(out)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendTimeout)
	defer cancel()
	return connection.Write(ctx, websocket.MessageText, text)
}

// reportsIn returns the reports of a message: one, or an array.
func reportsIn(message []byte) []fleet.Reported {
	text := bytes.TrimSpace(message)
	if len(text) == 0 || text[0] != '[' {
		return []fleet.Reported{parseReport(text)}
	}
	var all []json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return []fleet.Reported{{Err: invalid.New("", "the message is not valid JSON: %v", err)}}
	}
	reports := make([]fleet.Reported, len(all))
	for i, one := range all {
		reports[i] = parseReport(one)
	}
	return reports
}

// watchSender ends a connection whose sender does not answer any more, or may not send any more.
func (h *server) watchSender(ctx context.Context, connection *websocket.Conn, r *http.Request) {
	ping := time.NewTicker(pingEvery)
	defer ping.Stop()
	for {
		changed := h.accessChanged()
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-ping.C:
			waiting, cancel := context.WithTimeout(ctx, sendTimeout)
			err := connection.Ping(waiting)
			cancel()
			if err != nil {
				_ = connection.CloseNow()
				return
			}
		}
		if !h.still(r) {
			_ = connection.Close(websocket.StatusPolicyViolation, "the key does not hold any more")
			return
		}
	}
}

// hostsOfOrigins returns the hosts of origins, as patterns.
func hostsOfOrigins(origins []string) (hosts []string) {
	for _, origin := range origins {
		if u, err := url.Parse(origin); err == nil && u.Host != "" {
			hosts = append(hosts, u.Host)
		} else {
			hosts = append(hosts, origin) // * is for all
		}
	}
	return hosts
}

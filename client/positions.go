package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"sync"

	"github.com/coder/websocket"

	"idlebeacon/api"
)

// A PositionStream reports where devices are on one connection. It is safe for concurrent use.
type PositionStream struct {
	connection *websocket.Conn
	mu         sync.Mutex // one at a time sends
}

// OpenPositions opens a connection for reports. Devices that are not there yet are made in a group, "" for the usual
// one. Whoever has the stream calls Close in the end.
func (c *Client) OpenPositions(ctx context.Context, group string) (*PositionStream, error) {
	header := http.Header{}
	if c.key != "" {
		header.Set("Authorization", "Bearer "+c.key)
	}
	if c.agent != "" {
		header.Set("User-Agent", c.agent)
	}
	path := "/api/positions/stream"
	if group != "" {
		path += "?group=" + url.QueryEscape(group)
	}
	connection, answer, err := websocket.Dial(ctx, c.base+path, &websocket.DialOptions{
		HTTPClient: c.http, HTTPHeader: header,
	})
	if err != nil {
		if answer != nil && answer.StatusCode >= 300 {
			return nil, &Error{api.Problem{Status: answer.StatusCode, Title: http.StatusText(answer.StatusCode)}}
		}
		return nil, err
	}
	const longest = 1 << 20
	connection.SetReadLimit(longest)
	return &PositionStream{connection: connection}, nil
}

// Send sends reports. What becomes of them is for Receive.
func (s *PositionStream) Send(ctx context.Context, reports []api.Report) error {
	text, err := json.Marshal(reports)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.connection.Write(ctx, websocket.MessageText, text)
}

// Receive waits for what has become of the next reports, in their order.
func (s *PositionStream) Receive(ctx context.Context) (verdicts []api.ReportVerdict, err error) {
	_, text, err := s.connection.Read(ctx)
	if err != nil {
		return nil, err
	}
	return verdicts, json.Unmarshal(text, &verdicts)
}

// Close ends the connection.
func (s *PositionStream) Close() error { return s.connection.Close(websocket.StatusNormalClosure, "") }

package client

import (
	"net/http"
	"time"
)

// An Option says how a Client calls its service.
type Option func(*Client)

// WithHTTPClient has requests sent by h, which may have its own transport, proxy and
// timeouts. Imports and exports may take long: a timeout for whole requests has to allow for them.
func WithHTTPClient(h *http.Client) Option { return func(c *Client) { c.http = h } }

// WithKey sends an access key with each request, as a bearer token (RFC 6750 section 2.1).
func WithKey(key string) Option { return func(c *Client) { c.key = key } }

// WithAgent says which program sends the requests, as User-Agent (RFC 9110, section 10.1.5).
func WithAgent(agent string) Option { return func(c *Client) { c.agent = agent } }

// WithRetry sends requests that only read, and edits of items, again, with growing pauses, while
// the service cannot be reached or answers that it is busy: for so long together. Edits have a name
// by which the service knows them again, so none is done twice. Other requests are sent once.
func WithRetry(patience time.Duration) Option { return func(c *Client) { c.patience = patience } }

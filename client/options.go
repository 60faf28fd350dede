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

// WithRetry sends requests that only read again, with growing pauses, while the service
// cannot be reached or answers that it is busy: for so long together. Edits are never sent
// again, as the first may have been carried out.
func WithRetry(patience time.Duration) Option { return func(c *Client) { c.patience = patience } }

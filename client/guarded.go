package client

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
)

// ErrWrites is given by a client that only reads, or only previews, for a request that
// would change something: nothing was sent.
var ErrWrites = errors.New("this would change something")

// reading are the paths that are posted to and change nothing.
var reading = []string{"/api/explain", "/api/rules/try"}

// ReadOnly is the same client, but for requests that change something: those it does
// not send.
func (c *Client) ReadOnly() *Client {
	n := *c
	n.allows = func(method, path string, _ url.Values, _ []byte) bool {
		return method == http.MethodGet || method == http.MethodPost && slices.Contains(reading, path)
	}
	return &n
}

// Previewing is the same client, but for requests that do more than say what would
// happen: those it does not send.
func (c *Client) Previewing() *Client {
	n := *c
	reads := c.ReadOnly()
	n.allows = func(method, path string, query url.Values, body []byte) bool {
		if reads.allows(method, path, query, body) || query.Get("dryRun") == "true" {
			return true
		}
		var of struct{ DryRun, Confirm *bool }
		if method != http.MethodPost || json.Unmarshal(body, &of) != nil {
			return false
		}
		if of.DryRun != nil && *of.DryRun {
			return true
		}
		return slices.Contains(confirmed, path) && (of.Confirm == nil || !*of.Confirm)
	}
	return &n
}

// confirmed are the paths that only preview what a request does not confirm.
var confirmed = []string{"/api/pair/down", "/api/pair/leave", "/api/pair/mend", "/api/pair/settle", "/api/sweep"}

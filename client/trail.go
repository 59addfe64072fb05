package client

import (
	"context"
	"strconv"
	"time"

	"yarnpost/api"
)

// Trail lists what people did, the latest first: what has a text in it, since a moment,
// limit deeds at the most.
func (c *Client) Trail(ctx context.Context, search string, since time.Time, limit int) (api.Page[api.Deed], error) {
	q := values("search", search, "limit", strconv.Itoa(limit))
	if !since.IsZero() {
		q.Set("since", since.UTC().Format(time.RFC3339))
	}
	return get[api.Page[api.Deed]](ctx, c, "/api/trail", q)
}

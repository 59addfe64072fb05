package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yarnpost/api"
)

// Capacity lists how full everything is and when it runs out; the first to run out
// first. An empty kind is all kinds.
func (c *Client) Capacity(ctx context.Context, kind string) ([]api.Capacity, error) {
	q := url.Values{}
	if kind != "" {
		q.Set("kind", kind)
	}
	return items[api.Capacity](ctx, c, "/api/capacity", q)
}

// CapacityOf is the use of a scope, one of its pools, or all of them (~all), or, with of as
// supernet, of a supernet, over a span such as 28d.
func (c *Client) CapacityOf(ctx context.Context, of, name, pool, since string) (api.CapacityDetail, error) {
	q := url.Values{"since": {since}, "of": {of}}
	if pool != "" {
		q.Set("pool", pool)
	}
	return get[api.CapacityDetail](ctx, c, "/api/capacity/"+url.PathEscape(name), q)
}

// CapacityUsers says who uses the addresses of a scope, or of all.
func (c *Client) CapacityUsers(ctx context.Context, name string) (api.CapacityUsers, error) {
	return get[api.CapacityUsers](ctx, c, "/api/capacity/"+url.PathEscape(name)+"/users", nil)
}

// SizePool works out what a demand needs.
func (c *Client) SizePool(ctx context.Context, in api.SizeRequest) (out api.Size, err error) {
	err = c.call(ctx, http.MethodPost, "/api/capacity/size", nil, in, &out)
	return out, err
}

// Rehearse begins to play what happened against a changed plan.
func (c *Client) Rehearse(ctx context.Context, in api.RehearsalOrder) (out api.Rehearsal, err error) {
	err = c.call(ctx, http.MethodPost, "/api/rehearsals", nil, in, &out)
	return out, err
}

// Rehearsal is how far a rehearsal is, or what came of it.
func (c *Client) Rehearsal(ctx context.Context, id int64) (api.Rehearsal, error) {
	return get[api.Rehearsal](ctx, c, "/api/rehearsals/"+strconv.FormatInt(id, 10), nil)
}

// EndRehearsal ends a rehearsal early.
func (c *Client) EndRehearsal(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/api/rehearsals/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

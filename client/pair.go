package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yarnpost/api"
)

// Pair is the pair as the server sees it.
func (c *Client) Pair(ctx context.Context) (api.Pair, error) {
	return get[api.Pair](ctx, c, "/api/pair", nil)
}

// InvitePartner opens the server to one that joins it.
func (c *Client) InvitePartner(ctx context.Context, in api.PairInvite) (out api.PairInvitation, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/invite", nil, in, &out)
	return out, err
}

// JoinPair makes the server the second of the pair that an invitation is to.
func (c *Client) JoinPair(ctx context.Context, in api.PairJoin) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/join", nil, in, &out)
	return out, err
}

// OrderPair gives an order: down or leave. Without confirm it is only said what would
// happen.
func (c *Client) OrderPair(ctx context.Context, what string, confirm bool) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/"+url.PathEscape(what), nil, api.PairOrder{Confirm: confirm}, &out)
	return out, err
}

// PausePair leaves all clients to the partner, or shares them again.
func (c *Client) PausePair(ctx context.Context, on bool) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/pause", nil, api.PairPause{On: on}, &out)
	return out, err
}

// RebalancePair splits free addresses anew.
func (c *Client) RebalancePair(ctx context.Context) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/rebalance", nil, nil, &out)
	return out, err
}

// DrillPair takes the server out for a while, watched.
func (c *Client) DrillPair(ctx context.Context, seconds int) (out api.PairDrill, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/drill", nil, api.PairDrillOrder{Seconds: seconds}, &out)
	return out, err
}

// EditPair changes settings of the pair on both servers.
func (c *Client) EditPair(ctx context.Context, in api.PairInvite) (out api.Pair, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/edit", nil, in, &out)
	return out, err
}

// ComparePair finds every address of which both servers know different things.
func (c *Client) ComparePair(ctx context.Context) (api.PairComparison, error) {
	return get[api.PairComparison](ctx, c, "/api/pair/compare", nil)
}

// MendPair tells the partner again what the server knows of addresses.
func (c *Client) MendPair(ctx context.Context, in api.PairMend) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/mend", nil, in, &out)
	return out, err
}

// PairHistory lists what happened to the pair, newest first.
func (c *Client) PairHistory(ctx context.Context, limit int) ([]api.PairEvent, error) {
	return items[api.PairEvent](ctx, c, "/api/pair/history", url.Values{"limit": {strconv.Itoa(limit)}})
}

// PairLines shows both lines of the plan since they parted.
func (c *Client) PairLines(ctx context.Context) (api.PairLines, error) {
	return get[api.PairLines](ctx, c, "/api/pair/lines", nil)
}

// SettlePair chooses one server's plan where both changed it.
func (c *Client) SettlePair(ctx context.Context, in api.PairSettle) (out api.PairDone, err error) {
	err = c.call(ctx, http.MethodPost, "/api/pair/settle", nil, in, &out)
	return out, err
}

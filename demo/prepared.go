package demo

import (
	"context"
	"time"

	"yarnpost/api"
	"yarnpost/client"
)

// inPreparation is a change that the mill's people have not made yet.
type inPreparation struct {
	name, note string
	edits      []api.Edit
	due        *api.SetDue
}

// prepared is what is to come at the mill.
func prepared() []inPreparation {
	opens := time.Now().Add(5 * 24 * time.Hour).Truncate(24 * time.Hour).Add(5 * time.Hour)
	return []inPreparation{
		{"visitors-shorter", "visitors come and go faster than their leases", []api.Edit{
			{Op: "edit", Kind: "scope", Name: "visitors", Scope: &api.ScopeEdit{Lease: ptr("5m"),
				AddExclusions: []api.Exclusion{{Range: "10.40.79.240-10.40.79.254", User: "captive portal"}}}},
			{Op: "add", Kind: "reservation", Name: "portal", Reservation: &api.ReservationEdit{Hardware: ptr("02:59:50:00:00:40"),
				Scope: ptr("visitors"), Address: ptr("10.40.79.254"), Hostname: ptr("portal")}},
		}, nil},
		{"hall-5-opens", "the finishing hall opens", []api.Edit{
			{Op: "edit", Kind: "scope", Name: "finishing", Scope: &api.ScopeEdit{Mode: ptr("serving"), Lease: ptr("4h")}},
		}, &api.SetDue{At: opens, Undo: &api.UndoRule{Within: "1h", Above: 5}}},
	}
}

// gather prepares it.
func (p inPreparation) gather(ctx context.Context, c *client.Client) error {
	if _, err := c.BeginChange(ctx, api.Begin{Name: p.name, Note: p.note}); err != nil {
		return err
	}
	_, err := c.Change(ctx, api.ChangeRequest{Into: p.name, Edits: p.edits})
	if err == nil && p.due != nil {
		_, err = c.SetDue(ctx, p.name, *p.due)
	}
	return err
}

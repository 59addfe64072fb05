package failover

import (
	"context"
	"fmt"

	"yarnpost/service/store"
)

// trailHere is what people did at this server alone.
func (p *Pair) trailHere(ctx context.Context, q store.TrailQuery) ([]store.Deed, error) {
	q.Own = true
	return p.Store.Trail(ctx, q)
}

// TrailOfPartner asks the other server of a pair what people did there, but for changes of
// the plan, which both have. The partner is named if there is one; the error wraps
// ErrAlone if not.
func (p *Pair) TrailOfPartner(ctx context.Context, q store.TrailQuery) (list []store.Deed, name string, err error) {
	on, c := p.paired()
	if c == nil || on == nil {
		return nil, "", ErrAlone
	}
	if c.Remote() == "" {
		return nil, on.Partner.Name, fmt.Errorf("%s cannot be heard", on.Partner.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, unservedTime)
	defer cancel()
	err = c.Ask(ctx, "trail", q, &list)
	return list, on.Partner.Name, err
}

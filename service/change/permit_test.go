package change

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"yarnpost/core/plan"
	"yarnpost/service/permit"
)

// planOnly is an engine that has a plan, and nothing else.
type planOnly struct {
	Engine
	plan *plan.Plan
}

func (e planOnly) Plan() *plan.Plan { return e.plan }

// wary permits all but changes of supernets.
type wary struct{ permit.Everything }

func (wary) MayChange(account string, c plan.Change, _, next *plan.Plan) error {
	if c.Kind == plan.KindSupernet {
		return fmt.Errorf("%w: %s may not change %s", permit.ErrRefused, account, next.Label(c.ID))
	}
	return nil
}

// A change is asked for item by item, also where many are made at once: if one is not
// permitted, nothing is. The store behind is not there, so one that got past would end the
// test.
func TestChangesArePermitted(t *testing.T) {
	p := New(Parts{Engine: planOnly{plan: plan.New()}, Permits: wary{}})
	for _, preview := range []bool{true, false} {
		_, err := p.Change(context.Background(), Order{Author: "heddle", Preview: preview}, func(d *plan.Draft) error {
			if _, err := d.PutLink(plan.Link{Name: "yard"}); err != nil {
				return err
			}
			_, err := d.PutSupernet(plan.Supernet{Name: "mill", Prefix: netip.MustParsePrefix("10.77.0.0/16")})
			return err
		})
		if !errors.Is(err, permit.ErrRefused) || err.Error() != "not permitted: heddle may not change mill" {
			t.Errorf("preview %v: %v", preview, err)
		}
	}
}

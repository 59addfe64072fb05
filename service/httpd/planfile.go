package httpd

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/planfile"
	"yarnpost/service/change"
	"yarnpost/service/permit"
)

// This file serves plan files.

type fileOut struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

type fileIn struct {
	api.FileOrder
	RawBody []byte `contentType:"application/yaml"`
}

func (s *Server) registerPlanFile(a huma.API) {
	huma.Register(a, op("export-plan", http.MethodGet, "/api/plan/file", "The plan as a plan file, in YAML", "plan", permit.See),
		func(_ context.Context, in *struct {
			Only []string `query:"only" doc:"Kinds of items, such as scope,reservation; the whole plan if left out"`
		}) (*fileOut, error) {
			var kinds []plan.Kind
			for _, k := range in.Only {
				if edit.FormOf(plan.Kind(k)) == nil {
					return nil, failure(plan.Refused("there is no kind of item %q; there are %v", k, plan.Kinds()))
				}
				kinds = append(kinds, plan.Kind(k))
			}
			text, err := planfile.Export(s.Engine.Plan(), kinds...)
			if err != nil {
				return nil, failure(err)
			}
			return &fileOut{"application/yaml", `attachment; filename="plan.yaml"`, text}, nil
		})
	o := op("apply-plan-file", http.MethodPost, "/api/plan/file", "Preview or apply a plan file, as one revision or not at all", "plan", permit.Plan)
	o.MaxBodyBytes = changeOctets
	huma.Register(a, o, s.applyFile)
	huma.Register(a, op("plan-file-schema", http.MethodGet, "/api/plan/schema", "The JSON Schema of plan files", "plan", permit.Nothing),
		func(context.Context, *struct{}) (*fileOut, error) {
			return &fileOut{"application/schema+json", `inline; filename="plan.schema.json"`, planfile.Schema()}, nil
		})
}

func (s *Server) applyFile(ctx context.Context, in *fileIn) (*body[api.ChangeResult], error) {
	f, faults := planfile.Read(in.RawBody)
	if len(faults) > 0 {
		return nil, faulty(faults)
	}
	base := in.Base
	if base == 0 && !in.Overwrite {
		base = f.Revision
	}
	at := &around{Server: s, ctx: ctx, named: true}
	c, err := s.Plans.Change(ctx, change.Order{Author: who(ctx).Name, Reason: in.Reason, Base: base, Preview: in.DryRun, Confirm: in.Confirm,
		Alone: in.Alone}, func(d *plan.Draft) error {
		if faults = f.Place(edit.Together(at, d, f.Edits, f.Covers == planfile.Whole)); len(faults) > 0 {
			return plan.Refused("the file cannot be applied")
		}
		return nil
	})
	if len(faults) > 0 {
		return nil, faulty(faults)
	}
	if err != nil {
		return nil, failure(err)
	}
	if c.Applied {
		s.forgetReserved(f.Edits)
	}
	return respond(s.changeView(c), nil)
}

// faultsMost is how many faults of a file are listed.
const faultsMost = 200

// faulty refuses a file, and says where it is wrong.
func faulty(faults []planfile.Fault) error {
	say := fmt.Sprintf("the file has %d faults; nothing was changed", len(faults))
	if len(faults) == 1 {
		say = "the file has a fault; nothing was changed"
	}
	var details []error
	for _, f := range faults[:min(len(faults), faultsMost)] {
		d := &huma.ErrorDetail{Message: f.Text}
		if f.Line > 0 {
			d.Location = fmt.Sprintf("line %d, column %d", f.Line, f.Column)
		}
		details = append(details, d)
	}
	return huma.Error422UnprocessableEntity(say, details...)
}

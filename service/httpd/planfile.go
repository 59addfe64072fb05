package httpd

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/planfile"
	"yarnpost/service/change"
	"yarnpost/service/permit"
	"yarnpost/sheet"
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

type sheetIn struct {
	Kind string `path:"kind" enum:"scope,reservation,exclusion,entry"`
	api.FileOrder
	RawBody []byte `contentType:"text/csv"`
}

func (s *Server) registerPlanFile(a huma.API) {
	huma.Register(a, op("export-plan", http.MethodGet, "/api/plan/file", "The plan as a plan file, in YAML", "plan", permit.See),
		func(ctx context.Context, in *struct {
			Only     []string  `query:"only" doc:"Kinds of items, such as scope,reservation; the whole plan if left out"`
			Revision int64     `query:"revision" minimum:"1" doc:"As this revision left it; as it is, if left out"`
			At       time.Time `query:"at" doc:"Or as it was at this moment"`
		}) (*fileOut, error) {
			p := s.Engine.Plan()
			if in.Revision != 0 && !in.At.IsZero() {
				return nil, failure(plan.Refused("name a revision or a moment, not both"))
			} else if in.Revision != 0 || !in.At.IsZero() {
				var err error
				if p, err = s.planAt(ctx, in.Revision, in.At); err != nil {
					return nil, failure(err)
				}
			}
			var kinds []plan.Kind
			for _, k := range in.Only {
				if edit.FormOf(plan.Kind(k)) == nil {
					return nil, failure(plan.Refused("there is no kind of item %q; there are %v", k, plan.Kinds()))
				}
				kinds = append(kinds, plan.Kind(k))
			}
			text, err := planfile.Export(p, kinds...)
			if err != nil {
				return nil, failure(err)
			}
			return &fileOut{"application/yaml", `attachment; filename="plan.yaml"`, text}, nil
		})
	o := op("apply-plan-file", http.MethodPost, "/api/plan/file", "Preview or apply a plan file, as one revision or not at all", "plan",
		permit.Plan)
	o.MaxBodyBytes = changeOctets
	huma.Register(a, o, s.applyFile)
	huma.Register(a, op("export-sheet", http.MethodGet, "/api/plan/sheets/{kind}",
		"Scopes, reservations, exclusions or entries of lists as a sheet, in CSV",
		"plan", permit.See), func(_ context.Context, in *struct {
		Kind     string `path:"kind" enum:"scope,reservation,exclusion,entry"`
		Template bool   `query:"template" doc:"Only the columns, and a row that shows how they are filled"`
	}) (*fileOut, error) {
		text, err := sheet.Export(s.Engine.Plan(), in.Kind)
		if in.Template {
			text, err = sheet.Template(in.Kind)
		}
		if err != nil {
			return nil, failure(err)
		}
		return &fileOut{"text/csv; charset=utf-8", fmt.Sprintf("attachment; filename=%q", in.Kind+"s.csv"), text}, nil
	})
	o = op("apply-sheet", http.MethodPost, "/api/plan/sheets/{kind}", "Preview or apply a sheet, as one revision or not at all", "plan",
		permit.Plan)
	o.MaxBodyBytes = changeOctets
	huma.Register(a, o, s.applySheet)
	huma.Register(a, op("plan-file-schema", http.MethodGet, "/api/plan/schema", "The JSON Schema of plan files", "plan", permit.Nothing),
		func(context.Context, *struct{}) (*fileOut, error) {
			return &fileOut{"application/schema+json", `inline; filename="plan.schema.json"`, planfile.Schema()}, nil
		})
}

func (s *Server) applyFile(ctx context.Context, in *fileIn) (*body[api.ChangeResult], error) {
	f, faults := planfile.Read(in.RawBody)
	if len(faults) > 0 {
		return nil, faulty(placed(faults))
	}
	o := in.FileOrder
	if o.Base == 0 && !o.Overwrite {
		o.Base = f.Revision
	}
	return s.applyTogether(ctx, o, f.Edits, f.Covers == planfile.Whole,
		func(list []edit.Fault) []huma.ErrorDetail { return placed(f.Place(list)) })
}

// placed are the faults of a plan file as details of a refusal.
func placed(faults []planfile.Fault) (out []huma.ErrorDetail) {
	for _, f := range faults {
		d := huma.ErrorDetail{Message: f.Text}
		if f.Line > 0 {
			d.Location = fmt.Sprintf("line %d, column %d", f.Line, f.Column)
		}
		out = append(out, d)
	}
	return out
}

func (s *Server) applySheet(ctx context.Context, in *sheetIn) (*body[api.ChangeResult], error) {
	read, faults := sheet.Read(in.Kind, in.RawBody)
	if len(faults) > 0 {
		return nil, faulty(inLines(faults))
	}
	return s.applyTogether(ctx, in.FileOrder, read.Edits, false,
		func(list []edit.Fault) []huma.ErrorDetail { return inLines(read.Place(list)) })
}

// inLines are the faults of a sheet as details of a refusal.
func inLines(faults []sheet.Fault) (out []huma.ErrorDetail) {
	for _, f := range faults {
		d := huma.ErrorDetail{Message: f.Text}
		if f.Line > 0 {
			d.Location = fmt.Sprintf("line %d", f.Line)
		}
		if f.Column != "" {
			d.Message = f.Column + ": " + d.Message
		}
		out = append(out, d)
	}
	return out
}

// applyTogether previews or applies the edits of a file, as one revision or not at all.
func (s *Server) applyTogether(ctx context.Context, o api.FileOrder, edits []api.Edit, whole bool,
	place func([]edit.Fault) []huma.ErrorDetail) (*body[api.ChangeResult], error) {
	at := &around{Server: s, ctx: ctx, named: true}
	var faults []huma.ErrorDetail
	c, err := s.change(ctx, o.Into, change.Order{Reason: o.Reason, Base: o.Base, Preview: o.DryRun, Confirm: o.Confirm,
		Alone: o.Alone}, func(d *plan.Draft) error {
		if faults = place(edit.Together(at, d, edits, whole)); len(faults) > 0 {
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
		s.forgetReserved(edits)
	}
	return respond(s.gathered(c, o.Into), nil)
}

// faultsMost is how many faults of a file are listed.
const faultsMost = 200

// faulty refuses a file, and says where it is wrong.
func faulty(faults []huma.ErrorDetail) error {
	say := fmt.Sprintf("the file has %d faults; nothing was changed", len(faults))
	if len(faults) == 1 {
		say = "the file has a fault; nothing was changed"
	}
	var details []error
	for i := range faults[:min(len(faults), faultsMost)] {
		details = append(details, &faults[i])
	}
	return huma.Error422UnprocessableEntity(say, details...)
}

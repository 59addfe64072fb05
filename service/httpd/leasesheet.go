package httpd

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/service/permit"
	"yarnpost/sheet"
)

// registerLeaseSheet has the lease table as a sheet, out and in.
func (s *Server) registerLeaseSheet(a huma.API) {
	huma.Register(a, op("export-leases", http.MethodGet, "/api/leases/sheet", "Active leases as a sheet, in CSV", "leases", permit.See),
		func(ctx context.Context, in *struct {
			Scope    string `query:"scope"`
			Template bool   `query:"template" doc:"Only the columns, and a row that shows how they are filled"`
		}) (*fileOut, error) {
			text := sheet.LeaseTemplate()
			if !in.Template {
				scope, err := s.scopeID(in.Scope)
				if err != nil {
					return nil, failure(err)
				}
				seen := s.sightOf(ctx)
				list := slices.DeleteFunc(s.Leases.Table(scope), func(l sheet.Lease) bool { return !seen.at(addr.FormatKey(l.Key)) })
				slices.SortFunc(list, func(a, b sheet.Lease) int { return a.Key.Compare(b.Key) })
				text = sheet.WriteLeases(list)
			}
			return &fileOut{"text/csv; charset=utf-8", `attachment; filename="leases.csv"`, text}, nil
		})
	o := op("bring-leases", http.MethodPost, "/api/leases/sheet",
		"Take leases that another server gave into the table, so that clients keep their addresses; or only say what would become of them", "leases",
		permit.Clients)
	o.MaxBodyBytes = changeOctets
	huma.Register(a, o, func(ctx context.Context, in *struct {
		DryRun  bool   `query:"dryRun" doc:"Only say what would happen"`
		RawBody []byte `contentType:"text/csv"`
	}) (*body[api.LeasesBrought], error) {
		rows, faults := sheet.ReadLeases(in.RawBody, s.Clock.Now(), time.Local)
		if len(faults) > 0 {
			return nil, faulty(inLines(faults))
		}
		b, faults, err := s.Leases.Bring(ctx, rows, in.DryRun)
		if len(faults) > 0 {
			return nil, faulty(inLines(faults))
		} else if err != nil {
			return nil, failure(err)
		}
		out := api.LeasesBrought{Applied: !in.DryRun, Taken: b.Taken, Known: b.Known, Over: b.Over, Left: append([]string{}, b.Left...)}
		verb := "taken over"
		if in.DryRun {
			verb = "would be taken over"
		}
		out.Text = fmt.Sprintf("%s %s, %d known already, %d over, %d left", plural(b.Taken, "lease", "leases"), verb, b.Known, b.Over, len(b.Left))
		out.Left = out.Left[:min(len(out.Left), leftMost)]
		return respond(out, nil)
	})
}

// leftMost bounds how many of those that were left are told.
const leftMost = 1000

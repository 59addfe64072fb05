package httpd

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/service/samples"
	"yarnpost/service/store"
)

//go:embed report.html
var reportText string

var reportPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"day":     func(t time.Time) string { return t.UTC().Format("2 Jan 2006") },
	"time":    func(t time.Time) string { return t.UTC().Format("2 Jan 2006 15:04 UTC") },
	"percent": func(x float64) string { return fmt.Sprintf("%.0f %%", 100*x) },
	"join":    func(list []string) string { return strings.Join(list, ", ") },
}).Parse(reportText))

// reportData is what the report shows.
type reportData struct {
	api.AuditReport
	Version  string
	Groups   []reportGroup
	Pools    []reportPool
	Meanings []api.FindingCode // of the kinds that were found
	Pair     *api.Pair
	Unserved []api.Unserved
	Changes  []reportChange
	Deeds    []api.Deed // but for changes of the plan
}

type reportGroup struct {
	Severity string
	Findings []api.Finding
}

type reportPool struct {
	api.Capacity
	Chart template.HTML
}

type reportChange struct {
	At     time.Time
	Number int64
	Author string
	Reason string
	Lines  []string
}

// chartDays is how much of the past a chart of the report shows.
const chartDays = 42

// htmlReport is the last audit with what its reader has to know, in one file that
// asks nothing of any other place.
func (s *Server) htmlReport(ctx context.Context) ([]byte, error) {
	r, ok := s.Audits.Last(ctx)
	if !ok {
		var err error
		if r, err = s.Audits.Run(ctx, "a report", false); err != nil {
			return nil, err
		}
	}
	d := reportData{AuditReport: s.reportView(r), Version: Version}
	for _, severity := range []string{"trouble", "warning", "note"} {
		g := reportGroup{Severity: severity}
		for _, f := range d.Findings {
			if f.Severity == severity {
				g.Findings = append(g.Findings, f)
			}
		}
		if g.Findings != nil {
			d.Groups = append(d.Groups, g)
		}
	}
	seen := map[string]bool{}
	for _, e := range r.Entries {
		if !seen[e.ID] {
			seen[e.ID] = true
			d.Meanings = append(d.Meanings, api.FindingCode{Code: e.ID, Title: e.Title, Means: e.Means, Comes: e.Comes, Do: e.Do})
		}
	}
	outlooks, _ := s.Samples.Outlooks()
	for _, l := range s.Samples.Levels(nil) {
		if l.Key.Scope == 0 || l.Key.Pool.Valid() || l.Size == 0 {
			continue
		}
		chart, err := s.poolChart(ctx, l)
		if err != nil {
			return nil, err
		}
		d.Pools = append(d.Pools, reportPool{capacityView(l, outlooks), chart})
	}
	slices.SortStableFunc(d.Pools, func(a, b reportPool) int { return byUrgency(a.Capacity, b.Capacity) })
	if v := s.pairView(); v.Formed {
		d.Pair = &v
	}
	d.Unserved, _ = s.unserved(ctx, "", "")
	revisions, err := s.Store.Revisions(ctx, 0, reportChanges, reportLines)
	if err != nil {
		return nil, err
	}
	for _, x := range revisions {
		c := reportChange{At: x.At, Number: x.Number, Author: x.Author, Reason: x.Reason}
		for _, l := range x.Lines {
			c.Lines = append(c.Lines, string(l.Kind)+" "+l.Name+": "+l.Text)
		}
		if more := x.Length - len(x.Lines); more > 0 {
			c.Lines = append(c.Lines, fmt.Sprintf("and %d more", more))
		}
		d.Changes = append(d.Changes, c)
	}
	deeds, _, err := s.trail(ctx, store.TrailQuery{Limit: reportDeeds, Own: true})
	if err != nil {
		return nil, err
	}
	d.Deeds = deeds
	var b bytes.Buffer
	if err := reportPage.Execute(&b, d); err != nil {
		return nil, fmt.Errorf("make the report: %w", err)
	}
	return b.Bytes(), nil
}

// A report has so many of the last changes, and so many lines of each.
const reportChanges, reportLines = 20, 6

const reportDeeds = 50 // the last that people did beside them

// Sizes of a chart, in its own units.
const (
	chartWide, chartHigh = 640.0, 150.0
	chartLeft, chartFoot = 44.0, 20.0
)

// poolChart draws the daily use of a pool, its size and what is expected.
func (s *Server) poolChart(ctx context.Context, l samples.Level) (template.HTML, error) {
	o, err := s.Samples.Outlook(ctx, l)
	if err != nil {
		return "", err
	}
	days := o.Series().Days(chartDays)
	if len(days) < 2 {
		return "", nil
	}
	ahead := o.Bands[:min(len(o.Bands), chartDays/2)]
	top := float64(l.Size)
	for _, d := range days {
		top = max(top, d.Peak)
	}
	top *= 1.08
	x := func(i int) float64 {
		return chartLeft + (chartWide-chartLeft-8)*float64(i)/float64(len(days)+len(ahead)-1)
	}
	y := func(v float64) float64 { return 6 + (chartHigh-chartFoot-6)*(1-min(v, top)/top) }
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="Highest use of each day of scope %s, with its size of %d and what is expected">`, chartWide,
		chartHigh, template.HTMLEscapeString(l.Name), l.Size)
	step := niceStep(top / 3)
	for v := 0.0; v < top; v += step {
		fmt.Fprintf(&b, `<line class="grid" x1="%.0f" x2="%.0f" y1="%.1f" y2="%.1f"/><text class="axis" x="%.0f" y="%.1f" text-anchor="end">%.0f</text>`, chartLeft,
			chartWide-8, y(v), y(v), chartLeft-5, y(v)+4, v)
	}
	fmt.Fprintf(&b, `<line class="size" x1="%.0f" x2="%.0f" y1="%.1f" y2="%.1f"/><text class="axis" x="%.0f" y="%.1f" text-anchor="end">size %d</text>`, chartLeft,
		chartWide-8, y(float64(l.Size)), y(float64(l.Size)), chartWide-10, y(float64(l.Size))-3, l.Size)
	if len(ahead) > 0 {
		var up, down []string
		for i, a := range ahead {
			up = append(up, fmt.Sprintf("%.1f,%.1f", x(len(days)+i), y(a.High)))
			down = append(down, fmt.Sprintf("%.1f,%.1f", x(len(days)+i), y(a.Low)))
		}
		slices.Reverse(down)
		fmt.Fprintf(&b, `<polygon class="band" points="%s"/>`, strings.Join(append(up, down...), " "))
		b.WriteString(`<polyline class="mid" points="`)
		for i, a := range ahead {
			fmt.Fprintf(&b, "%.1f,%.1f ", x(len(days)+i), y(a.Mid))
		}
		b.WriteString(`"/>`)
	}
	b.WriteString(`<polyline class="used" points="`)
	for i, d := range days {
		if d.Known {
			fmt.Fprintf(&b, "%.1f,%.1f ", x(i), y(d.Peak))
		}
	}
	b.WriteString(`"/>`)
	for i := 0; i < len(days)+len(ahead); i += 14 {
		at := days[0].Day.AddDate(0, 0, i)
		fmt.Fprintf(&b, `<text class="axis" x="%.1f" y="%.0f">%s</text>`, x(i), chartHigh-5, at.Format("2 Jan"))
	}
	fmt.Fprintf(&b, `<line class="now" x1="%.1f" x2="%.1f" y1="6" y2="%.1f"/></svg>`, x(len(days)-1), x(len(days)-1), chartHigh-chartFoot)
	return template.HTML(b.String()), nil // every text in it is a number, or escaped
}

// niceStep is a round number near one.
func niceStep(v float64) float64 {
	p := math.Pow(10, math.Floor(math.Log10(max(v, 1))))
	for _, m := range []float64{1, 2, 5, 10} {
		if v <= m*p {
			return m * p
		}
	}
	return 10 * p
}

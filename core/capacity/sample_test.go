package capacity

import (
	"encoding/csv"
	"math"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

func parsedRange(t *testing.T, text string) addr.Range {
	t.Helper()
	r, err := addr.ParseRange(text)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// A series is named by what it is of, and found again by that name.
func TestKeys(t *testing.T) {
	pool := parsedRange(t, "10.77.0.100-10.77.0.199")
	for text, k := range map[string]Key{"all": All, "scope 12": {Scope: 12}, "link 7": {Link: 7},
		"pool 12 10.77.0.100-10.77.0.199": {Scope: 12, Pool: pool}} {
		if k.String() != text {
			t.Errorf("%+v is %q, want %q", k, k, text)
		}
		if back, err := ParseKey(text); err != nil || back != k {
			t.Errorf("%q is read as %+v, %v", text, back, err)
		}
	}
	for _, text := range []string{"", "scope", "scope x", "link ", "pool 12", "pool x 10.0.0.1-10.0.0.2", "pool 12 10.0.0.1-",
		"tower 3", "scope 99999999999999999999"} {
		if k, err := ParseKey(text); err == nil {
			t.Errorf("%q is read as %+v", text, k)
		}
	}
}

// Lines of a time and a number are read as people export them, and what is wrong is
// named with its line.
func TestParseSamples(t *testing.T) {
	hour := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	for _, text := range []string{
		"time,used\n2026-06-01T14:00:00Z,12\n2026-06-01T15:00:00Z,13.5",
		"2026-06-01T14:00:00Z,12\n2026-06-01 15:00, 13.5",
		"used,site,Time\n12,mill,2026-06-01T16:00:00+02:00\n13.5,mill,2026-06-01 15:00:00",
		"at,used,of\n2026-06-01 14:00,12,100\n2026-06-01T15:00,13.5,100",
		" 2026-06-01T14:00:00 ,12\n2026-06-01T15:00:00,1.35e1",
	} {
		lines, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		got, err := ParseSamples(lines, time.UTC)
		if err != nil || len(got) != 2 || !got[0].At.Equal(hour) || got[0].Used != 12 || !got[1].At.Equal(hour.Add(time.Hour)) ||
			got[1].Used != 13.5 {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
	}
	for text, want := range map[string]string{
		"":                           "no sample",
		"time,used":                  "no sample",
		"when,what\n2026-06-01,1":    "columns time and used",
		"2026-06-01":                 "line 1: a time and a number",
		"2026-06-01,1\nlater,2":      `line 2: "later" is no time`,
		"2026-06-01,1\n2026-06-02,":  `line 2: "" is no number`,
		"2026-06-01,-1":              `"-1" is no number`,
		"2026-06-01,NaN":             `"NaN" is no number`,
		"2026-06-01,1e300":           "is no number of addresses",
		"2026-06-01,Inf":             "is no number of addresses",
		"2026-06-01,1\n2226-06-01,2": "too far apart",
		"2026-06-01,1\n1026-06-01,2": "too far apart",
		"2026-02-30,1":               "is no time",
	} {
		lines, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		if err != nil {
			lines = [][]string{strings.Split(text, ",")}
		}
		if strings.Count(text, "\n") > 0 && err != nil {
			for _, l := range strings.Split(text, "\n")[1:] {
				lines = append(lines, strings.Split(l, ","))
			}
		}
		if got, err := ParseSamples(lines, time.UTC); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %+v, %v, want %q", text, got, err, want)
		}
	}
}

// Two counts together, what of a count is kept, and numbers too large for that.
func TestCounts(t *testing.T) {
	a := Count{Size: 100, Excluded: 1, Reserved: 5, Claimed: 4, Active: 40, Offered: 2, Released: 3, Kept: 1, Expired: 6,
		Abandoned: 7, Headroom: 30, Partner: 20}
	twice := a.Add(a)
	if twice != (Count{200, 2, 10, 8, 80, 4, 6, 2, 12, 14, 60, 40}) {
		t.Errorf("twice: %+v", twice)
	}
	if a.Used() != 50 || a.Share() != 0.5 || twice.Share() != 0.5 || (Count{}).Share() != 0 {
		t.Errorf("used %d, %v, %v", a.Used(), a.Share(), twice.Share())
	}
	if over := (Count{Size: 10, Headroom: 30}); over.Used() != 0 {
		t.Errorf("with more headroom than size, %d are used", over.Used())
	}
	r := RowOf(Count{Size: 1 << 40, Headroom: 1 << 39, Active: 9, Offered: 3, Abandoned: 2, Partner: 4}, 5, 6, 7)
	if r[ColSize] != math.MaxUint32 || r[ColActive] != 9 || r[ColOffered] != 3 || r[ColAbandoned] != 2 || r[ColPartner] != 4 ||
		r[ColNew] != 5 ||
		r[ColReturned] != 6 || r[ColLeft] != 7 {
		t.Errorf("kept: %v", r)
	}
}

// What a scope and its pools have, counted from plan and table.
func TestCountsOfScopes(t *testing.T) {
	d := plan.New().Draft()
	s := plan.Scope{Name: "looms", Subnet: netip.MustParsePrefix("10.77.0.0/24"), Mode: plan.Serving,
		Pools: []addr.Range{parsedRange(t, "10.77.0.10-10.77.0.19"), parsedRange(t, "10.77.0.100-10.77.0.199")},
		Exclusions: []plan.Exclusion{{Range: parsedRange(t, "10.77.0.18-10.77.0.30"), User: "printers"}, {Range: parsedRange(t,
			"10.77.0.150"), User: "scale"}}}
	if err := d.PlaceScope(&s, "", nil); err != nil {
		t.Fatal(err)
	}
	id, err := d.PutScope(s)
	if err != nil {
		t.Fatal(err)
	}
	hw := func(n byte) addr.Hardware { return addr.Hardware([]byte{2, 0x40, 0, 0, 0, n}) }
	for n, a := range map[byte]string{1: "10.77.0.12", 2: "10.77.0.120", 3: "10.77.0.220"} {
		if _, err := d.PutReservation(plan.Reservation{Name: "r" + string('0'+n), Scope: id, Hardware: hw(n),
			Address: netip.MustParseAddr(a)}); err != nil {
			t.Fatal(err)
		}
	}
	p, _ := d.Finish()
	const now = lease.Time(1_790_000_000)
	table := lease.New(p, now)
	give := func(a string, n byte, status lease.Status) {
		table.Put(&lease.Lease{Prefix: lease.Host(netip.MustParseAddr(a)), Status: status, Client: lease.ByHardware(1, hw(n)),
			Hardware: hw(n),
			Reserved: n <= 3, Since: now - 9, Changed: now - 9, Expires: now + 900})
	}
	give("10.77.0.12", 1, lease.Active)
	give("10.77.0.13", 11, lease.Active)
	give("10.77.0.121", 12, lease.Active)
	give("10.77.0.122", 13, lease.Abandoned)
	give("10.77.0.123", 14, lease.Expired)
	v := p.Scope(id)
	all, pools := OfScope(table, v), OfPools(table, v)
	if all.Size != 107 || all.Excluded != 3 || all.Reserved != 3 || all.Claimed != 1 || all.Active != 3 || all.Abandoned != 1 ||
		all.Expired != 1 {
		t.Errorf("the scope: %+v", all)
	}
	if len(pools) != 2 || pools[0].Size != 8 || pools[0].Excluded != 2 || pools[0].Reserved != 1 || pools[0].Active != 2 ||
		pools[1].Size != 99 ||
		pools[1].Excluded != 1 || pools[1].Reserved != 1 || pools[1].Active != 1 || pools[1].Abandoned != 1 {
		t.Errorf("the pools: %+v", pools)
	}
	if sum := pools[0].Add(pools[1]); sum.Size != all.Size || sum.Excluded != all.Excluded || sum.Active != all.Active ||
		sum.Headroom != all.Headroom {
		t.Errorf("together the pools are %+v, the scope is %+v", sum, all)
	}
	if want := uint64(107 - 3 /* reserved for, or held by, their clients */ - 1 - 1); all.Headroom > want {
		t.Errorf("%d could be handed out, of %d at the most", all.Headroom, want)
	}
}

package cli

import (
	"strings"
	"testing"

	"yarnpost/api"
)

// Clients that say one name are reserved under two, in one change; what has no client is refused.
func TestLeaseReserve(t *testing.T) {
	lease := func(a, hw, name string) api.Lease {
		return api.Lease{Address: a, Hardware: hw, Hostname: name, Scope: "looms"}
	}
	f := &fake{answers: map[string]any{"POST /api/plan/changes": api.ChangeResult{Revision: 1, Diff: []api.DiffLine{{Text: "x"}}},
		"GET /api/leases/10.77.0.1": lease("10.77.0.1", "02:00:00:00:00:01", "Ada's Laptop"),
		"GET /api/leases/10.77.0.2": lease("10.77.0.2", "02:00:00:00:00:02", "adas laptop"),
		"GET /api/leases/10.77.0.3": lease("10.77.0.3", "02:00:00:00:00:03", "adas-laptop"),
		"GET /api/leases/10.77.0.4": lease("10.77.0.4", "", ""),
		"GET /api/reservations": map[string]any{"items": []api.Reservation{{Name: "crane", Hardware: "02:00:00:00:00:03",
			Address: "10.77.0.3"}}}}}
	if _, errs, code := f.run(t, "lease", "reserve", "10.77.0.2", "10.77.0.3", "10.77.0.1", "--dry-run"); code != 0 ||
		len(f.bodies) != 1 {
		t.Fatalf("exit %d, %d requests: %s", code, len(f.bodies), errs)
	}
	var got []string
	for _, e := range f.bodies[0].Edits {
		got = append(got, e.Name+" "+*e.Reservation.Hardware+" "+*e.Reservation.Address)
	}
	if want := "adas-laptop 02:00:00:00:00:02 10.77.0.2, client-02-00-00-00-00-03 02:00:00:00:00:03 10.77.0.3, " +
		"ada-s-laptop 02:00:00:00:00:01 10.77.0.1"; strings.Join(got, ", ") != want {
		t.Errorf("reserved are %s", strings.Join(got, ", "))
	}
	if _, errs, code := f.run(t, "lease", "reserve", "10.77.0.4", "--dry-run"); code != 1 || !strings.Contains(errs,
		"has no client on record") {
		t.Errorf("of nobody: %d %s", code, errs)
	}
	// What a host has in IPv6 is reserved by its DUID, beside what it has in IPv4.
	six := api.Lease{Address: "2001:db8::1", DUID: "00:03:00:01:02:00:00:00:00:01", IAID: "7", Hostname: "ada", Scope: "looms6"}
	net := six
	net.Address = "2001:db8:8000::/56"
	f.answers["GET /api/leases/2001:db8::1"], f.answers["GET /api/leases/2001:db8:8000::/56"] = six, net
	f.bodies = nil
	if _, errs, code := f.run(t, "lease", "reserve", "2001:db8::1", "2001:db8:8000::/56", "--dry-run"); code != 0 || len(f.bodies) != 1 {
		t.Fatalf("exit %d, %d requests: %s", code, len(f.bodies), errs)
	}
	for i, want := range []string{"ada-v6 2001:db8::1", "ada-net 2001:db8:8000::/56"} {
		if e := f.bodies[0].Edits[i]; e.Name+" "+*e.Reservation.Address != want || *e.Reservation.DUID != six.DUID ||
			e.Reservation.Hardware != nil {
			t.Errorf("reserved is %s, %+v", e.Name, e.Reservation)
		}
	}
	if isOf(api.Reservation{DUID: six.DUID, Address: "2001:db8:8000::/56"}, six) || !isOf(api.Reservation{DUID: six.DUID,
		Address: "2001:db8::9"}, six) ||
		isOf(api.Reservation{DUID: six.DUID, IAID: "8", Address: "2001:db8::9"}, six) {
		t.Error("reservations of addresses and prefixes are mixed up")
	}
	// One that is reserved moves with its reservation, another gets one.
	for a, want := range map[string]string{"10.77.0.3": "edit crane", "10.77.0.2": "add adas-laptop"} {
		f.bodies = nil
		_, errs, code := f.run(t, "lease", "move", a, "--to", "10.77.0.9", "--dry-run")
		if code != 0 || len(f.bodies) != 1 || f.bodies[0].Edits[0].Op+" "+f.bodies[0].Edits[0].Name != want ||
			*f.bodies[0].Edits[0].Reservation.Address != "10.77.0.9" {
			t.Errorf("%s moves: %d %s %+v", a, code, errs, f.bodies)
		}
	}
	for line, says := range map[string]string{"lease move 10.77.0.3": "name the new address", "lease reach": "name addresses, or a scope",
		"lease reach 10.77.0.1 --scope looms": "name addresses, or a scope", "reservation remove": "name reservations",
		"reservation remove --scope looms": "name reservations", "scope move looms": "name the scope"} {
		if _, errs, code := f.run(t, strings.Fields(line)...); code != 2 || !strings.Contains(errs, says) {
			t.Errorf("%s: exit %d, %s", line, code, errs)
		}
	}
}

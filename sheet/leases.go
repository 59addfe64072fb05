package sheet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/option"
	"yarnpost/edit"
)

// Lease is a row of a sheet of leases: who has, or had, an address, and until when. Such a sheet
// brings along what another server promised; it says nothing of the plan.
type Lease struct {
	Line       int          // 0 if it was not read
	Key        netip.Prefix // an address is a prefix of full length
	Hardware   addr.Hardware
	Identifier addr.Octets
	DUID       addr.DUID // of IPv6, with the number of the association
	IAID       addr.IAID
	Hostname   string
	Vendor     string
	Scope      string // for people
	Status     string // for people, but that any but active is not brought along; empty is active
	Since      time.Time
	Expires    time.Time // zero: never, if Endless; else as long as the scope gives
	Endless    bool
}

// columnsOfLeases are those of a sheet of leases; all but the address can be missing.
var columnsOfLeases = []string{"address", "hardware", "identifier", "duid", "iaid", "hostname", "vendor", "scope", "status", "since",
	"expires"}

const never = "never"

// WriteLeases writes a sheet of leases.
func WriteLeases(list []Lease) []byte {
	rows := make([]row, 0, len(list))
	stamp := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	for _, l := range list {
		r := row{"address": addr.FormatKey(l.Key), "hardware": l.Hardware.String(), "identifier": l.Identifier.String(),
			"duid": l.DUID.String(), "iaid": l.IAID.String(), "hostname": l.Hostname, "vendor": l.Vendor, "scope": l.Scope,
			"status": l.Status, "since": stamp(l.Since), "expires": stamp(l.Expires)}
		if l.Endless {
			r["expires"] = never
		}
		rows = append(rows, r)
	}
	return write(columnsOfLeases, rows)
}

// LeaseTemplate is a sheet with the columns that leases have, and a row that shows how they are
// filled.
func LeaseTemplate() []byte {
	return write([]string{"address", "hardware", "identifier", "duid", "iaid", "hostname", "expires"}, []row{{"address": "10.77.0.131",
		"hardware": "02:00:00:00:00:17", "identifier": "01020000000017", "hostname": "crane", "expires": "2026-12-01T18:00:00Z"},
		{"address": "2001:db8:77:1::131", "duid": "00:03:00:01:02:00:00:00:00:17", "iaid": "1", "hostname": "crane",
			"expires": "2026-12-01T18:00:00Z"}})
}

// ReadLeases reads a sheet of leases, and says all that is wrong with it; then there are none. Times
// that name no zone are in the one that is given; a span such as 8h is from now.
func ReadLeases(text []byte, now time.Time, zone *time.Location) (out []Lease, faults []Fault) {
	if len(text) > Most {
		return nil, []Fault{{Text: fmt.Sprintf("the sheet takes %d octets; %d is the most", len(text), Most)}}
	}
	r := leaseReader{now: now, zone: zone, seen: map[netip.Prefix]int{}}
	if f := Rows(text, r.line); f != nil {
		r.faults = append(r.faults, *f)
	}
	if r.columns == nil && len(r.faults) == 0 {
		r.faults = []Fault{{Text: "the sheet is empty; its first line names the columns, such as address,hardware,expires"}}
	}
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return r.leases, nil
}

type leaseReader struct {
	now     time.Time
	zone    *time.Location
	columns []string
	leases  []Lease
	seen    map[netip.Prefix]int // the line of each address
	faults  []Fault
}

func (r *leaseReader) line(n int, cells []string) bool {
	fail := func(column, format string, args ...any) {
		r.faults = append(r.faults, Fault{n, column, fmt.Sprintf(format, args...)})
	}
	if r.columns == nil {
		for _, c := range cells {
			name := strings.ToLower(strings.TrimSpace(edit.Fused(c)))
			if name != "" && !slices.Contains(columnsOfLeases, name) {
				fail("", "there is no column %q; there are %s", edit.Clean(c), strings.Join(columnsOfLeases, ", "))
			} else if name != "" && slices.Contains(r.columns, name) {
				fail("", "column %s stands here twice", name)
			}
			r.columns = append(r.columns, name)
		}
		if !slices.Contains(r.columns, "address") {
			fail("", "the first line names the columns, and there is none called address")
		}
		return len(r.faults) == 0
	}
	l := Lease{Line: n}
	empty := true
	for i, c := range cells {
		c = strings.TrimSpace(edit.Fused(c))
		if c == "" {
			continue
		}
		empty = false
		if i >= len(r.columns) || r.columns[i] == "" {
			fail("", "there is no name above the cell %q", edit.Clean(c))
		} else if err := r.cell(&l, r.columns[i], c); err != nil {
			fail(r.columns[i], "%v", err)
		}
	}
	active := l.Status == "" || l.Status == "active"
	switch first := r.seen[l.Key]; {
	case empty:
		return true
	case !l.Key.IsValid():
		fail("", "it has no address")
	case first != 0:
		fail("address", "%s is in line %d, too", addr.FormatKey(l.Key), first)
	case !active:
	case l.Key.Addr().Is6() && (l.DUID == "" || l.IAID == ""):
		fail("", "clients of IPv6 are known by duid and iaid, and it has not both")
	case l.Key.Addr().Is4() && (l.DUID != "" || l.IAID != ""):
		fail("duid", "clients of IPv4 have no DUID of their own; write what they send as identifier")
	case l.Hardware == "" && l.Identifier == "" && l.DUID == "":
		fail("", "it has neither a hardware address nor an identifier, so nobody knows whose it is")
	}
	r.seen[l.Key] = n
	r.leases = append(r.leases, l)
	return true
}

func (r *leaseReader) cell(l *Lease, column, c string) (err error) {
	if err := edit.CheckText(column, c); err != nil {
		return err
	}
	switch column {
	case "address":
		if l.Key, err = addr.ParseKey(c); err == nil && l.Key.Addr().Is4() && !l.Key.IsSingleIP() {
			err = fmt.Errorf("%s is a subnet, and no address", c)
		}
	case "hardware":
		l.Hardware, err = addr.ParseHardware(c)
	case "identifier":
		err = l.Identifier.UnmarshalText([]byte(c))
	case "duid":
		l.DUID, err = addr.ParseDUID(c)
	case "iaid":
		l.IAID, err = addr.ParseIAID(c)
	case "hostname":
		l.Hostname = c
	case "vendor":
		l.Vendor = c
	case "scope":
		l.Scope = c
	case "status":
		l.Status = strings.ToLower(c)
	case "since":
		l.Since, err = capacity.ParseTime(c, r.zone)
	case "expires":
		if l.Endless = c == never || c == "infinite"; l.Endless {
			return nil
		}
		if d, bad := option.ParseDuration(c); bad == nil {
			l.Expires = r.now.Add(d)
			return nil
		}
		if l.Expires, err = capacity.ParseTime(c, r.zone); err != nil {
			err = fmt.Errorf("%q is no time; write 2026-12-01T18:00:00Z, a span from now such as 8h, or never", edit.Clean(c))
		}
	}
	return err
}

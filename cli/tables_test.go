package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Tables of neighbours and routes are read as programs print them, of both families; what tells
// nothing is passed over.
func TestTables(t *testing.T) {
	file := filepath.Join(t.TempDir(), "table")
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("10.77.0.5 dev eth0 lladdr 02:00:00:00:00:05 REACHABLE\n2001:db8::5 dev eth0 lladdr 02:00:00:00:00:06 STALE\n" +
		"fe80::5 dev eth0 lladdr 02:00:00:00:00:05 router STALE\n2001:db8::6 dev eth0 FAILED\n# a note\n")
	var got []string
	list, err := readNeighbours(file)
	for _, n := range list {
		got = append(got, n.Address+" "+n.Hardware)
	}
	if text := strings.Join(got, ", "); err != nil || text != "10.77.0.5 02:00:00:00:00:05, 2001:db8::5 02:00:00:00:00:06" {
		t.Errorf("neighbours are %s, %v", text, err)
	}
	write("10.77.0.5 and nothing else\n")
	if _, err := readNeighbours(file); err == nil || !strings.Contains(err.Error(), "line 1") {
		t.Errorf("half a neighbour: %v", err)
	}
	write("default via fe80::1 dev eth0\nunreachable 2001:db8:dead::/48 dev lo\n2001:db8:8000::/56 via fe80::7 dev eth1 metric 1024\n" +
		"O   2001:db8:8100::1/56 [110/20]\nff00::/8 dev eth0\n10.0.0.0/8 via 10.77.0.1\n2001:db8::9/128 dev eth0\n\n")
	got = nil
	routes, err := readRoutes(file)
	for _, r := range routes {
		got = append(got, fmt.Sprintf("%s (%s)", r.Prefix, r.Via))
	}
	if text := strings.Join(got, ", "); err != nil || text != "2001:db8:dead::/48 (dev lo), 2001:db8:8000::/56 (via fe80::7 dev eth1 metric 1024), 2001:db8:8100::/56 ([110/20])" {
		t.Errorf("routes are %s, %v", text, err)
	}
}

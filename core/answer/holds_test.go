package answer

import (
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
)

// A lease is a reservation's by what the reservation knows its client by.
func TestHolds(t *testing.T) {
	hw := addr.Hardware("\x02\x40\x00\x00\x00\x07")
	l := &lease.Lease{Hardware: hw, Client: lease.ByIdentifier([]byte{9, 9}), Circuit: "sw1/0/7"}
	for _, c := range []struct {
		name string
		r    plan.Reservation
		want bool
	}{
		{"its hardware address", plan.Reservation{Hardware: hw}, true},
		{"another", plan.Reservation{Hardware: hw[:5] + "\x08"}, false},
		{"its identifier", plan.Reservation{Identifier: "\x09\x09"}, true},
		{"another identifier, of the same hardware", plan.Reservation{Identifier: "\x09", Hardware: hw}, false},
		{"its circuit", plan.Reservation{Circuit: "sw1/0/7"}, true},
		{"another circuit", plan.Reservation{Circuit: "sw1/0/70"}, false},
	} {
		if got := Holds(&c.r, l); got != c.want {
			t.Errorf("by %s: %v", c.name, got)
		}
	}
}

package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"yarnpost/demo"
)

// A fault of the program, a clock that somebody sets and a database that dies are found,
// and nothing else with them.
func TestAuditOfTheProgram(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	s.bend()
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.199", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	calm := &demo.Client{Relay: r, Hardware: hw(1), Hostname: "loom-1"}
	if err := calm.Get(ctx); err != nil {
		t.Fatal(err)
	}
	s.calm()
	var thaw func()
	stepped := func(is bool) {
		s.await(func() bool { return strings.Contains(s.must("status"), "stepped") == is }, "the clock to be looked at")
	}
	s.hold([]planted{
		{name: "a clock that is set an hour ahead", want: "clock-stepped", plant: func() { s.tell("set", time.Hour); stepped(true) },
			undo: func() { s.tell("set", 0); stepped(false) }},
		{name: "a clock that is set a week back", want: "clock-stepped", plant: func() { s.tell("set", -7*24*time.Hour); stepped(true) },
			undo: func() { s.tell("set", 0); stepped(false) }},
		{name: "a database that hangs", want: "database-down", plant: func() {
			thaw = freezePostgres(t, s)
			s.await(func() bool { return strings.Contains(s.must("status"), "cannot be recorded") }, "the database to be missed")
			if out, _, _ := s.cli("audit", "run"); !strings.Contains(out, "not on record") {
				t.Errorf("an audit without a database says\n%s", out)
			}
		}, undo: func() {
			thaw()
			s.await(func() bool { return !strings.Contains(s.must("status"), "cannot be recorded") }, "the database to be back")
			s.await(func() bool { // one that was due meanwhile
				_, behind := s.findings()["samples-behind samples"]
				return !behind
			}, "a sample")
		}},
		{name: "a fault in a decision", want: "fault", plant: func() {
			odd := demo.Client{Relay: r, Hardware: hw(2), Vendor: "a fault", Patience: time.Second}
			if err := odd.Get(ctx); err == nil {
				t.Error("a client whose request cannot be decided is served")
			}
			if err := calm.Renew(ctx); err != nil {
				t.Errorf("after a fault that was another client's: %v", err)
			}
		}},
	})
}

// A pool that is far too large shows once there is a month of samples.
func TestAuditOfAMonth(t *testing.T) {
	t.Parallel()
	s := startService(t, "--unused-after", "1us")
	ctx := context.Background()
	s.must("scope", "add", "looms", "--subnet", "10.77.0.0/20", "--pool", "10.77.1.0-10.77.15.200", "--router", "10.77.0.1", "--serve")
	r := s.relay("127.77.0.1", "10.77.0.1")
	for n := range 3 {
		c := demo.Client{Relay: r, Hardware: hw(n + 1), Hostname: fmt.Sprint("loom-", n)}
		if err := c.Get(ctx); err != nil {
			t.Fatal(err)
		}
	}
	s.calm()
	sampled := fmt.Sprintf("select from capacity_open where at > to_timestamp(%d)", time.Now().Unix())
	for end := time.Now().Add(2 * time.Minute); s.sql(sampled) == 0 && time.Now().Before(end); {
		time.Sleep(time.Second)
	}
	s.hold([]planted{{name: "five weeks in which three of 3,785 addresses were used", want: "oversized-pool", plant: func() {
		s.sql(`insert into capacity_open (at, body)
			select m.at - n * interval '20 minutes', m.body from (select at, body from capacity_open order by at desc limit 1) m, generate_series(1, 35 * 72) n
			on conflict do nothing`)
		s.stop()
		s.start()
		s.await(func() bool {
			return !strings.Contains(s.must("capacity", "forecast", "looms"), "not enough history")
		}, "the samples to be put in order")
		s.await(func() bool { return s.findings()["oversized-pool scope looms"].Code != "" }, "the forecast to be made")
	}}})
}

// A person declares a server down that serves on, cut off from the other: its share is
// given away once the lead time is over, and so is what a client of it still holds. A
// share that is used up is found before that, and the two holders once both talk again.
func TestAuditOfAServerDeclaredDown(t *testing.T) {
	t.Parallel()
	w := unpaired(t)
	ctx := context.Background()
	w.a.must("scope", "add", "looms", "--subnet", "10.77.0.0/24", "--pool", "10.77.0.100-10.77.0.131", "--lease", "20m", "--option", "router=10.77.0.1", "--serve")
	w.form("--mode", "load-sharing")
	here, there := w.a.relay("127.77.0.8", "10.77.0.1"), w.b.relay("127.77.0.9", "10.77.0.1")
	holder := &demo.Client{Relay: there, Hardware: hw(1), Hostname: "loom-1", Patience: 12 * time.Second}
	if err := holder.Get(ctx); err != nil {
		t.Fatal(err)
	}
	w.together("before the cut")
	w.cable.Cut()
	w.state(w.a, "communications-interrupted")
	w.state(w.b, "communications-interrupted")
	held := map[string]bool{}
	fill := func(first int, until func() bool, what string) {
		t.Helper()
		for n := first; n < first+40 && !until(); n++ {
			c := demo.Client{Relay: here, Hardware: hw(n), Patience: 5 * time.Second}
			if err := c.Get(ctx); err == nil {
				held[c.Address.String()] = true
			}
		}
		if !until() {
			t.Fatalf("not so: %s; given were %d", what, len(held))
		}
	}
	found := func(key string) func() bool {
		return func() bool { _, ok := w.a.findings()[key]; return ok }
	}
	fill(100, found("pair-shares scope looms"), "a share that is used up is found")
	if held[holder.Address.String()] {
		t.Fatalf("%s was given to two", holder.Address)
	}
	w.a.must("pair", "down", "--yes")
	w.state(w.a, "partner-down")
	w.a.after("150m") // beyond the lead time
	w.b.after("150m")
	w.state(w.b, "communications-interrupted")
	w.state(w.a, "partner-down")
	if err := holder.Get(ctx); err != nil {
		t.Fatalf("the client of the server that was declared down: %v", err)
	}
	fill(200, func() bool { return held[holder.Address.String()] }, "the survivor gives the address away")
	w.cable.Mend()
	key := "pair-conflict address " + holder.Address.String()
	w.a.await(found(key), "the two holders to be found")
	if f := w.a.findings()[key]; f.Severity != "trouble" || !strings.Contains(f.Text, "both held it") {
		t.Errorf("found: %+v", f)
	}
	w.agree("after the conflict")
	w.a.mend(nil, []string{"pair-conflict"})
}

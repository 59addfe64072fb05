package accounts

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"
)

// Attempts to sign in are counted before anything is checked, by source and by
// account; made-up names do not fill the count up; what is paced comes through.
func TestLimiter(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	tr := newLimiter(func() time.Time { return now }, 1000)
	try := func(source, account string, known bool) (its bool) {
		t.Helper()
		x, err := tr.join(place(source), account, known)
		if err != nil {
			t.Fatal(err)
		}
		select {
		case <-x.turn:
			x.done()
			return true
		default:
			tr.leave(x)
			return false
		}
	}
	free := func(source string) (n int) {
		for n < 200 && try(source, "nobody", false) {
			n++
		}
		return n
	}
	if n := free("10.0.0.1"); n != sourceFree+1 {
		t.Errorf("%d failures before a source is paced", n)
	}
	if n := free("10.0.0.2"); n != sourceFree+1 {
		t.Error("one source is paced because of another")
	}
	if a, b := place("2001:db8::1"), place("2001:db8::ffff"); a != b || a == place("2001:db8:0:1::1") {
		t.Error("the addresses of one network are not one source")
	}
	for n := range 3 * sourcesMost {
		try(fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255), fmt.Sprint("made-up-", n), false)
	}
	if len(tr.sources) > sourcesMost || len(tr.accounts) != 0 {
		t.Errorf("%d sources and %d accounts are remembered", len(tr.sources), len(tr.accounts))
	}
	paced := 0
	for n := range accountFree + 5 {
		if !try(fmt.Sprintf("11.0.%d.1", n), "admin", true) {
			paced++
		}
	}
	if paced == 0 {
		t.Error("an account that is attacked from everywhere is not paced")
	}
	now = now.Add(2 * triesSpan)
	if n := free("10.0.0.1"); n != sourceFree+1 {
		t.Error("a minute later a source is still paced")
	}
	x, err := newLimiter(func() time.Time { return now }, 1).begin(context.Background(), "10.0.0.9", "admin", true)
	if err != nil {
		t.Fatal(err)
	}
	if len(x.source.failed) != 1 {
		t.Error("an attempt is not counted before it is checked")
	}
	if x.good(); len(x.source.failed) != 0 || !x.source.good["admin"] {
		t.Error("a right password stays counted")
	}
}

// However many guess, whoever signs in is next: from where the account was signed in to
// before, or for the first time from anywhere.
func TestGuessersHoldNobodyUp(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	tr := newLimiter(func() time.Time { return now }, 2)
	tr.sourceOf("192.0.2.1").good["admin"] = true
	var guesses []*try
	for round := range 4 {
		for n := range 400 {
			x, err := tr.join(fmt.Sprintf("10.1.%d.%d", n>>8, n&255), "admin", true)
			if err != nil {
				t.Fatalf("round %d, source %d: %v", round, n, err)
			}
			guesses = append(guesses, x)
		}
	}
	if len(tr.waiting) > waitingMost || tr.working != 2 {
		t.Fatalf("%d wait and %d are worked on", len(tr.waiting), tr.working)
	}
	its := func(x *try) bool {
		select {
		case err := <-x.turn:
			return err == nil
		default:
			return false
		}
	}
	known, err := tr.join("192.0.2.1", "admin", true)
	if err != nil {
		t.Fatal(err)
	}
	fresh, err := tr.join("192.0.2.2", "admin", true)
	if err != nil {
		t.Fatal(err)
	}
	end := func() {
		for i, g := range guesses {
			if g != nil && its(g) {
				guesses[i] = nil
				g.done()
				return
			}
		}
		t.Fatal("nothing is worked on")
	}
	if end(); !its(known) {
		t.Error("whoever signed in here before is not next")
	}
	now = now.Add(accountPace)
	if end(); !its(fresh) {
		t.Error("whoever tries for the first time is not next")
	}
}

func TestStrongPasswords(t *testing.T) {
	for password, ok := range map[string]bool{"warp and weft": true, "blaue Wolle 7": true, "short": false, "aaaaaaaaaaaa": false,
		"password123": false, "adminadmin12": false, "1234567890": false, "the old one": false, strings.Repeat("xyzuv", 60): false} {
		if err := strong("admin", "the old one", password); (err == nil) != ok {
			t.Errorf("%q: %v", password, err)
		}
	}
}

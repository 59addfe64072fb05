package failover

import (
	"strings"
	"testing"
	"time"

	"yarnpost/core/pair"
)

// Whether the other server would carry on is said with every reason why it would not.
func TestTakeover(t *testing.T) {
	now := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name   string
		change func(*View)
		want   string // what the reasons say, with | between
	}{
		{"all is well", func(*View) {}, ""},
		{"not heard", func(v *View) { v.Connected = false }, "shuttle is not heard since 13:59:00"},
		{"it does not agree", func(v *View) { v.Refused = "lead time or split of the two differ" },
			"they cannot work together: lead time or split of the two differ"},
		{"it recovers", func(v *View) { v.Partner.State = pair.Recover.String() }, "shuttle is in recover"},
		{"this one recovers", func(v *View) { v.Own.State = pair.RecoverWait.String() }, "bobbin is in recover-wait"},
		{"paused", func(v *View) { v.Resting = true }, "shuttle is paused"},
		{"its database is away", func(v *View) { v.Resting, v.Partner.Trouble = true, "nothing can be recorded" },
			"shuttle says: nothing can be recorded"},
		{"the plans parted", func(v *View) { v.Standing, v.Partner.Revision = pair.Parted, 9 }, "a person has to choose"},
		{"it is behind", func(v *View) { v.Partner.Revision = 6 }, "serves by revision 6 of the plan, this server by 7"},
		{"much is owed", func(v *View) { v.Own.Owed = 1001 }, "1001 leases are not known to shuttle yet"},
		{"a little is owed", func(v *View) { v.Own.Owed = 1000 }, ""},
		{"it has no address", func(v *View) { v.Scopes[0].Partner = 0 }, "shuttle has no free address of scope looms"},
		{"nobody has many", func(v *View) { v.Scopes[0].Partner, v.Scopes[0].Own = 0, 1 }, ""},
		{"two at once", func(v *View) { v.Resting, v.Own.Owed = true, 5000 }, "shuttle is paused|5000 leases"},
	} {
		v := View{Connected: true, Compared: true, Contact: now.Add(-time.Minute), Scopes: []ShareView{{Scope: "looms",
			Own: 40, Partner: 30}}}
		v.Own.Name, v.Own.State, v.Own.Revision = "bobbin", pair.Normal.String(), 7
		v.Partner.Name, v.Partner.State, v.Partner.Revision = "shuttle", pair.Normal.String(), 7
		c.change(&v)
		got := takeover(&v, now)
		want := strings.FieldsFunc(c.want, func(r rune) bool { return r == '|' })
		if len(got) != len(want) {
			t.Errorf("%s: %q, want %q", c.name, got, want)
			continue
		}
		for i := range want {
			if !strings.Contains(got[i], want[i]) {
				t.Errorf("%s: %q, want %q", c.name, got[i], want[i])
			}
		}
	}
}

// Settings of a pair that make no sense are refused with what would.
func TestPairSettingsAreChecked(t *testing.T) {
	for want, bad := range map[string]pair.Settings{"split 101": {Split: 101}, "split -1": {Split: -1},
		"a minute to a day": {MCLT: time.Second},
		"lead time 25h":     {MCLT: 25 * time.Hour}, "a minute at least": {AutoDown: time.Second}} {
		if err := checkSettings(bad); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", bad, err, want)
		}
	}
	for _, good := range []pair.Settings{{}, {Split: 100, MCLT: time.Minute, AutoDown: time.Minute}, {MCLT: 24 * time.Hour}} {
		if err := checkSettings(good); err != nil {
			t.Errorf("%+v: %v", good, err)
		}
	}
}

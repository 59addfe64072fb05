package audit

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// Pair is what is known of a pair.
type Pair struct {
	Own, Partner string
	Connected    bool
	Reasons      []string // why the partner could not take over
	Owed         int      // updates
	OwedSince    time.Duration
	Waiting      int // addresses that wait for the partner's word
	Skew         time.Duration
	Plan         string // how the plans stand, if not together
	Parted       bool   // both changed it, and a person has to choose
	Shares       []Share
	Relays       []Said // that one hears alone
	Wrong        []Difference
	Conflicts    []Difference
}

// Share is what each server has to give of a scope.
type Share struct {
	Scope        string
	Own, Partner uint64
	Low          string // the server that has too little, or ""
}

// Difference is an address that both know differently.
type Difference struct {
	Address netip.Addr
	Text    string
}

// Allowances of a pair.
const (
	owedLong  = 5 * time.Minute
	skewMost  = 30 * time.Second
	waitsMany = 10
)

// OfPair looks at a pair.
func OfPair(p Pair) []Finding {
	var out findings
	for _, d := range p.Wrong {
		out.say("pair-differs", "address "+d.Address.String(), "%s: %s", d.Address, d.Text).mend("", "yarnpost pair compare --mend --yes")
	}
	for _, d := range p.Conflicts {
		out.say("pair-conflict", "address "+d.Address.String(), "%s: %s", d.Address, d.Text).mend("", "yarnpost lease end "+d.Address.String())
	}
	if p.Owed > 0 && p.OwedSince >= owedLong {
		out.say("pair-owed", "server "+p.Own, "%s does not know of %s, for %s now", p.Partner, plural(p.Owed, "lease", "leases"), p.OwedSince.Round(time.Minute)).
			of(p.Owed, nil)
	}
	for _, s := range p.Shares {
		if s.Low != "" {
			out.say("pair-shares", "scope "+s.Scope, "of scope %s %s has %d free addresses to give, %s has %d", s.Scope, p.Own, s.Own, p.Partner, s.Partner).
				in(s.Scope).mend("", "yarnpost pair rebalance")
		}
	}
	if p.Waiting >= waitsMany && !p.Connected {
		out.say("pair-nobodys", "server "+p.Own, "%s for the word of %s before anybody gets them", plural(p.Waiting, "address waits", "addresses wait"), p.Partner).of(p.Waiting, nil)
	}
	if p.Plan != "" {
		f := out.say("pair-plan", "plan", "%s", p.Plan)
		if p.Parted {
			f.as(Trouble).mend("Choose one of the two; what the other changed is kept, to be applied again.", "yarnpost pair settle")
		}
	}
	if p.Skew.Abs() > skewMost {
		out.say("pair-clock", "server "+p.Partner, "the clock of %s differs by %s", p.Partner, p.Skew)
	}
	for _, r := range p.Relays {
		out.say("pair-relay", r.Subject, "%s", r.Text)
	}
	if len(p.Reasons) > 0 {
		out.say("pair-takeover", "server "+p.Partner, "%s could not take over: %s", p.Partner, strings.Join(p.Reasons,
			"; ")).of(len(p.Reasons), p.Reasons).
			mend("", "yarnpost pair status")
	}
	return out.all()
}

// Service is what is known of the service itself.
type Service struct {
	Down         string        // why leases cannot be recorded, or ""
	Commit       time.Duration // how long one takes lately, on the average; 0 if there was none
	DiskFree     float64       // share of the disk; -1 if it is not known
	DiskLeft     uint64        // octets
	HistoryDays  int           // of which history is not in order
	Samples      string        // why samples are not recorded, or ""
	Dropped      uint64        // datagrams, since the last look
	Certificate  time.Time     // when it ends; zero if there is none
	Now          time.Time
	ClockStep    time.Duration
	SetBack      string // that the database was set back, in words, or ""
	Backup       string // what is wrong with the backups, or ""
	Changes      []Said // changes in preparation that were not made when they were due, or were undone
	Claims       []Said // hosts that answer for addresses of others
	OtherServers []Said
	SilentRelays []Said
	Trials       []Failed
	Unserved     map[string]int // clients by reason, in words
	Panics       int
	Host         []Failed // what preflight found
}

// Said is something about a subject, in words.
type Said struct {
	Subject, Text string
	Meant         bool // it is as somebody wants it: worth a note
}

// Failed is a trial that failed.
type Failed struct{ Name, Scope, Text string }

// Allowances of a service.
const (
	commitSlow  = 100 * time.Millisecond
	diskLeast   = 0.10
	certificate = 21 * 24 * time.Hour
)

// OfService looks at a service.
func OfService(s Service) []Finding {
	var out findings
	if s.Down != "" {
		out.say("database-down", "database", "%s", s.Down)
	}
	if s.Commit > commitSlow {
		out.say("database-slow", "database", "a commit takes %s on the average", s.Commit.Round(time.Millisecond))
	}
	if s.DiskFree >= 0 && s.DiskFree < diskLeast {
		f := out.say("disk-full", "disk", "%.1f %% of the disk of the data folder are free, %d MB", 100*s.DiskFree, s.DiskLeft>>20)
		if s.DiskFree < diskLeast/5 {
			f.as(Trouble)
		}
	}
	if s.HistoryDays > 0 {
		out.say("history-behind", "history", "the history of %s is not in order", plural(s.HistoryDays, "day", "days"))
	}
	if s.Samples != "" {
		out.say("samples-behind", "samples", "%s", s.Samples)
	}
	if s.Dropped > 0 {
		out.say("conversations-dropped", "datagrams", "%s dropped since the last audit, because the service was too busy", plural(int(s.Dropped), "datagram was", "datagrams were"))
	}
	if left := s.Certificate.Sub(s.Now); !s.Certificate.IsZero() && left < certificate {
		f := out.say("certificate-ends", "certificate", "the certificate ends at %s", s.Certificate.UTC().Format("2 Jan 2006 15:04"))
		if left < 0 {
			f.as(Trouble)
			f.Text = fmt.Sprintf("the certificate ended at %s", s.Certificate.UTC().Format("2 Jan 2006 15:04"))
		}
	}
	if s.ClockStep != 0 {
		out.say("clock-stepped", "clock", "the clock of this host stepped by %s", s.ClockStep.Round(time.Second))
	}
	if s.SetBack != "" {
		out.say("database-set-back", "database", "%s", s.SetBack)
	}
	if s.Backup != "" {
		out.say("backup-missing", "backups", "%s", s.Backup)
	}
	for _, c := range s.Changes {
		out.say("change-failed", c.Subject, "%s", c.Text)
	}
	for _, c := range s.Claims {
		out.say("host-claims-addresses", c.Subject, "%s", c.Text)
	}
	for _, r := range s.OtherServers {
		f := out.say("other-server", r.Subject, "%s", r.Text)
		if r.Meant {
			f.as(Note).mend("Nothing, while this server listens beside it; yarnpost listening shows how far the two agree.", "yarnpost listening")
		}
	}
	for _, r := range s.SilentRelays {
		out.say("relay-silent", r.Subject, "%s", r.Text)
	}
	for _, t := range s.Trials {
		out.say("trial-failed", "trial "+t.Name, "trial %s of scope %s failed: %s", t.Name, t.Scope, t.Text).in(t.Scope).mend("", "yarnpost trial run "+t.Name)
	}
	total, worst, most := 0, "", 0
	for why, n := range s.Unserved {
		if total += n; n > most || n == most && why < worst {
			worst, most = why, n
		}
	}
	if total > 0 {
		out.say("clients-unserved", "clients", "%s nothing; most of them (%d): %s", plural(total, "client asks and gets", "clients ask and get"), most, worst).of(total, nil).
			mend("", "yarnpost unserved list")
	}
	for _, h := range s.Host {
		out.say("host", "host "+h.Name, "%s: %s", h.Name, h.Text)
	}
	if s.Panics > 0 {
		out.say("fault", "service", "%s caught since the start", plural(s.Panics, "fault was", "faults were")).of(s.Panics, nil)
	}
	return out.all()
}

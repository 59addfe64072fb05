package httpd

import (
	"context"
	"io"
	"net/netip"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/audit"
	"yarnpost/core/capacity"
	"yarnpost/core/lease"
	"yarnpost/core/pair"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/core/rule"
	"yarnpost/edit"
	"yarnpost/service/alert"
	"yarnpost/service/auditor"
	"yarnpost/service/change"
	"yarnpost/service/compare"
	"yarnpost/service/drill"
	"yarnpost/service/engine"
	"yarnpost/service/failover"
	"yarnpost/service/leaseadmin"
	"yarnpost/service/observe"
	"yarnpost/service/permit"
	"yarnpost/service/preflight"
	"yarnpost/service/prepare"
	"yarnpost/service/rehearse"
	"yarnpost/service/report"
	"yarnpost/service/samples"
	"yarnpost/service/scheduled"
	"yarnpost/service/store"
	"yarnpost/service/trials"
	"yarnpost/sheet"
)

// Parts are what the HTTP side talks to.
type Parts struct {
	Service    Service
	Engine     Engine
	Reports    Reports
	Store      Store
	Plans      Plans
	Prepared   Prepared
	Leases     Leases
	Pair       Pair
	Compare    Comparer
	Drills     Drills
	Host       Host
	Trials     Trials
	Samples    Samples
	Audits     Audits
	Facts      Facts
	Alerts     Alerts
	Scheduled  Scheduled
	Rehearsals Rehearsals
	Trail      Trail
	Access     Access
	Events     Events
	Permits    permit.Permits
	Registry   *prometheus.Registry
	Clock      interface{ Now() time.Time }
	Started    time.Time // when the service was
}

// Service is the running service.
type Service interface {
	// Health is what stands between the service and its work, or nil.
	Health() error
	DHCP4() netip.AddrPort
	DHCP6() netip.AddrPort
	Recorded() (entries, commits uint64)
}

// Engine serves by the plan, and knows what was asked.
type Engine interface {
	Plan() *plan.Plan
	With(func(*lease.Table))
	EachLease(scope plan.ID, share ...func(*lease.Lease))
	Count(scope plan.ID) lease.Counts
	CountDelegated(scope plan.ID) lease.Counts
	DUID() addr.DUID
	NetworkAt(netip.Addr) string // what of the network an address is, or ""
	Propose(p *plan.Plan, v *plan.View, prefer netip.Addr) (netip.Addr, bool)
	Served(span time.Duration) int
	Talk() *observe.Conversations
	Unserved() []observe.Unserved
	UnservedCount() int
	ForgetUnserved(addr.Hardware)
	Relays() []observe.Relay
	ForgetRelays(netip.Addr) int
	OtherServers() []observe.OtherServer
	Agreements() []observe.Agreement
	FitsOf(rule plan.ID) observe.Fits
	Given(digest uint64) (answer.Set, bool)
}

// Reports says what would be decided, and for whom.
type Reports interface {
	TryRule(p *plan.Plan, fits func(*rule.Request, *plan.View) bool) (matching, all int, examples []*lease.Lease)
	Explain(request.Request) (report.Explained, error)
	Known(hardware string) (*lease.Lease, request.Options)
	Stale(scope plan.ID) []report.Stale
	Unmet() []report.Unmet
}

// Store has what is on record.
type Store interface {
	Revisions(ctx context.Context, before int64, limit, lines int) ([]store.Revision, error)
	Changes(ctx context.Context, revision int64) ([]plan.Change, error)
	ChangesBehind(ctx context.Context, revision, upTo int64) ([]plan.Change, error)
	RevisionAt(ctx context.Context, at time.Time) (int64, error)
	ChangesOf(ctx context.Context, scope plan.ID, since time.Time, limit int) ([]store.PlanChange, error)
	Changed(ctx context.Context, kind plan.Kind, ids []plan.ID) (map[plan.ID]time.Time, error)
	History(ctx context.Context, q store.Past, now time.Time) ([]store.Event, error)
	EachPast(ctx context.Context, from, to time.Time, subnets []netip.Prefix, each func(store.Event)) error
	EachBegun(ctx context.Context, from, to time.Time, subnets []netip.Prefix, each func(store.Event)) error
	Minutes(ctx context.Context, key string, from time.Time) ([]store.Sampled, error)
	Hours(ctx context.Context, key string, from time.Time) (start time.Time, hours []capacity.HourRow, err error)
	AuditRuns(ctx context.Context, limit int) ([]store.AuditRun, error)
	Schedule(context.Context) (store.Schedule, error)
	Reports(context.Context) ([]store.Report, error)
	ReportPage(ctx context.Context, id int64) (page []byte, ok bool, err error)
	Trail(context.Context, store.TrailQuery) ([]store.Deed, error)
	Targets(context.Context) ([]store.Target, error)
	SaveTarget(ctx context.Context, t store.Target, said time.Time) error
	RemoveTarget(ctx context.Context, name string, said time.Time) (bool, error)
	QueuedAlerts(context.Context) ([]store.Queued, error)
	// Backup writes a backup, all of one moment.
	Backup(context.Context, io.Writer, store.Manifest) error
}

// Plans changes the plan.
type Plans interface {
	Change(context.Context, change.Order, func(*plan.Draft) error) (*change.Change, error)
}

// Prepared keeps changes of the plan in preparation.
type Prepared interface {
	List() []prepare.Preparation
	Begin(ctx context.Context, name, note, by string) (prepare.Preparation, error)
	Check(ctx context.Context, name, who string) (prepare.Checked, error)
	Gather(ctx context.Context, name string, o change.Order, do func(*plan.Draft) error) (*change.Change, error)
	TakeOut(ctx context.Context, name string, number int) error
	Approve(ctx context.Context, name, by string) error
	Apply(ctx context.Context, name string, o change.Order, undo *prepare.Undo) (*change.Change, error)
	Schedule(ctx context.Context, name string, due prepare.Due, undo *prepare.Undo, alone bool) (*change.Change, error)
	CallOff(ctx context.Context, name string, o change.Order) error
	Drop(ctx context.Context, name string, o change.Order) error
	// MadeAround says what is around edits that this server makes.
	MadeAround(edit.Around)
}

// Leases does what a person does to leases.
type Leases interface {
	End(ctx context.Context, k netip.Prefix, preview bool) (leaseadmin.Ending, error)
	Clear(ctx context.Context, k netip.Prefix, preview bool) (leaseadmin.Ending, error)
	Forget(context.Context, netip.Prefix) error
	HeldBy(scope plan.ID, r *plan.Reservation) (netip.Addr, bool)
	Bring(ctx context.Context, rows []sheet.Lease, preview bool) (leaseadmin.Brought, []sheet.Fault, error)
	Table(scope plan.ID) []sheet.Lease
	Act(ctx context.Context, act leaseadmin.Act, k netip.Prefix, preview bool) leaseadmin.Acted
	Nudge(*lease.Lease) error
	MayNudge(*lease.Lease) error
	NudgeAll([]report.Stale)
}

// Pair is the pair that this server may be in.
type Pair interface {
	Name() string
	View() (v failover.View, paired bool)
	History(ctx context.Context, limit int) ([]store.PairEvent, error)
	States(ctx context.Context, since time.Time) (own, theirs []failover.StateSpan, err error)
	Unserved(context.Context) (list []failover.Unserved, silent string)
	TrailOfPartner(context.Context, store.TrailQuery) (list []store.Deed, name string, err error)

	Invite(at string, set pair.Settings) (failover.Invitation, error)
	Join(ctx context.Context, code string, giveUp bool) error
	Leave(context.Context) error
	Edit(context.Context, func(*pair.Settings)) error
	Pause(on bool) error
	Down() error
	Rebalance() (changed int, err error)
	TellAgain([]netip.Prefix) error

	PartedLines(context.Context) (failover.Lines, error)
	Settle(ctx context.Context, keep string) error
	Aside(context.Context) ([]failover.Aside, error)
	Again(ctx context.Context, key string, o change.Order) (*change.Change, error)

	// Forward passes a request on to the primary; ok is false if it is to be carried out here.
	Forward(context.Context, failover.Forwarded) (reply failover.ForwardedReply, ok bool, err error)
	// KeepAccess names who keeps accounts, and who carries out what the partner passes on.
	KeepAccess(failover.AccessKeeper, failover.Forwarder)
}

// Comparer compares both tables of a pair.
type Comparer interface {
	Compare(context.Context) (compare.Comparison, error)
}

// Drills rehearse this server's death.
type Drills interface {
	Start(span time.Duration) (drill.Report, error)
	Report() *drill.Report
}

// Host is the machine and what is around it.
type Host interface {
	PlanInterfaces() []plan.Interface
	Facing(relay netip.Addr) netip.Addr
	Preflight(context.Context) []preflight.Check
	LastPreflight() []preflight.Check
}

// Trials makes real exchanges.
type Trials interface {
	Run(context.Context, plan.Trial) (trials.Result, error)
	Results(name string) []trials.Result
}

// Samples knows use over time.
type Samples interface {
	Levels(room []samples.Level) []samples.Level
	Outlook(context.Context, samples.Level) (samples.Outlook, error)
	Outlooks() (map[capacity.Key]samples.Outlook, time.Time)
}

// Audits makes audits.
type Audits interface {
	Run(ctx context.Context, why string, slow bool) (auditor.Report, error)
	Last(context.Context) (auditor.Report, bool)
	Past(ctx context.Context, since time.Time) ([]auditor.Entry, error)
	// Between compares the last audits up to two moments.
	Between(ctx context.Context, from, to time.Time) (auditor.Difference, error)
	Acknowledge(ctx context.Context, keys []string, by, reason string, until time.Time) ([]auditor.Entry, error)
}

// Scheduled makes reports on a schedule.
type Scheduled interface {
	Set(context.Context, store.Schedule) error
	MakeWith(scheduled.Maker)
}

// Facts are what audits are about.
type Facts interface {
	Standing() []audit.Finding
	// Name gives neighbours beside those that the host knows, until others are named.
	Name([]audit.Neighbour)
	// NameRoutes gives routes of delegated prefixes, until others are named.
	NameRoutes([]audit.Route)
	CertificateEnds(func() time.Time)
}

// Alerts fire and clear.
type Alerts interface {
	Standing() []alert.Alert
	Past(context.Context) ([]alert.Alert, error)
	Silences() []store.Silence
	Silence(context.Context, store.Silence) error
	Check(context.Context, store.Target) error
	Send(context.Context, store.Target, store.Queued) error
	// Share tells the partner where alerts go.
	Share(context.Context)
}

// Rehearsals play the past against a changed plan.
type Rehearsals interface {
	Start(span time.Duration, next *plan.Plan, items []plan.Change, lines []plan.Line, gone bool) (*rehearse.Play, error)
	Number(id int64) *rehearse.Play
}

// Trail keeps what people did.
type Trail interface {
	Add(context.Context, store.Deed)
	Waiting() []store.Deed
}

// Access knows who may sign in.
type Access interface {
	failover.AccessKeeper
	Who(secret string) (store.Account, bool)
	SignIn(ctx context.Context, source, account, password string) (cookie string, err error)
	SignOut(ctx context.Context, cookie string) error
	ChangePassword(ctx context.Context, source, account, old, password string) error
	Accounts() []store.Account
	AddAccount(ctx context.Context, name string) (password string, err error)
	CloseAccount(ctx context.Context, name, by string) error
	Tokens() []store.Grant
	AddToken(ctx context.Context, account, name string) (string, error)
	RevokeToken(ctx context.Context, account, name string) error
	Changed() <-chan struct{}
}

// Events tells what happens as it happens.
type Events interface {
	Subscribe() *engine.Subscription
	Cancel(*engine.Subscription)
}

// Package prepare keeps changes of the plan in preparation: edits that several people gather under a
// name over days, checked against the plan as it moves, and made as a whole: at once or at a set
// moment, with a second person's approval where that is asked for, and undone by itself if more
// clients go unserved than before.
package prepare

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/service/change"
	"yarnpost/service/failover"
	"yarnpost/service/store"
)

// Preparation is a change in preparation.
type Preparation struct {
	Name      string     `json:"name"`
	Note      string     `json:"note,omitempty"`
	By        string     `json:"by"` // who began it
	Begun     time.Time  `json:"begun"`
	Steps     []Step     `json:"steps,omitempty"`
	Approvals []Approval `json:"approvals,omitempty"` // of the steps as they are
	Due       *Due       `json:"due,omitempty"`
	Undo      *Undo      `json:"undo,omitempty"`
	Watch     *Watch     `json:"watch,omitempty"`  // it was made, and whether clients go unserved is looked at
	Failed    string     `json:"failed,omitempty"` // why it was not made when it was due, or was undone
	// Making is the revision of the plan that it was being made on: until it is known what
	// came of that, it is not made again.
	Making int64 `json:"making,omitempty"`
}

// Step is what is changed of one item.
type Step struct {
	Edit     api.Edit  `json:"edit"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Revision int64     `json:"revision"` // of the plan that it was made against
}

// item is what a step changes: each stands once in a preparation.
type item struct{ kind, name string }

func itemOf(e api.Edit) item { return item{e.Kind, strings.ToLower(e.Name)} }

// Approval is a second person's.
type Approval struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// Due is when it is made by itself.
type Due struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Set     time.Time `json:"set"`               // when it was set
	RunDown bool      `json:"runDown,omitempty"` // leases run down until then
}

// Down is when the leases of a scope begin to get shorter, and when all its clients have renewed
// after the change: a lease of before runs for half its time first.
func (d Due) Down(v *plan.View) (from, settled time.Time) {
	from, settled = d.At.Add(-v.Lease), d.At.Add(plan.RunDownLeast)
	if from.Before(d.Set) {
		from = d.Set
	}
	if last := d.Set.Add(v.Lease / 2); last.After(settled) {
		settled = last
	}
	return from, settled
}

// Undo says when a change that was made is undone by itself.
type Undo struct {
	Within time.Duration `json:"within"` // of the moment it was made
	Above  int           `json:"above"`  // so many clients more go unserved than before
}

// Watch is a look at a change that was made.
type Watch struct {
	Revision int64     `json:"revision"`
	Before   int       `json:"before"` // clients that went unserved when it was made
	Until    time.Time `json:"until"`
}

// Engine serves by the plan.
type Engine interface {
	Plan() *plan.Plan
	UnservedCount() int
}

// Plans changes the plan.
type Plans interface {
	Change(context.Context, change.Order, func(*plan.Draft) error) (*change.Change, error)
	// MayChange reports why the plan cannot be changed here now, if it cannot.
	MayChange(alone bool) error
}

// Store keeps them.
type Store interface {
	Prepared(context.Context) ([]store.Prepared, error)
	SavePrepared(context.Context, ...store.Prepared) error
	Revisions(ctx context.Context, before int64, limit, lines int) ([]store.Revision, error)
	Changes(ctx context.Context, revision int64) ([]plan.Change, error)
}

// Partner is the other server of a pair.
type Partner interface {
	// WritesPlan reports whether this server is the one that changes the plan now.
	WritesPlan() bool
	// Ask puts a question to the partner; the error is failover.ErrAlone if there is none.
	Ask(ctx context.Context, method string, in, out any) error
}

// Parts are what a keeper needs.
type Parts struct {
	Engine  Engine
	Plans   Plans
	Store   Store
	Partner Partner
	Clock   interface{ Now() time.Time }
	Log     *slog.Logger
}

// Keeper keeps changes in preparation.
type Keeper struct {
	Parts
	writing sync.Mutex // one that changes anything at a time
	mu      sync.Mutex
	all     map[string]Preparation // by name in small letters; under mu
	changed map[string]time.Time   // those that are gone, too; under mu
	around  edit.Around            // that they are made in; under mu
	paused  map[string]time.Time   // until when what failed is not tried again; under mu
}

// New makes a keeper.
func New(p Parts) *Keeper {
	return &Keeper{Parts: p, all: map[string]Preparation{}, changed: map[string]time.Time{}, around: edit.Nowhere,
		paused: map[string]time.Time{}}
}

// MadeAround says what is around edits that this server makes.
func (k *Keeper) MadeAround(a edit.Around) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.around = a
}

// Load reads what is on record.
func (k *Keeper) Load(ctx context.Context) error {
	list, err := k.Store.Prepared(ctx)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.all)
	clear(k.changed)
	for _, row := range list {
		k.changed[row.Name] = row.Changed
		if row.Body == nil {
			continue
		}
		var p Preparation
		if err := json.Unmarshal(row.Body, &p); err != nil {
			return fmt.Errorf("the change in preparation %s: %w", row.Name, err)
		}
		k.all[row.Name] = p
	}
	return nil
}

// List gives all, by name.
func (k *Keeper) List() []Preparation {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := slices.Collect(maps.Values(k.all))
	slices.SortFunc(out, func(a, b Preparation) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return out
}

// Get gives one by its name, whatever the case; the error wraps plan.ErrNotFound.
func (k *Keeper) Get(name string) (Preparation, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p, ok := k.all[strings.ToLower(name)]
	if !ok {
		return p, fmt.Errorf("%w: no change in preparation is called %q; yarnpost change list shows all", plan.ErrNotFound, name)
	}
	return p, nil
}

// Bounds: how many are kept at once, and how many octets one may have, so that it fits into
// a message to the partner.
const (
	most     = 200
	bodyMost = 8 << 20
)

// Begin begins one.
func (k *Keeper) Begin(ctx context.Context, name, note, by string) (Preparation, error) {
	defer k.Hold()()
	if err := plan.CheckName(name); err != nil {
		return Preparation{}, err
	}
	if p, err := k.Get(name); err == nil {
		return p, plan.Refused("a change in preparation is called %s already, begun by %s; gather in it, or choose another name", p.Name, p.By)
	}
	if len(k.List()) >= most {
		return Preparation{}, plan.Refused("%d changes are in preparation; apply or drop some first", most)
	}
	p := Preparation{Name: name, Note: note, By: by, Begun: k.Clock.Now().UTC()}
	return p, k.save(ctx, p)
}

// Hold keeps everybody else from changing anything here until release is called.
func (k *Keeper) Hold() (release func()) {
	k.writing.Lock()
	return k.writing.Unlock
}

// save records what one has become.
func (k *Keeper) save(ctx context.Context, p Preparation) error {
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if len(body) > bodyMost {
		return plan.Refused("%s would be too large; make it in parts", p.Name)
	}
	return k.record(ctx, strings.ToLower(p.Name), body)
}

// gone records that one is no more.
func (k *Keeper) gone(ctx context.Context, name string) error {
	return k.record(ctx, strings.ToLower(name), nil)
}

// record records a state, and tells the partner, which asks again if it cannot be reached now.
func (k *Keeper) record(ctx context.Context, key string, body []byte) error {
	row := store.Prepared{Name: key, Changed: k.after(key), Body: body}
	if err := k.Store.SavePrepared(ctx, row); err != nil {
		return err
	}
	if err := k.take([]store.Prepared{row}); err != nil {
		return err
	}
	if err := k.Partner.Ask(ctx, "prepared.take", []store.Prepared{row}, nil); err != nil && !errors.Is(err, failover.ErrAlone) {
		k.Log.Warn("the partner does not know yet of a change in preparation", "name", key, "err", err)
	}
	return nil
}

// Edits are what it changes.
func (p Preparation) Edits() []api.Edit {
	out := make([]api.Edit, len(p.Steps))
	for i, s := range p.Steps {
		out[i] = s.Edit
	}
	return out
}

// Gather adds to a change in preparation what do makes of a draft that has all of it already. The
// change that is returned is the whole one; with preview nothing is added.
func (k *Keeper) Gather(ctx context.Context, name string, o change.Order, do func(*plan.Draft) error) (*change.Change, error) {
	if !o.Preview {
		defer k.Hold()()
	}
	p, err := k.Get(name)
	if err != nil {
		return nil, err
	}
	if p.Watch != nil {
		return nil, plan.Refused("%s was made as revision %d and is being watched until %s; begin another change", p.Name, p.Watch.Revision,
			p.Watch.Until.Format(time.RFC3339))
	}
	base := k.Engine.Plan()
	d := base.Draft()
	if faults := edit.Together(k.at(), d, p.Edits(), false); len(faults) > 0 {
		return nil, p.unfit(faults)
	}
	if err := do(d); err != nil {
		return nil, err
	}
	next, items := d.Finish()
	edits, err := edit.Between(base, next, items)
	if err != nil {
		return nil, err
	}
	steps := k.steps(p, edits, o.Author, base.Revision)
	c, err := k.Plans.Change(ctx, change.Order{Author: o.Author, Preview: true}, k.making(edits))
	if err != nil || o.Preview || reflect.DeepEqual(steps, p.Steps) {
		return c, err
	}
	p.Steps, p.Approvals, p.Failed = steps, nil, ""
	if err := k.save(ctx, p); err != nil {
		return c, err
	}
	return c, k.runDownAgain(ctx, p, o)
}

// steps are edits as steps: those that stood there before stay whose they were.
func (k *Keeper) steps(p Preparation, edits []api.Edit, by string, revision int64) []Step {
	before := make(map[item]Step, len(p.Steps))
	for _, s := range p.Steps {
		before[itemOf(s.Edit)] = s
	}
	var out []Step
	for _, e := range edits {
		if s, ok := before[itemOf(e)]; ok && reflect.DeepEqual(s.Edit, e) {
			out = append(out, s)
			continue
		}
		out = append(out, Step{Edit: e, By: by, At: k.Clock.Now().UTC(), Revision: revision})
	}
	return out
}

func (k *Keeper) at() edit.Around {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.around
}

// making makes edits in a draft.
func (k *Keeper) making(edits []api.Edit) func(*plan.Draft) error {
	return func(d *plan.Draft) error {
		if faults := edit.Together(k.at(), d, edits, false); len(faults) > 0 {
			return faults[0].Err
		}
		return nil
	}
}

// unfit says that steps do not fit the plan any more.
func (p Preparation) unfit(faults []edit.Fault) error {
	f := faults[0]
	what := "it"
	if f.Index >= 0 {
		s := p.Steps[f.Index]
		what = fmt.Sprintf("its edit %d (%s)", f.Index+1, strings.TrimSpace(s.Edit.Op+" "+s.Edit.Kind+" "+s.Edit.Name))
	}
	more := ""
	if len(faults) > 1 {
		more = fmt.Sprintf(", and %d more do not", len(faults)-1)
	}
	return plan.Refused("%s: %s does not fit the plan any more: %v%s; yarnpost change show %s shows all, and yarnpost change omit leaves one out",
		p.Name, what, f.Err, more, p.Name)
}

// TakeOut takes one step out, by its number from 1.
func (k *Keeper) TakeOut(ctx context.Context, name string, number int) error {
	defer k.Hold()()
	p, err := k.Get(name)
	switch {
	case err != nil:
		return err
	case p.Watch != nil:
		return plan.Refused("%s was made already, as revision %d", p.Name, p.Watch.Revision)
	case number < 1 || number > len(p.Steps):
		return fmt.Errorf("%w: %s has %d edits; there is no number %d", plan.ErrNotFound, p.Name, len(p.Steps), number)
	}
	p.Steps = slices.Delete(slices.Clone(p.Steps), number-1, number)
	p.Approvals, p.Failed = nil, ""
	if err := k.save(ctx, p); err != nil {
		return err
	}
	return k.runDownAgain(ctx, p, change.Order{Author: p.By})
}

// Drop gives one up. What was made of it stays.
func (k *Keeper) Drop(ctx context.Context, name string, o change.Order) error {
	defer k.Hold()()
	p, err := k.Get(name)
	if err != nil {
		return err
	}
	if err := k.endRunDown(ctx, p, o.Author); err != nil {
		return err
	}
	return k.gone(ctx, p.Name)
}

// Approve approves one as it is: a person who made none of it does.
func (k *Keeper) Approve(ctx context.Context, name, by string) error {
	defer k.Hold()()
	p, err := k.Get(name)
	if err != nil {
		return err
	}
	if len(p.Steps) == 0 {
		return plan.Refused("there is nothing in %s to approve", p.Name)
	}
	if slices.ContainsFunc(p.Steps, func(s Step) bool { return s.By == by }) {
		return plan.Refused("%s made part of %s; whoever approves it is somebody else", by, p.Name)
	}
	if slices.ContainsFunc(p.Approvals, func(a Approval) bool { return a.By == by }) {
		return nil
	}
	p.Approvals = append(slices.Clone(p.Approvals), Approval{by, k.Clock.Now().UTC()})
	return k.save(ctx, p)
}

// approved names who approved it, or "".
func (p Preparation) approved() string {
	var out []string
	for _, a := range p.Approvals {
		out = append(out, a.By)
	}
	return strings.Join(out, ", ")
}

// reason stands in the history of the plan, and tells the revision from others.
func (p Preparation) reason(why string) string {
	text := p.mark()
	if says := cmp.Or(why, p.Note); says != "" {
		text += ": " + says
	}
	if by := p.approved(); by != "" {
		text += " (approved by " + by + ")"
	}
	return text
}

// mark begins the reason of each revision that is made for it.
func (p Preparation) mark() string { return "change " + p.Name }

// What is done for a change beside making it, as its reason says.
const (
	runsDown  = "leases run down until it is due"
	calledOff = "called off"
)

// marks reports whether a revision was made for it; made, whether that made it.
func (p Preparation) marks(r store.Revision) (marked, made bool) {
	rest, ok := strings.CutPrefix(r.Reason, p.mark())
	if !ok || rest != "" && rest[0] != ':' && rest[0] != ' ' {
		return false, false
	}
	return true, !strings.HasPrefix(rest, ": "+runsDown) && !strings.HasPrefix(rest, ": "+calledOff) && !strings.HasPrefix(rest, " was undone")
}

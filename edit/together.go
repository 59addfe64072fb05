package edit

import (
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// Fault is what is wrong with one edit of many.
type Fault struct {
	Index int // which edit; -1 for none of them
	Err   error
}

// Together makes many edits, whatever their order: what others need comes first, and what another
// is in the way of comes after it. With whole they are the whole plan: what none of them puts goes,
// and what is the same thing under another name is renamed. Without faults the draft has them all;
// with one it is spent.
func Together(around Around, d *plan.Draft, edits []api.Edit, whole bool) []Fault {
	t := &together{around: around, d: d, edits: edits, byKind: map[plan.Kind][]int{}, named: map[key]bool{}, heirs: map[int]plan.Item{},
		there: map[int]bool{}}
	for i, e := range edits {
		k := plan.Kind(e.Kind)
		if t.byKind[k] = append(t.byKind[k], i); e.Op != Remove {
			t.named[keyOf(k, e.Name)] = true
		} else if d.Plan().ID(k, e.Name) != 0 {
			t.there[i] = true
		}
	}
	var absent []api.Edit
	if whole {
		absent = t.absent()
	}
	absent = t.remove(absent) // what still stands in the way of that is seen to below
	t.lift()
	kinds := plan.Kinds()
	for i := len(kinds) - 1; i >= 0; i-- {
		t.make(kinds[i], func(e api.Edit) bool { return e.Op == Remove })
	}
	for _, k := range kinds {
		t.make(k, func(e api.Edit) bool { return e.Op != Remove })
	}
	for _, e := range t.remove(absent) {
		if err := t.last(e); err != nil {
			t.faults = append(t.faults, Fault{-1, err})
		}
	}
	return t.faults
}

type together struct {
	around Around
	d      *plan.Draft
	edits  []api.Edit
	byKind map[plan.Kind][]int
	named  map[key]bool      // what the edits add, change or put
	heirs  map[int]plan.Item // what is renamed by an edit
	there  map[int]bool      // removals of what the plan has
	faults []Fault
	vacant bool // scopes that move gave up where they were
}

// key is an item's name among its kind.
type key struct {
	kind plan.Kind
	name string
}

func keyOf(k plan.Kind, name string) key { return key{k, strings.ToLower(name)} }

// absent are the edits that remove what the plan has and no edit puts, what belongs to others first;
// it finds the heirs.
func (t *together) absent() (out []api.Edit) {
	p, inherited := t.d.Plan(), map[key]bool{}
	scratch := p.Draft()
	for i, e := range t.edits {
		of := editors[plan.Kind(e.Kind)]
		if of.alike == nil || e.Op != Put {
			continue
		}
		if heir := of.alike(p, scratch, e); heir != nil {
			was := keyOf(plan.Kind(e.Kind), of.say(&pass{plan: p, out: true}, heir).Name)
			if !t.named[was] && !inherited[was] {
				inherited[was], t.heirs[i] = true, heir
			}
		}
	}
	kinds := plan.Kinds()
	for i := len(kinds) - 1; i >= 0; i-- {
		k := kinds[i]
		if k == plan.KindDefaults && !t.named[keyOf(k, "")] {
			out = append(out, api.Edit{Op: Put, Kind: string(k), Defaults: &api.DefaultsEdit{}})
		}
		names, _ := p.Names(k)
		for _, name := range names {
			if n := keyOf(k, name); !t.named[n] && !inherited[n] {
				out = append(out, api.Edit{Op: Remove, Kind: string(k), Name: name})
			}
		}
	}
	return out
}

// remove makes removals, and gives those that cannot be made yet.
func (t *together) remove(edits []api.Edit) (left []api.Edit) {
	for _, e := range edits {
		if e.Op == Remove && t.d.Plan().ID(plan.Kind(e.Kind), e.Name) == 0 {
			continue // it went with another
		}
		if Apply(t.around, t.d, e) != nil {
			left = append(left, e)
		}
	}
	return left
}

// last removes what could not be removed before, or says why that cannot be. A link goes with its
// scopes; one that still has any is said by them alone, and has nothing of its own.
func (t *together) last(e api.Edit) error {
	if l := t.d.Plan().LinkNamed(e.Name); e.Kind == string(plan.KindLink) && l != nil && len(t.d.Plan().OnLink(l.ID)) > 0 {
		return Apply(t.around, t.d, api.Edit{Op: Put, Kind: e.Kind, Name: e.Name, Link: &api.LinkEdit{}})
	}
	return Apply(t.around, t.d, e)
}

// make makes edits of a kind. Those that are refused are made again after the others, as long as
// that helps: one may need what another has still, such as a name or a subnet.
func (t *together) make(k plan.Kind, which func(api.Edit) bool) {
	var left []int
	for _, i := range t.byKind[k] {
		if which(t.edits[i]) {
			left = append(left, i)
		}
	}
	for len(left) > 0 {
		var again []int
		var faults []Fault
		for _, i := range left {
			if t.there[i] && t.d.Plan().ID(k, t.edits[i].Name) == 0 {
				continue // it went with another
			}
			errs := apply(t.around, t.d, t.edits[i], t.heirs[i])
			if len(errs) > 0 {
				again = append(again, i)
			}
			for _, err := range errs {
				faults = append(faults, Fault{i, err})
			}
		}
		if len(again) == len(left) {
			if k == plan.KindScope && !t.vacant && t.vacate(again) {
				continue
			}
			t.faults = append(t.faults, faults...)
			return
		}
		left = again
	}
}

// vacate has scopes that get another subnet or other prefix pools give up those that they have, for they
// may change places, and reports whether there are two of them at least.
func (t *together) vacate(list []int) bool {
	var moving []plan.ID
	for _, i := range list {
		e := t.edits[i]
		v := t.d.Plan().ScopeNamed(e.Name)
		if v == nil || e.Op == Remove || e.Scope == nil {
			continue
		}
		subnet := e.Scope.Subnet != nil && *e.Scope.Subnet != v.Subnet.String()
		if subnet || e.Scope.PrefixPools != nil && !slices.Equal(*e.Scope.PrefixPools, poolTexts(v.PrefixPools)) {
			moving = append(moving, v.ID)
		}
	}
	t.vacant = true
	if len(moving) < 2 {
		return false
	}
	for _, id := range moving {
		t.d.Vacate(id)
	}
	return true
}

func poolTexts(pools []plan.PrefixPool) (out []string) {
	for _, p := range pools {
		out = append(out, p.String())
	}
	return out
}

// lift takes reservations out that get another address, so that neither they nor their scopes are in
// each other's way; each keeps its id.
func (t *together) lift() {
	for _, i := range t.byKind[plan.KindReservation] {
		e := t.edits[i]
		old := t.d.Plan().ReservationNamed(e.Name)
		if e.Op != Put || e.Reservation == nil || e.Reservation.Address == nil || old == nil {
			continue
		}
		if a, err := addr.ParseAddr(*e.Reservation.Address); err != nil || a == old.Address {
			continue
		}
		if item := *old; t.d.Remove(plan.KindReservation, old.Name) == nil {
			t.heirs[i] = item
		}
	}
}

// Check says what is wrong with edits by themselves, without the plan that they are made in: what they
// name that is in none of them may be there.
func Check(edits []api.Edit) (faults []Fault) {
	d := plan.New().Draft()
	for i, e := range edits {
		for _, err := range apply(Nowhere, d, e, nil) {
			if !missesItem(err) {
				faults = append(faults, Fault{i, err})
			}
		}
	}
	return faults
}

package pair

import (
	"fmt"

	"yarnpost/core/answer"
	"yarnpost/core/lease"
)

// State is what a server of a pair stands at (RFC 8156 section 8), with the numbers
// under which it travels.
type State uint8

// The states.
const (
	Startup                   State = 1
	Normal                    State = 2
	CommunicationsInterrupted State = 3
	PartnerDown               State = 4
	PotentialConflict         State = 5
	Recover                   State = 6
	RecoverWait               State = 7
	RecoverDone               State = 8
	ResolutionInterrupted     State = 9
	ConflictDone              State = 10
)

var stateNames = [...]string{"none", "startup", "normal", "communications-interrupted", "partner-down", "potential-conflict", "recover",
	"recover-wait", "recover-done", "resolution-interrupted", "conflict-done"}

func (s State) String() string {
	if int(s) < len(stateNames) {
		return stateNames[s]
	}
	return fmt.Sprintf("state %d", uint8(s))
}

// ParseState is the inverse of String; ok is false for an unknown word.
func ParseState(word string) (s State, ok bool) {
	for i, name := range stateNames {
		if name == word && i > 0 {
			return State(i), true
		}
	}
	return 0, false
}

// Serving is whom a server in a state answers (RFC 8156 section 8.1).
func (s State) Serving() answer.Serving {
	switch s {
	case Normal, CommunicationsInterrupted, PartnerDown, ConflictDone, ResolutionInterrupted:
		return answer.Everybody
	case RecoverDone:
		return answer.Renewals
	}
	return answer.Nobody
}

// Inputs are what the next state depends on.
type Inputs struct {
	Side      lease.Side
	Before    State // in Startup: the state on record; 0 if there is none
	Connected bool  // the partner can be heard, and said its state
	Partner   State // that it said; of one that starts up, the state on its record
	Starting  bool  // the partner starts up
	Updated   bool  // the partner sent all it was asked for
	WaitOver  bool  // the lead time has passed since this server failed
	BootOver  bool  // the partner was waited for long enough
	Down      bool  // somebody says that the partner is down
	Claims    bool  // the partner does not know yet of all addresses that were taken from it
}

// Next is the state that follows, or the same (rule 7, RFC 8156 section 8). Whoever
// was away recovers before it serves; if both thought that the other was down, what
// they did is compared first.
func Next(s State, in Inputs) State {
	switch s {
	case Startup:
		return in.afterStartup()
	case Normal:
		return in.afterNormal()
	case CommunicationsInterrupted:
		return in.afterInterrupted()
	case PartnerDown:
		return in.afterPartnerDown()
	case Recover, RecoverWait, RecoverDone:
		return in.afterRecover(s)
	case PotentialConflict, ConflictDone, ResolutionInterrupted:
		return in.afterConflict(s)
	}
	return Recover
}

// conflicting reports whether the partner is about to find out what both did.
func (in *Inputs) conflicting() bool {
	return in.Partner == PotentialConflict || in.Partner == ResolutionInterrupted || in.Partner == ConflictDone
}

func (in *Inputs) afterStartup() State {
	if !in.Connected && !in.BootOver {
		return Startup
	}
	switch in.Before {
	case Normal, CommunicationsInterrupted:
		if in.Connected && in.Partner == PartnerDown {
			return Recover
		}
		return CommunicationsInterrupted
	case PartnerDown:
		return PartnerDown
	case PotentialConflict, ResolutionInterrupted, ConflictDone:
		return ResolutionInterrupted
	case RecoverDone:
		return RecoverDone
	}
	return Recover
}

func (in *Inputs) afterNormal() State {
	switch {
	case !in.Connected:
		return CommunicationsInterrupted
	case in.Partner == PartnerDown, in.Partner == PotentialConflict, in.Partner == ResolutionInterrupted:
		return PotentialConflict
	case in.Partner == Recover, in.Partner == RecoverWait:
		return CommunicationsInterrupted
	}
	return Normal
}

func (in *Inputs) afterInterrupted() State {
	switch {
	case in.Down:
		return PartnerDown
	case !in.Connected, in.Starting:
		return CommunicationsInterrupted
	case in.Partner == Normal, in.Partner == CommunicationsInterrupted, in.Partner == RecoverDone:
		return Normal
	case in.Partner == PartnerDown, in.conflicting():
		return PotentialConflict
	}
	return CommunicationsInterrupted
}

func (in *Inputs) afterPartnerDown() State {
	switch {
	case !in.Connected:
		return PartnerDown
	case in.Partner == RecoverDone && !in.Starting && !in.Claims:
		return Normal
	case in.Partner == PartnerDown, in.conflicting(),
		!in.Starting && (in.Partner == Normal || in.Partner == CommunicationsInterrupted):
		return PotentialConflict
	}
	return PartnerDown
}

func (in *Inputs) afterRecover(s State) State {
	switch {
	case in.Down:
		return PartnerDown
	case in.Connected && in.conflicting():
		return PotentialConflict
	case s != Recover && !in.Connected: // what the partner does meanwhile has to be learned, too
		return Recover
	case s == Recover && in.Connected && in.Updated:
		return RecoverWait
	case s == RecoverWait && in.WaitOver:
		return RecoverDone
	case s == RecoverDone && in.Connected && !in.Starting && (in.Partner == Normal || in.Partner == RecoverDone):
		return Normal
	}
	return s
}

func (in *Inputs) afterConflict(s State) State {
	switch {
	case s != PotentialConflict && in.Down:
		return PartnerDown
	case !in.Connected && s == PotentialConflict:
		return ResolutionInterrupted
	case !in.Connected:
		return s
	case s == ResolutionInterrupted:
		return PotentialConflict
	case s == ConflictDone && (in.Partner == Normal || in.Partner == RecoverDone) && !in.Starting:
		return Normal
	case s == ConflictDone && in.Partner == PartnerDown:
		return PotentialConflict
	case s == PotentialConflict && in.Side == lease.Primary && in.Updated:
		return ConflictDone
	case s == PotentialConflict && in.Side == lease.Secondary && in.Partner == ConflictDone && in.Updated:
		return Normal
	}
	return s
}

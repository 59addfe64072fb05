package api

import "time"

// Prepared is a change of the plan in preparation.
type Prepared struct {
	Name      string         `json:"name"`
	Note      string         `json:"note"`
	By        string         `json:"by" doc:"Who began it"`
	Begun     time.Time      `json:"begun"`
	Makers    []string       `json:"makers" doc:"Who began it, and whose edits it has"`
	Count     int            `json:"count" doc:"How many edits it has"`
	Edits     []PreparedEdit `json:"edits" doc:"Left out in lists"`
	Approvals []Approval     `json:"approvals" doc:"Of the edits as they are; another edit takes them away"`
	Due       *Due           `json:"due,omitempty" doc:"When it is made by itself"`
	Undo      *UndoRule      `json:"undo,omitempty" doc:"When it is undone by itself"`
	Watched   *Watched       `json:"watched,omitempty" doc:"It was made, and whether clients go unserved is looked at"`
	Failed    string         `json:"failed,omitempty" doc:"Why it was not made when it was due, or was undone"`
	Result    *ChangeResult  `json:"result,omitempty" doc:"What it would do now, if all of it fits the plan"`
	RunDown   []RunDown      `json:"runDown,omitempty" doc:"Scopes whose clients would see a difference, and how their leases run down for a moment that is set"`
}

// PreparedEdit is what a change in preparation does to one item.
type PreparedEdit struct {
	Edit      Edit      `json:"edit"`
	Text      string    `json:"text" doc:"In words"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
	Revision  int64     `json:"revision" doc:"Of the plan that it was made against"`
	Fault     string    `json:"fault,omitempty" doc:"Why it does not fit the plan any more"`
	Meanwhile []string  `json:"meanwhile" doc:"What was changed of the same item since"`
}

// Approval is a second person's.
type Approval struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// Due is when a change in preparation is made by itself.
type Due struct {
	At      time.Time `json:"at"`
	By      string    `json:"by" doc:"Who set it"`
	RunDown bool      `json:"runDown" doc:"Leases run down until then, so that it soon reaches every client"`
}

// UndoRule says when a change is undone by itself.
type UndoRule struct {
	Within string `json:"within" doc:"How long after it was made that is looked at, such as 30m"`
	Above  int    `json:"above" minimum:"0" doc:"So many clients more than before go unserved"`
}

// Watched is a look at a change that was made.
type Watched struct {
	Revision int64     `json:"revision"`
	Before   int       `json:"before" doc:"Clients that went unserved when it was made"`
	Until    time.Time `json:"until"`
}

// RunDown is how the leases of a scope run down.
type RunDown struct {
	Scope   string     `json:"scope"`
	Lease   string     `json:"lease" doc:"Lease time of the scope"`
	From    *time.Time `json:"from,omitempty" doc:"From then on leases are shorter than that"`
	Settled *time.Time `json:"settled,omitempty" doc:"By then every client has renewed"`
}

// Begin begins a change in preparation.
type Begin struct {
	Name string `json:"name" minLength:"1" maxLength:"64"`
	Note string `json:"note,omitempty" maxLength:"1000" doc:"What it is for"`
}

// ApplyPrepared makes a change in preparation.
type ApplyPrepared struct {
	Reason  string    `json:"reason,omitempty" maxLength:"1000" doc:"Why, for the history; its note if left out"`
	DryRun  bool      `json:"dryRun,omitempty" doc:"Only say what would happen"`
	Confirm bool      `json:"confirm,omitempty" doc:"Go ahead although clients are stranded"`
	Alone   bool      `json:"alone,omitempty" doc:"Change the plan here although the partner cannot be reached; it takes the change when it is back"`
	Undo    *UndoRule `json:"undo,omitempty" doc:"When it is undone by itself"`
}

// SetDue sets when a change in preparation is made by itself.
type SetDue struct {
	At      time.Time `json:"at"`
	RunDown *bool     `json:"runDown,omitempty" doc:"Whether leases run down until then; true if left out"`
	Alone   bool      `json:"alone,omitempty" doc:"Although the partner cannot be reached"`
	Undo    *UndoRule `json:"undo,omitempty" doc:"When it is undone by itself"`
}

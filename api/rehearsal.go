package api

import "time"

// RehearsalOrder asks to play what happened against a changed plan.
type RehearsalOrder struct {
	Since string `json:"since" doc:"How far back, such as 7d"`
	Edits []Edit `json:"edits,omitempty" maxItems:"1000" doc:"What the plan would change in; none with gone"`
	Gone  bool   `json:"gone,omitempty" doc:"One server of the pair dies at the beginning"`
}

// Rehearsal is one at work, or what came of it.
type Rehearsal struct {
	ID     int64        `json:"id"`
	From   time.Time    `json:"from"`
	To     time.Time    `json:"to"`
	Diff   []DiffLine   `json:"diff"`
	Gone   bool         `json:"gone,omitempty"`
	Done   float64      `json:"done" doc:"0 to 1"`
	Step   string       `json:"step" doc:"What it does now"`
	Over   bool         `json:"over"`
	Failed string       `json:"failed,omitempty"`
	Stays  int          `json:"stays" doc:"Clients that came, each as often as it came"`
	Took   float64      `json:"took" doc:"Seconds"`
	As     *Rehearsed   `json:"as,omitempty" doc:"By the plan as it is"`
	With   *Rehearsed   `json:"with,omitempty" doc:"By the plan with the change"`
	Really []ReallyUsed `json:"really" doc:"What the samples of that time say"`
}

// Rehearsed is what came of playing.
type Rehearsed struct {
	Clients      int                `json:"clients"`
	Messages     int                `json:"messages"`
	BusiestHour  float64            `json:"busiestHour" doc:"Messages a second in the busiest hour"`
	Renewals     float64            `json:"renewals" doc:"A second, on the average"`
	Refused      int                `json:"refused" doc:"Clients that asked and got nothing at first"`
	Never        int                `json:"never" doc:"Of those, that never got anything"`
	FirstRefused *time.Time         `json:"firstRefused,omitempty" doc:"When the first client is refused"`
	Who          []RehearsedRefused `json:"who" doc:"The first 200 of those refused"`
	Scopes       []RehearsedScope   `json:"scopes"`
}

// RehearsedRefused is a client that would have been refused.
type RehearsedRefused struct {
	Hardware string    `json:"hardware"`
	Hostname string    `json:"hostname"`
	Scope    string    `json:"scope"`
	At       time.Time `json:"at"`
	Why      string    `json:"why"`
	Waited   string    `json:"waited,omitempty" doc:"Until it was served; left out if it never was"`
}

// RehearsedScope is how full a scope would have been.
type RehearsedScope struct {
	Scope    string     `json:"scope"`
	Prefixes bool       `json:"prefixes,omitempty" doc:"IPv6: of the prefixes that it delegates, rather than of its addresses"`
	Size     Count      `json:"size"`
	Peak     Count      `json:"peak"`
	PeakAt   *time.Time `json:"peakAt,omitempty"`
	FullAt   *time.Time `json:"fullAt,omitempty" doc:"When it was first full"`
	Hours    []int64    `json:"hours" doc:"The most in each hour"`
}

// ReallyUsed is how full a scope really was.
type ReallyUsed struct {
	Scope string `json:"scope"`
	Peak  int64  `json:"peak"`
}

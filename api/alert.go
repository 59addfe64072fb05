package api

import "time"

// Alert is a finding that a person has to hear of: it fires once and clears once.
type Alert struct {
	Key      string     `json:"key"`
	Code     string     `json:"code"`
	Severity string     `json:"severity" enum:"note,warning,trouble"`
	Subject  string     `json:"subject"`
	Scope    string     `json:"scope,omitempty"`
	Text     string     `json:"text"`
	Mend     string     `json:"mend"`
	Command  string     `json:"command,omitempty"`
	Since    time.Time  `json:"since"`
	Ended    *time.Time `json:"ended,omitempty"`
	Silenced *Silence   `json:"silenced,omitempty"`
}

// Silence keeps alerts from being sent until a moment.
type Silence struct {
	Key    string    `json:"key" doc:"Of one, or the beginning of some with * behind"`
	Until  time.Time `json:"until" doc:"One that has passed ends it"`
	By     string    `json:"by,omitempty"`
	Reason string    `json:"reason,omitempty" maxLength:"1000"`
}

// AlertTarget is where alerts go.
type AlertTarget struct {
	Name     string `json:"name"`
	URL      string `json:"url" doc:"https://host/path for CloudEvents 1.0 in JSON; syslog+udp, syslog+tcp or syslog+tls://host for RFC 5424"`
	Severity string `json:"severity" enum:"note,warning,trouble" default:"warning" doc:"That and worse"`
	Secret   string `json:"secret,omitempty" doc:"For signing; it is never shown"`
	Signed   bool   `json:"signed,omitempty" doc:"It has a secret"`
	CA       string `json:"ca,omitempty" doc:"Certificates to trust, PEM; left out for the system's"`
	Waiting  int    `json:"waiting,omitempty" doc:"Messages that could not be sent yet"`
	Failed   string `json:"failed,omitempty" doc:"Why"`
}

package cli

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"yarnpost/api"
)

// Each command sends the edit that its flags name, and nothing else.
func TestWhatCommandsSend(t *testing.T) {
	f := &fake{answers: map[string]any{"POST /api/plan/changes": api.ChangeResult{Revision: 1, Diff: []api.DiffLine{{Text: "x"}}}}}
	for line, want := range map[string]string{
		"rule add toys --when true --ignore":                      `{"op":"add","kind":"rule","name":"toys","rule":{"when":"true","action":"ignore"}}`,
		"rule add r --when x --scope s --lease 1h --option 3=a":   `{"op":"add","kind":"rule","name":"r","rule":{"scope":"s","when":"x","lease":"1h","options":{"3":"a"}}}`,
		"rule edit r --give --pool 10.0.0.1-10.0.0.9":             `{"op":"edit","kind":"rule","name":"r","rule":{"action":"","pool":"10.0.0.1-10.0.0.9"}}`,
		"rule edit r --off --order 5":                             `{"op":"edit","kind":"rule","name":"r","rule":{"order":5,"off":true}}`,
		"rule edit r --off=false --name q":                        `{"op":"edit","kind":"rule","name":"r","rule":{"name":"q","off":false}}`,
		"list add l --entry 02:01 --entry 02:02":                  `{"op":"add","kind":"list","name":"l","list":{"put":["02:01","02:02"]}}`,
		"list edit l --drop 02:01 --note x":                       `{"op":"edit","kind":"list","name":"l","list":{"drop":["02:01"],"note":"x"}}`,
		"codebook add b --place 43 --class ap* --code '7 c u8;m'": `{"op":"add","kind":"codebook","name":"b","codebook":{"place":"43","classes":["ap*"],"put":[{"code":7,"name":"c","type":"u8","meaning":"m"}]}}`,
		"codebook edit b --enterprise 9 --drop 7":                 `{"op":"edit","kind":"codebook","name":"b","codebook":{"enterprise":9,"drop":[7]}}`,
		"trial add t --scope s --every 15m --vendor v":            `{"op":"add","kind":"trial","name":"t","trial":{"scope":"s","vendor":"v","every":"15m"}}`,
		"link edit l --listening --stand-aside=false":             `{"op":"edit","kind":"link","name":"l","link":{"listening":true,"standAside":false}}`,
		"defaults edit --identity hardware --listening":           `{"op":"edit","kind":"defaults","defaults":{"identity":"hardware","listening":true}}`,
		"scope edit s --bootp dynamic --probe=false --new-per-minute -1 --offer-delay 2s --rapid-commit --per-circuit 4 --identity hardware": `{"op":"edit","kind":"scope","name":"s","scope":{"identity":"hardware","bootp":"dynamic","rapidCommit":true,"offerDelay":"2s","probe":false,"perCircuit":4,"newPerMinute":-1}}`,
		"reservation add r --circuit sw1/0/7 --address 10.0.0.7":                                                                             `{"op":"add","kind":"reservation","name":"r","reservation":{"circuit":"sw1/0/7","address":"10.0.0.7"}}`,
		"reservation add r --identifier 00:01 --scope s":                                                                                     `{"op":"add","kind":"reservation","name":"r","reservation":{"scope":"s","identifier":"00:01"}}`,
		"option set 3=a --rule r": `{"op":"edit","kind":"rule","name":"r","rule":{"options":{"3":"a"}}}`,
		"codebook remove b --yes": `{"op":"remove","kind":"codebook","name":"b"}`,
	} {
		f.bodies = nil
		if _, errs, code := f.run(t, append(quoted(line), "--dry-run")...); code != 0 || len(f.bodies) != 1 || len(f.bodies[0].Edits) != 1 {
			t.Errorf("%s: exit %d, %d requests, %s", line, code, len(f.bodies), errs)
			continue
		}
		var wanted api.Edit
		if err := json.Unmarshal([]byte(want), &wanted); err != nil {
			t.Fatal(err)
		}
		if got := f.bodies[0].Edits[0]; !reflect.DeepEqual(normal(t, got), normal(t, wanted)) {
			b, _ := json.Marshal(got)
			t.Errorf("%s sends\n%s, want\n%s", line, b, want)
		}
	}
	for line, says := range map[string]string{
		"rule add r": "needs --when",
		"rule add r --when true --ignore --refuse": "choose one of",
		"codebook add b --code '70000 x u8'":       "not a code",
		"codebook add b --code '7 x'":              "CODE NAME TYPE",
		"trial add t":                              "needs --scope",
		"reservation add r":                        "needs --hw",
		"lease nudge":                              "name addresses, or --stale",
		"lease nudge 10.0.0.1 --stale":             "name addresses, or --stale",
		"trace --follow --pcap x":                  "cannot follow",
		"option set 3=a --rule r --scope s":        "choose one of",
	} {
		if _, errs, code := f.run(t, quoted(line)...); code != ExitUsage || !strings.Contains(errs, says) {
			t.Errorf("%s: exit %d, %q; want %q", line, code, errs, says)
		}
	}
}

// normal is a value as it travels, so that empty and absent are alike.
func normal(t *testing.T, v any) (out any) {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, &out); err != nil {
		t.Fatal(err)
	}
	return out
}

// quoted splits a line at blanks, but not in single quotes.
func quoted(line string) (out []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// What mends an unserved client in one step, and what does not.
func TestMending(t *testing.T) {
	u := api.Unserved{Hardware: "02:00:00:00:00:01", Hostname: "loom", Scope: "looms", Guess: "10.9.0.0/24"}
	for reason, want := range map[string]string{"held": "scope looms", "draining": "scope looms", "pool-empty": "reservation loom",
		"reserved-only": "reservation loom", "no-bootp": "reservation loom",
		"no-scope": "scope subnet-10-9-0-0-24", "wrong-network": "", "not-taken": "", "rule": ""} {
		u.Reason = reason
		got := ""
		if e, why := mending(u, ""); e != nil {
			got = e.Kind + " " + e.Name
			if why == "" {
				t.Errorf("%s is mended without a word", reason)
			}
		}
		if got != want {
			t.Errorf("%s is mended by %q, want %q", reason, got, want)
		}
	}
	u.Hostname, u.Reason = "", "pool-empty"
	if e, _ := mending(u, ""); e.Name != "client-020000000001" {
		t.Errorf("a client without a name is reserved as %s", e.Name)
	}
	if e, _ := mending(u, "press"); e.Name != "press" {
		t.Errorf("a name that is given is not taken: %s", e.Name)
	}
}

func TestExplanationPrints(t *testing.T) {
	f := &fake{answers: map[string]any{"POST /api/explain": api.Explanation{Outcome: "offered", Text: "would be offered 10.0.0.9",
		Hardware: "02:00:00:00:00:01", Scope: "looms", Lease: "1h", Withheld: "listening",
		Trail: []string{"first step", "second step"},
		Options: []api.Setting{{Code: 15, Name: "domain-name", Value: "mill.example", Level: "rule", From: "toys", Sent: true, Bytes: "6d"},
			{Code: 6, Name: "domain-server", Value: "10.0.0.5", Level: "scope"}},
		Reply: &api.Decoded{Type: "OFFER", Size: 300, Fields: []api.Field{{Name: "transaction", Value: "1"}},
			Options: []api.Setting{{Code: 53, Name: "dhcp-msg-type", Value: "OFFER"}}}, Omitted: []string{"root-path"}}}}
	out, _, code := f.run(t, "explain", "02:00:00:00:00:01")
	for _, text := range []string{"would be offered 10.0.0.9, in scope looms, for 1h.", "Nothing would be sent: listening.", "2. second step",
		"rule toys  yes   6d", "scope      -", "The reply, OFFER, 300 octets:", "53 dhcp-msg-type  OFFER", "Option root-path does not fit"} {
		if code != 0 || !strings.Contains(out, text) {
			t.Errorf("the explanation does not say %q:\n%s", text, out)
		}
	}
	short, _, _ := f.run(t, "option", "explain", "02:00:00:00:00:01")
	if strings.Contains(short, "second step") || !strings.Contains(short, "rule toys") {
		t.Errorf("option explain prints:\n%s", short)
	}
}

func TestTracePrints(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 30, 0, 123e6, time.UTC)
	x := api.Exchange{Seq: 7, At: at, Type: "REQUEST", Hardware: "02:00:00:00:00:01", Hostname: "loom", Relay: "10.0.0.2", Circuit: "eth7",
		Text: "acknowledged 10.0.0.9", Fate: "sent", Millis: 2.345, Trail: []string{"a step"},
		Request: api.Decoded{Type: "REQUEST", Size: 300}, Reply: &api.Decoded{Type: "ACK", Size: 301}}
	f := &fake{answers: map[string]any{"GET /api/exchanges": api.Page[api.Exchange]{Items: []api.Exchange{x}, Next: "7"}}}
	out, _, _ := f.run(t, "trace", "--client", "loom", "--outcome", "acknowledged", "--wide")
	for _, text := range []string{":00.123  REQUEST", "02:00:00:00:00:01  loom", "via 10.0.0.2 eth7", "→ acknowledged 10.0.0.9  [2.3 ms]"} {
		if !strings.Contains(out, text) {
			t.Errorf("the trace does not say %q:\n%s", text, out)
		}
	}
	if asked := f.asked[0]; !strings.Contains(asked, "client=loom") || !strings.Contains(asked, "outcome=acknowledged") {
		t.Errorf("asked %s", asked)
	}
	if strings.Contains(out, "a step") {
		t.Error("the trail is shown without --long")
	}
	out, _, _ = f.run(t, "trace", "--long")
	if !strings.Contains(out, "· a step") || !strings.Contains(out, "reply: ACK, 301 octets") {
		t.Errorf("--long prints:\n%s", out)
	}
	out, _, _ = f.run(t, "trace", "--csv")
	if !strings.HasPrefix(out, "at,type,hardware,") || !strings.Contains(out, "2026-11-23T09:30:00.123Z,REQUEST,") {
		t.Errorf("--csv prints %q", out)
	}
}

func TestPreflightFails(t *testing.T) {
	f := &fake{answers: map[string]any{"POST /api/preflight": api.Page[api.Check]{Items: []api.Check{{Name: "clock", Status: "good",
		Text: "fine"}, {Name: "port 67", Status: "trouble", Text: "taken", Mend: "free it"}}}}}
	out, errs, code := f.run(t, "preflight")
	if code != ExitRefused || !strings.Contains(out, "BAD    port 67  taken  free it") || !strings.Contains(errs, "trouble") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
}

func TestPastMoments(t *testing.T) {
	for text, want := range map[string]string{"2026-11-17T14:05:00Z": "2026-11-17T14:05:00Z",
		"2026-11-17 14:05": time.Date(2026, 11, 17, 14, 5, 0, 0, time.Local).UTC().Format(time.RFC3339)} {
		if at, err := past(text); err != nil || at.UTC().Format(time.RFC3339) != want {
			t.Errorf("%s is %v, %v", text, at, err)
		}
	}
	if _, err := past("last Tuesday"); err == nil {
		t.Error("last Tuesday is a moment")
	}
}

func TestListeningPrints(t *testing.T) {
	f := &fake{answers: map[string]any{"GET /api/listening": api.Listening{Links: []string{"yard"}, Learned: 3,
		Scopes: []api.ScopeAgreement{{Scope: "yard", Link: "yard", Clients: 2, Agree: 1, Disagree: 1}},
		Clients: []api.Agreement{{Hardware: "02:01", Took: "10.0.0.9", Difference: []string{"it is excluded"}},
			{Hardware: "02:02", Agrees: true}}, OtherServers: []api.OtherServer{{Link: "yard", Server: "10.0.0.2", How: "heard", Count: 4}}}}}
	out, _, _ := f.run(t, "listening")
	for _, text := range []string{"Listening on: yard", "Server 10.0.0.2 answers on link yard: heard, 4 times", "3 addresses were learned",
		"it is excluded"} {
		if !strings.Contains(out, text) {
			t.Errorf("listening does not say %q:\n%s", text, out)
		}
	}
	if strings.Contains(out, "02:02") {
		t.Error("a client that agrees is listed without --all")
	}
	if out, _, _ = f.run(t, "listening", "--all"); !strings.Contains(out, "02:02") {
		t.Error("--all leaves out clients that agree")
	}
}

// What is wrong with a command line is said as one writes it.
func TestWrongCommandLines(t *testing.T) {
	f := &fake{}
	for line, want := range map[string]string{
		"help nosuch":           `there is no command "nosuch"`,
		"lease list --nosuch":   "--nosuch is no flag of this command; yarnpost lease list -h",
		"lease list --limit x":  "--limit x: that is no value for it",
		"lease list --desc=4":   "--desc 4: that is no value for it",
		"pair drill --for soon": "--for soon: that is no value for it",
	} {
		if out, errs, code := f.run(t, strings.Fields(line)...); code != ExitUsage || !strings.Contains(errs, want) {
			t.Errorf("%s: exit %d, %s%s, want %q", line, code, out, errs, want)
		}
	}
}

// One command keeps the addresses of both families, and a prefix, for one client: all in one
// change, each by what its family knows the client by.
func TestReservationOfBothFamilies(t *testing.T) {
	f := &fake{answers: map[string]any{"POST /api/plan/changes": api.ChangeResult{Revision: 1, Diff: []api.DiffLine{{Text: "x"}}}}}
	line := "reservation add shed --hw 02:00:00:00:00:19 --duid 00:04:19 --address 10.77.0.19 --also 2001:db8::19 --also 2001:db8:8100::/56 " +
		"--option ntp-servers=10.77.0.42 --option v6/dns-servers=2001:db8::53 --dry-run"
	if _, errs, code := f.run(t, quoted(line)...); code != 0 || len(f.bodies) != 1 {
		t.Fatalf("exit %d, %d requests, %s", code, len(f.bodies), errs)
	}
	var wanted []api.Edit
	if err := json.Unmarshal([]byte(`[
		{"op":"add","kind":"reservation","name":"shed","reservation":{"hardware":"02:00:00:00:00:19","address":"10.77.0.19","options":{"ntp-servers":"10.77.0.42"}}},
		{"op":"add","kind":"reservation","name":"shed-v6","reservation":{"duid":"00:04:19","address":"2001:db8::19","options":{"v6/dns-servers":"2001:db8::53"}}},
		{"op":"add","kind":"reservation","name":"shed-net","reservation":{"duid":"00:04:19","address":"2001:db8:8100::/56","options":{"v6/dns-servers":"2001:db8::53"}}}]`),
		&wanted); err != nil {
		t.Fatal(err)
	}
	if got := f.bodies[0].Edits; !reflect.DeepEqual(normal(t, got), normal(t, wanted)) {
		b, _ := json.Marshal(got)
		t.Errorf("it sends\n%s", b)
	}
	if _, errs, code := f.run(t, quoted("reservation edit shed --also 2001:db8::19")...); code != ExitUsage || !strings.Contains(errs, "--also goes with") {
		t.Errorf("with edit: exit %d, %s", code, errs)
	}
}

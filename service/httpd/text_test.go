package httpd

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"yarnpost/api"
)

// What comes in says each thing once, in characters that are for reading; what
// is refused is named and not repeated.
func TestCheckJSON(t *testing.T) {
	many := ""
	for n := range 3 * fewKeys {
		many += fmt.Sprintf(`"k%d":{"k%d":1,"x":[{"k1":2}]},`, n, n)
	}
	for in, says := range map[string]string{
		`{"a":"b","n":[1,2,{"x":null}],"note":"two\nlines"}`: "",
		`{"a":1,"a":2}`:                              "a is given twice",
		`{"a":1,"A":2}`:                              "A is given twice",
		`{"s":{"t":1,"t":1}}`:                        "s.t is given twice",
		`{"s":{"t":1},"t":{"s":[1,{"s":1}]}}`:        "",
		`{` + many + `"y":1}`:                        "",
		`{` + many + `"K5":1}`:                       "K5 is given twice",
		`{"o":{` + many + `"k40":1}}`:                "o.k40 is given twice",
		`{"list":[{"n":"x\u0000y"}]}`:                "list.0.n has the character U+0000",
		`{"n":"\u001b[31msecret"}`:                   "n has the character U+001B",
		`{"n":"\u202ecod.exe"}`:                      "n has the character U+202E",
		`{"n":"a\nb"}`:                               "n has the character U+000A",
		`{"b\u0007":1}`:                              "U+0007",
		`{"n":"` + strings.Repeat("x", 1<<17) + `"}`: "n takes 131072 octets",
		`{"a":1} {"b":2}`:                            "more behind",
		`{"a":`:                                      "EOF",
	} {
		err := checkJSON([]byte(in))
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%.60s: %v, want %q", in, err, says)
		}
		if err != nil && strings.Contains(err.Error(), "secret") {
			t.Errorf("%v repeats the text", err)
		}
	}
	for _, v := range []any{api.ChangeRequest{Edits: []api.Edit{{Op: "add"}}}, api.Ask{Options: map[string]string{"a": "b"}}} {
		b, _ := json.Marshal(v)
		if err := checkJSON(b); err != nil {
			t.Errorf("%s: %v", b, err)
		}
	}
}

func TestCleanURL(t *testing.T) {
	for url, ok := range map[string]bool{"/api/leases?search=loom": true, "/api/leases?search=a%00b": false, "/api/scopes/a%1b": false,
		"/api/leases?%e2%80%ae=1": false, "/api/leases?search=%ff": false} {
		if err := cleanURL(httptest.NewRequest(http.MethodGet, url, nil)); (err == nil) != ok {
			t.Errorf("%s: %v", url, err)
		}
	}
}

// A page of another site that has its name resolved to loopback reads nothing.
func TestOwnHost(t *testing.T) {
	s := &Server{addr: addrOf("127.0.0.1:8067")}
	for host, own := range map[string]bool{"127.0.0.1:8067": true, "localhost:8067": true, "[::1]:8067": true, "evil.example:8067": false,
		"evil.example": false, "": false} {
		if s.own(host) != own {
			t.Errorf("Host %q: %v", host, !own)
		}
	}
}

type addrOf string

func (addrOf) Network() string  { return "tcp" }
func (a addrOf) String() string { return string(a) }

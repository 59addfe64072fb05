package yarnpost

import (
	"encoding/json"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// layers gives each package its layer; arrows run downward only.
var layers = [][]string{
	{"yarnpost"}, {"yarnpost/core/addr"}, {"yarnpost/core/option"}, {"yarnpost/core/request"},
	{"yarnpost/core/dhcp4", "yarnpost/core/dhcp6"}, {"yarnpost/core/rule", "yarnpost/core/relay", "yarnpost/core/reason"},
	{"yarnpost/core/plan/internal/cowmap"}, {"yarnpost/core/plan"},
	{"yarnpost/core/lease/internal/chunk", "yarnpost/core/lease/internal/hashindex", "yarnpost/core/lease/internal/ilist",
		"yarnpost/core/lease/internal/intern", "yarnpost/core/lease/internal/slab"},
	{"yarnpost/core/lease/internal/calendar"}, {"yarnpost/core/lease"}, {"yarnpost/core/effect"}, {"yarnpost/core/answer"},
	{"yarnpost/core/pair/message"}, {"yarnpost/core/pair"},
	{"yarnpost/core/capacity", "yarnpost/core/rehearsal"}, {"yarnpost/core/audit"},
	{"yarnpost/api", "yarnpost/console"}, {"yarnpost/client", "yarnpost/edit"}, {"yarnpost/planfile", "yarnpost/sheet"},
	{"yarnpost/movein"},
	{"yarnpost/service/clock", "yarnpost/service/rights", "yarnpost/service/lru", "yarnpost/service/logs", "yarnpost/service/lock",
		"yarnpost/service/work"}, {"yarnpost/service/journal"},
	{"yarnpost/service/store", "yarnpost/service/wire", "yarnpost/service/preflight", "yarnpost/service/partner"},
	{"yarnpost/service/look", "yarnpost/service/trial", "yarnpost/service/accounts", "yarnpost/service/trail", "yarnpost/service/permit"},
	{"yarnpost/service/observe", "yarnpost/service/probe"},
	{"yarnpost/service/engine"}, {"yarnpost/service/report"},
	{"yarnpost/service/samples", "yarnpost/service/auditor", "yarnpost/service/alert", "yarnpost/service/host", "yarnpost/service/trials",
		"yarnpost/service/leaseadmin", "yarnpost/service/rehearse", "yarnpost/service/setback", "yarnpost/service/backup",
		"yarnpost/service/scheduled"},
	{"yarnpost/service/change"},
	{"yarnpost/service/failover"},
	{"yarnpost/service/compare", "yarnpost/service/drill", "yarnpost/service/prepare"},
	{"yarnpost/service/facts", "yarnpost/service/metrics"},
	{"yarnpost/service/node", "yarnpost/service/httpd"},
	{"yarnpost/cli", "yarnpost/demo"},
	{"yarnpost/bench", "yarnpost/sim", "yarnpost/e2e", "yarnpost/e2e/browser", "yarnpost/e2e/shots", "yarnpost/cmd/yarnpost",
		"yarnpost/cmd/yarnpostd"},
}

// pure is what core may use of the standard library and of others: nothing
// that opens a socket or a file, reads a clock for it, logs, or draws numbers but from a
// seed.
// (package time is there for its durations; see clocks below.)
var pure = []string{"bytes", "cmp", "crypto/hmac", "crypto/md5", "crypto/sha256", "encoding/binary", "encoding/hex", "encoding/json",
	"errors", "fmt",
	"container/heap", "hash/maphash", "io", "iter", "maps", "math", "math/bits", "math/rand/v2", "net/netip", "net/url", "reflect",
	"slices", "sort",
	"strconv", "strings", "time", "unicode", "unicode/utf8", "go4.org/netipx", "github.com/gaissmai/bart",
	"cel.dev/cel-go/cel", "cel.dev/cel-go/common/ast", "cel.dev/cel-go/common/cost", "cel.dev/cel-go/common/types",
	"cel.dev/cel-go/common/types/ref", "cel.dev/cel-go/ext"}

// more rules: who may not know whom, although they are below.
var forbidden = map[string][]string{
	"yarnpost/cli": {"yarnpost/core/plan", "yarnpost/core/lease", "yarnpost/core/answer", "yarnpost/core/pair", "yarnpost/core/dhcp4",
		"yarnpost/core/dhcp6",
		"yarnpost/core/rule", "yarnpost/service"}, // what needs no server is computed by the same code
	"yarnpost/client": {"yarnpost/core", "yarnpost/service"},
	// What sees a request sees it whatever version of the protocol it came by.
	"yarnpost/core/rule": {"yarnpost/core/dhcp4", "yarnpost/core/dhcp6"}, "yarnpost/core/rehearsal": {"yarnpost/core/dhcp4",
		"yarnpost/core/dhcp6"},
	"yarnpost/service/observe": {"yarnpost/core/dhcp4", "yarnpost/core/dhcp6"}, "yarnpost/service/report": {"yarnpost/core/dhcp4",
		"yarnpost/core/dhcp6"},
	"yarnpost/api": {"yarnpost/"},
}

type source struct {
	ImportPath string
	Imports    []string
	GoFiles    []string
	Dir        string
}

func packages(t *testing.T) (out []source) {
	t.Helper()
	b, err := exec.Command("go", "list", "-json=ImportPath,Imports,GoFiles,Dir", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for d := json.NewDecoder(strings.NewReader(string(b))); d.More(); {
		var r source
		if err := d.Decode(&r); err != nil {
			t.Fatal(err)
		}
		out = append(out, r)
	}
	return out
}

// faults lists what is wrong with a package's imports.
func faults(r source) (out []string) {
	layer := func(path string) int {
		return slices.IndexFunc(layers, func(f []string) bool { return slices.Contains(f, path) })
	}
	mine := layer(r.ImportPath)
	if mine < 0 && len(r.GoFiles) > 0 {
		return []string{r.ImportPath + " is in no layer; give it one"}
	}
	for _, i := range r.Imports {
		own := strings.HasPrefix(i, "yarnpost/")
		if own && layer(i) >= mine && !(strings.HasPrefix(i, "yarnpost/e2e/") && strings.HasPrefix(r.ImportPath, "yarnpost/e2e/")) {
			out = append(out, r.ImportPath+" imports "+i+", which is not below it")
		}
		if strings.HasPrefix(r.ImportPath, "yarnpost/core/") && !own && !slices.Contains(pure, i) {
			out = append(out, r.ImportPath+" imports "+i+"; the core only computes")
		}
		for _, f := range forbidden[r.ImportPath] {
			if strings.HasPrefix(i, f) {
				out = append(out, r.ImportPath+" may not know "+i)
			}
		}
	}
	return out
}

func TestArrowsRunDownward(t *testing.T) {
	for _, r := range packages(t) {
		for _, f := range faults(r) {
			t.Error(f)
		}
	}
}

// The core gets the time as a value and never asks for it; what it draws comes from a
// seed.
func TestCoreReadsNoClock(t *testing.T) {
	for _, r := range packages(t) {
		if !strings.HasPrefix(r.ImportPath, "yarnpost/core/") {
			continue
		}
		for _, f := range r.GoFiles {
			out, _ := exec.Command("grep", "-nE",
				`time\.(Now|Since|Until|After|Sleep|NewTimer|NewTicker|Tick)\(|\brand\.(Int|Uint|Float|Norm|Exp|Perm|Shuffle|N\()`,
				r.Dir+"/"+f).Output()
			if len(out) > 0 {
				t.Errorf("%s/%s reads the clock, or draws without a seed:\n%s", r.ImportPath, f, out)
			}
		}
	}
}

// The service has one clock, which is passed in.
func TestServiceReadsOneClock(t *testing.T) {
	for _, r := range packages(t) {
		if !strings.HasPrefix(r.ImportPath, "yarnpost/service/") || r.ImportPath == "yarnpost/service/clock" {
			continue
		}
		for _, f := range r.GoFiles {
			out, _ := exec.Command("grep", "-nE", `time\.(Now|Since|Until)\b`, r.Dir+"/"+f).Output()
			if len(out) > 0 {
				t.Errorf("%s/%s reads a clock of its own:\n%s", r.ImportPath, f, out)
			}
		}
	}
}

// The rules themselves can fail.
func TestFaultsAreFound(t *testing.T) {
	for _, r := range []source{
		{ImportPath: "yarnpost/core/lease", Imports: []string{"net"}},
		{ImportPath: "yarnpost/core/lease", Imports: []string{"log/slog"}},
		{ImportPath: "yarnpost/core/plan", Imports: []string{"yarnpost/core/answer"}},
		{ImportPath: "yarnpost/cli", Imports: []string{"yarnpost/core/lease"}},
		{ImportPath: "yarnpost/util", GoFiles: []string{"util.go"}},
	} {
		if len(faults(r)) == 0 {
			t.Errorf("%s importing %v is let pass", r.ImportPath, r.Imports)
		}
	}
}

// Documents name files that are there.
func TestDocumentsNameFiles(t *testing.T) {
	docs, err := filepath.Glob("docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`((?:core|service|cmd|cli|client|api|console|e2e|sim|bench|demo|scripts)/[\\w./-]+)`")
	found := 0
	for _, doc := range append(docs, "README.md", "CONTRIBUTING.md") {
		text, err := os.ReadFile(doc)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range named.FindAllStringSubmatch(string(text), -1) {
			found++
			if _, err := os.Stat(m[1]); err != nil {
				t.Errorf("%s names %s, which is not there", doc, m[1])
			}
		}
	}
	if found < 20 {
		t.Errorf("only %d files are named", found)
	}
}

// Each package says what it is for.
func TestPackagesSayWhatTheyAreFor(t *testing.T) {
	for _, r := range packages(t) {
		name := path.Base(r.ImportPath)
		if len(r.GoFiles) == 0 {
			continue
		}
		says := slices.ContainsFunc(r.GoFiles, func(f string) bool {
			text, err := os.ReadFile(filepath.Join(r.Dir, f))
			return err == nil && (strings.Contains(string(text), "// Package "+name+" ") || strings.Contains(string(text),
				"// Command "+name+" "))
		})
		if !says {
			t.Errorf("%s does not say what it is for", r.ImportPath)
		}
	}
}

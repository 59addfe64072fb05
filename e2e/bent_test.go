package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// bends are the words that the service's sources have more in the program of some
// tests: so its clock can be set, it has a fault, and an account heddle sees
// scope looms alone. What people run knows nothing
// of it.
var bends = []struct{ file, of, is string }{
	{"service/clock/clock.go", "Wall: time.Now(),", "Wall: time.Now().Add(later + told(\"set\") + told(\"slept\")),"},
	{"service/clock/clock.go", "time.Duration(ts.Nano())", "time.Duration(ts.Nano()) + later + told(\"slept\")"},
	{"service/clock/bent.go", "", `package clock

import (
	"os"
	"time"
)

// later is how far the program lives in the future, on a host that does, too.
var later, _ = time.ParseDuration(os.Getenv("BENT_LATER"))

// told is a duration that a test has written: by how much somebody set the host's
// clock, or for how long the host slept.
func told(what string) time.Duration {
	text, _ := os.ReadFile(os.Getenv("BENT_DIR") + "/" + what)
	d, _ := time.ParseDuration(string(text))
	return d
}
`},
	{"service/permit/permit.go", "SeesAll(string) bool { return true }", "SeesAll(account string) bool { return account != \"heddle\" }"},
	{"service/permit/permit.go", "MaySee(string, plan.ID, *plan.Plan) bool { return true }",
		"MaySee(_ string, id plan.ID, p *plan.Plan) bool { return p.Label(id) == \"looms\" }"},
	{"core/answer/answer.go", "func (d *v4) decide() {", "func (d *v4) decide() {\n\tif d.who.vendor == \"a fault\" {\n\t\tpanic(\"planted\")\n\t}"},
}

// bent builds the program that tests can bend, once.
var bent = sync.OnceValues(func() (string, error) {
	replaced, texts := map[string]string{}, map[string]string{}
	for _, b := range bends {
		path, err := filepath.Abs(filepath.Join("..", b.file))
		if err != nil {
			return "", err
		}
		text, seen := texts[path]
		if b.of != "" && !seen {
			was, err := os.ReadFile(path)
			if err != nil {
				return "", err
			}
			text = string(was)
		}
		if b.of != "" && strings.Count(text, b.of) != 1 {
			return "", os.ErrNotExist
		}
		texts[path] = strings.Replace(text, b.of, b.is, 1)
		replaced[path] = filepath.Join(binaries, "bent-"+filepath.Base(b.file))
		if err := os.WriteFile(replaced[path], []byte(texts[path]), 0o600); err != nil {
			return "", err
		}
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replaced})
	if err != nil {
		return "", err
	}
	list := filepath.Join(binaries, "bent.json")
	if err := os.WriteFile(list, overlay, 0o600); err != nil {
		return "", err
	}
	program := filepath.Join(binaries, "yarnpostd-bent")
	out, err := exec.Command("go", "build", "-overlay", list, "-o", program, "../cmd/yarnpostd").CombinedOutput()
	if err != nil {
		return "", &exec.Error{Name: string(out), Err: err}
	}
	return program, nil
})

// daemon is the service's program.
func (s *service) daemon() string {
	s.t.Helper()
	if s.later == "" && !s.bent {
		return filepath.Join(binaries, "yarnpostd")
	}
	program, err := bent()
	if err != nil {
		s.t.Fatalf("the bent program: %v", err)
	}
	return program
}

// bend restarts the service as the program that tests can bend.
func (s *service) bend() {
	s.t.Helper()
	s.stop()
	s.bent = true
	s.start()
}

// after restarts the service in the future.
func (s *service) after(later string) {
	s.t.Helper()
	s.stop()
	s.later = later
	s.start()
}

// tell writes a duration that a bent service goes by: by how much somebody set the
// host's clock, or for how long the host slept.
func (s *service) tell(what string, d time.Duration) {
	s.t.Helper()
	if err := os.WriteFile(filepath.Join(s.dir, what), []byte(d.String()), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

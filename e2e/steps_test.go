package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// An ordinary user who may call sudo follows README.md and docs/guide.md from the
// first line to the last: every code block of theirs is run as it stands, in a
// shell of that user; what follows sudo is run as sudo would, in a terminal of its
// own. (The programs are built already.)
func TestFirstSteps(t *testing.T) {
	t.Parallel()
	needRoot(t)
	for _, of := range []struct{ file, from, to string }{
		{"../README.md", "## Start", "## Pictures"},
		{"../docs/guide.md", "# Guide", ""},
	} {
		t.Run(filepath.Base(of.file), func(t *testing.T) {
			text, err := os.ReadFile(of.file)
			if err != nil {
				t.Fatal(err)
			}
			_, part, ok := strings.Cut(string(text), of.from)
			if of.to != "" && ok {
				part, _, ok = strings.Cut(part, of.to)
			}
			// What two servers do is followed by TestPairGuide, and the jobs by TestJobsOfTheGuide.
			part = regexp.MustCompile("(?s)<!-- (pair|job) [a-z-]+ -->\n```\n.*?\n```").ReplaceAllString(part, "")
			blocks := regexp.MustCompile("(?s)\n```\n(.*?)\n```").FindAllStringSubmatch(part, -1)
			if !ok || len(blocks) < 2 {
				t.Fatalf("%d blocks are there to follow", len(blocks))
			}
			follow(t, blocks)
		})
	}
}

func follow(t *testing.T, blocks [][]string) {
	t.Helper()
	const user = "40077" // nobody's
	home := dataDir(t)
	sh(t, "cp", "-r", binaries, filepath.Join(home, "bin"))
	var steps strings.Builder
	fmt.Fprintln(&steps, "set -e -o pipefail")
	served := ""
	for _, b := range blocks {
		for line := range strings.SplitSeq(b[1], "\n") {
			switch command, sudo := strings.CutPrefix(line, "sudo "); {
			case sudo && served == "":
				served = command
			case line == "make build":
			default:
				fmt.Fprintln(&steps, line)
			}
		}
	}
	if served == "" {
		t.Fatal("nothing starts the service")
	}
	name := filepath.Join(home, "steps")
	if err := os.WriteFile(name, []byte(steps.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	ns := fmt.Sprintf("yp-steps-%d", os.Getpid())
	sh(t, "ip", "netns", "add", ns)
	t.Cleanup(func() { runQuietly("ip", "netns", "del", ns) })
	sh(t, "ip", "-n", ns, "link", "set", "lo", "up")
	sh(t, "ip", "-n", ns, "link", "add", "eth1", "type", "veth", "peer", "name", "eth1-far")
	sh(t, "ip", "-n", ns, "addr", "add", "10.77.0.1/24", "dev", "eth1")
	sh(t, "ip", "-n", ns, "link", "set", "eth1", "up")
	sh(t, "ip", "-n", ns, "link", "set", "eth1-far", "up")
	all := fmt.Sprintf(`
		mount -t tmpfs none /var/lib
		cd %[1]s
		SUDO_UID=%[2]s SUDO_GID=%[2]s %[3]s > %[1]s/served 2>&1 &
		service=$!
		for n in $(seq 300); do (exec 3<>/dev/tcp/127.0.0.1/8067) 2> %[1]s/door && break; sleep 0.1; done
		env -i HOME=%[1]s PATH=/usr/bin:/bin setpriv --reuid %[2]s --regid %[2]s --clear-groups bash %[1]s/steps
		code=$?
		kill $service; wait $service
		exit $code`, home, user, served)
	out, err := exec.Command("ip", "netns", "exec", ns, "bash", "-c", all).CombinedOutput()
	log, _ := os.ReadFile(filepath.Join(home, "served"))
	if err != nil {
		t.Errorf("%v\n%s\nThe service says:\n%s", err, out, log)
	}
	for _, want := range []string{"looms", "loom-17"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("nothing is said of %s:\n%s", want, out)
		}
	}
	if !strings.Contains(string(log), "giving up root") {
		t.Errorf("the service says:\n%s", log)
	}
}

// Command shots takes the pictures of the documentation from a running demo.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yarnpost/e2e/browser"
)

func main() {
	url := flag.String("url", "http://127.0.0.1:8067", "console of the running demo")
	token := flag.String("token-file", "", "its API token; without one only pages are taken")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	only := flag.String("only", "", "take only pictures with this in their name")
	flag.Parse()
	if err := run(*url, *token, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(url, token, out, only string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	p, err := browser.Open(url)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := pages(p, out, only); err != nil {
		return err
	}
	if token == "" {
		return nil
	}
	for name, command := range map[string]string{
		"cli-status": "status; yarnpost scope list", "cli-pair": "pair status; yarnpost pair compare; yarnpost pair history --limit 8",
		"cli-trace": "trace --limit 9; yarnpost trace --client 02:40:20:00:00:05 --limit 1 --long", "cli-capacity": "capacity list; yarnpost audit list --severity warning",
	} {
		if !strings.Contains(name, only) {
			continue
		}
		if err := terminal(filepath.Join(out, name+".png"), command, url, token); err != nil {
			return err
		}
	}
	return nil
}

func pages(p *browser.Page, out, only string) error {
	shot := func(name string) error {
		if !strings.Contains(name, only) {
			return nil
		}
		time.Sleep(900 * time.Millisecond) // for the tables to settle
		return p.Shot(filepath.Join(out, name+".png"))
	}
	theme := func(t string) error {
		_, err := browser.Eval[bool](p, "localStorage.setItem('theme', '"+t+"'), true")
		return err
	}
	steps := []func() error{
		func() error { return theme("light") },
		func() error { return p.Go("/") },
		func() error { return p.See("Sign in") },
		func() error { return p.SignIn("admin", "fellgate-mill") },
		func() error { return p.See("alerts stand") },
		func() error { return p.See("trouble") },
		func() error { return shot("today") },
		func() error { return p.Go("/plan/~tree") },
		func() error { return p.See("access-points") },
		func() error { return shot("plan") },
		func() error { return p.Go("/plan/looms") },
		func() error { return p.Wait("document.querySelectorAll('.map button').length > 1000") },
		func() error { return shot("scope") },
		func() error { return p.Go("/plan/~rules") },
		func() error { return p.See("lent-out") },
		func() error { return p.Click("tr[data-row-key='shift-plan'] td") },
		func() error { return p.See("clients on record") },
		func() error { return shot("rules") },
		func() error { return p.Go("/plan/~trials") },
		func() error { return p.See("looms-served") },
		func() error { return p.Click(".ant-table-row-expand-icon") },
		func() error { return shot("trials") },
		func() error { return p.Go("/leases?search=office-00") },
		func() error { return ending(p, 13, 17) },
		func() error { return shot("leases") },
		func() error { return p.Go("/capacity") },
		func() error { return p.See("dye-house") },
		func() error { return shot("capacity") },
		func() error { return p.Go("/capacity/visitors") },
		func() error { return p.See("What would help most") },
		func() error { return shot("capacity-scope") },
		func() error { return p.Go("/audit") },
		func() error { return p.See("reservation-twice") },
		func() error { return shot("audit") },
		func() error { return p.Go("/unserved") },
		func() error { return p.See("no scope for this link") },
		func() error { return p.Click(".ant-table-row-expand-icon") },
		func() error { return shot("unserved") },
		func() error { return p.Go("/unserved/conversations?client=02:40:20:00:00:05&live=no") },
		func() error { return p.See("acknowledged") },
		func() error { return p.Click(".ant-table-row-expand-icon") },
		func() error { return shot("conversations") },
		func() error { return theme("dark") },
		func() error { return p.Go("/unserved/listening") },
		func() error { return p.See("Agreement by scope") },
		func() error { return shot("listening") },
		func() error { return theme("light") },
		func() error { return p.Go("/pair") },
		func() error { return p.See("would carry on") },
		func() error { return p.See("cameras") },
		func() error { return shot("pair") },
		func() error { return p.Go("/changes/prepared?open=visitors-shorter") },
		func() error { return p.See("What this does") },
		func() error { return shot("prepared") },
		func() error { return p.Go("/plan/~files") },
		func() error { return p.Click("button=Take the plan as it is") },
		func() error { return p.See("Nothing would change") },
		func() error { return shot("files") },
		func() error { return theme("light") },
	}
	for i, s := range steps {
		if err := s(); err != nil {
			return fmt.Errorf("step %d: %w", i, err)
		}
	}
	return nil
}

// terminal takes a picture of a command and its output in a terminal window.
func terminal(file, command, url, token string) error {
	shown := "yarnpost " + command
	script := fmt.Sprintf(`export PATH="$PWD/bin:$PATH" YARNPOST_SERVER=%s YARNPOST_TOKEN_FILE=%s
IFS=';'; for c in %q; do :; done; unset IFS
printf '%%s\n' %q | tr ';' '\n' | while read -r line; do printf '\033[1m$ %%s\033[0m\n' "$line"; eval "$line"; echo; done
sleep 30`, url, token, shown, shown)
	cmd := exec.Command("xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "sh", "-c",
		`xterm -geometry 183x58+0+0 -fa 'DejaVu Sans Mono' -fs 8.5 -bg '#F7F4EE' -fg '#1F2A44' -e sh -c "$SCRIPT" & sleep 3; import -window root "$FILE"; s=$?; kill $!; exit $s`)
	cmd.Env = append(os.Environ(), "SCRIPT="+script, "FILE="+file)
	if b, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("picture of %q: %w\n%s", command, err, b)
	}
	return nil
}

// ending chooses the rows of a table from one number to before another, and asks what ending them
// would do.
func ending(p *browser.Page, from, to int) error {
	if err := p.Wait(fmt.Sprintf("document.querySelectorAll('.ant-table-row').length >= %d", to)); err != nil {
		return err
	}
	_, err := browser.Eval[bool](p, fmt.Sprintf(
		"[...document.querySelectorAll('.ant-table-row .ant-checkbox-input')].slice(%d, %d).forEach((x) => x.click()), true", from, to))
	if err == nil {
		err = p.Click("button=End")
	}
	if err != nil {
		return err
	}
	return p.See("would be ended")
}

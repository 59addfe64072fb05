package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yarnpost/e2e/browser"
)

// visitor is a person in front of the console of a service.
type visitor struct {
	t *testing.T
	*browser.Page
}

// visit opens the console.
func visit(t *testing.T, s *service) *visitor {
	t.Helper()
	needTool(t, "chromium", "chromium")
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run make build")
	}
	p, err := browser.Open("http://" + s.http)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	return &visitor{t, p}
}

// oncePassword is the one-time password of a service.
func (s *service) oncePassword() string {
	s.t.Helper()
	password, err := os.ReadFile(filepath.Join(s.dir, "admin.password"))
	if err != nil {
		s.t.Fatal(err)
	}
	return strings.TrimSpace(string(password))
}

// enter signs in for the first time, with a password of one's own.
func (v *visitor) enter(s *service) {
	v.t.Helper()
	once := s.oncePassword()
	v.do("signing in", v.see("Sign in"), v.as(once), v.see("Choose your own password"), v.fill("#old", once), v.fill("#new", "warp-and-weft"),
		v.fill("#again", "warp-and-weft"), v.click("button=Keep it"), v.see("Sign in"), v.as("warp-and-weft"), v.see("Is every client being served?"))
}

// do takes steps, one after the other.
func (v *visitor) do(what string, steps ...func() error) {
	v.t.Helper()
	for _, step := range steps {
		if err := step(); err != nil {
			v.t.Fatalf("%s: %v", what, err)
		}
	}
}

func (v *visitor) as(password string) func() error {
	return func() error { return v.SignIn("admin", password) }
}
func (v *visitor) see(text string) func() error   { return func() error { return v.See(text) } }
func (v *visitor) click(what string) func() error { return func() error { return v.Click(what) } }
func (v *visitor) fill(css, text string) func() error {
	return func() error {
		for range 5 { // a drawer that is still opening takes the focus away
			if err := v.Type(css, text); err != nil {
				return err
			}
			took, err := browser.Eval[bool](v.Page, fmt.Sprintf("document.querySelector(%q)?.value.includes(%q)", css, text))
			if err != nil || took {
				return err
			}
			time.Sleep(100 * time.Millisecond)
		}
		return fmt.Errorf("%s took no text", css)
	}
}
func (v *visitor) open(path string) func() error { return func() error { return v.Go(path) } }

// js runs JavaScript in the page.
func (v *visitor) js(text string) func() error {
	return func() error {
		_, err := browser.Eval[bool](v.Page, "(() => { "+text+"; return true })()")
		return err
	}
}

// hover opens the menu under a button.
func (v *visitor) hover(button string) func() error {
	return v.js(fmt.Sprintf(`[...document.querySelectorAll('button')].find((b) => b.textContent === %q)
		.dispatchEvent(new MouseEvent('mouseover', { bubbles: true }))`, button))
}

// menu clicks what begins so in an open menu.
func (v *visitor) menu(begins string) func() error {
	find := fmt.Sprintf(`[...document.querySelectorAll('[role=menuitem]')].find((m) => m.textContent.startsWith(%q))`, begins)
	return func() error {
		if err := v.Wait(find); err != nil {
			return err
		}
		return v.js(find + ".click()")()
	}
}

// pick chooses what begins so in a select.
func (v *visitor) pick(css, begins string) func() error {
	option := fmt.Sprintf(`[...document.querySelectorAll('.ant-select-item-option')].find((o) => o.textContent.startsWith(%q))`, begins)
	return func() error {
		if err := v.Click(css); err != nil {
			return err
		}
		if err := v.Wait(option); err != nil {
			return err
		}
		return v.js(option + ".click()")()
	}
}

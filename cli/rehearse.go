package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/client"
)

func rehearseCommands() []command {
	return []command{{name: "rehearse",
		short: "Play what happened against a changed plan: how full, who would have been refused, how many messages", most: 0,
		more: "  yarnpost rehearse --since 7d --edit 'scope edit visitors --lease 30m'\n" +
			"  yarnpost rehearse --since 14d --edit 'scope edit looms --pool 10.40.8.100-10.40.9.200' --edit 'defaults edit --lease 4h'\n" +
			"  yarnpost rehearse --since 7d --one-server",
		flags: func(f *flag.FlagSet) func(*call) error {
			since := f.String("since", "7d", "how far back: a `time`")
			gone := f.Bool("one-server", false, "one server of the pair dies at the beginning")
			var edits listFlag
			f.Var(&edits, "edit", "a `command` that changes the plan, without the word yarnpost (repeatable)")
			return func(k *call) error { return k.rehearse(*since, edits, *gone) }
		}}}
}

// editsOf runs command lines so that they give their edits instead of making them.
func (k *call) editsOf(lines []string) (out []api.Edit, err error) {
	for _, line := range lines {
		words, err := fields(line)
		if err != nil {
			return nil, usagef("--edit %q: %v", line, err)
		}
		if len(words) > 0 && words[0] == "yarnpost" {
			words = words[1:]
		}
		cmd, args := find(words)
		if cmd == nil || !cmd.write {
			return nil, usagef("--edit %q: that is no command that changes the plan", line)
		}
		edits := []api.Edit{}
		inner := *k
		inner.args, inner.out, inner.capture = nil, io.Discard, &edits
		inner.client = k.client.ReadOnly() // whatever the command does, nothing changes
		if err := cmd.capture(&inner, args); errors.Is(err, client.ErrWrites) {
			return nil, usagef("--edit %q: that is no command that changes the plan", line)
		} else if err != nil {
			return nil, fmt.Errorf("--edit %q: %w", line, err)
		}
		if len(edits) == 0 {
			return nil, usagef("--edit %q: that is no command that changes the plan", line)
		}
		out = append(out, edits...)
	}
	return out, nil
}

// find is the command that words begin with, and the rest of them.
func find(words []string) (*command, []string) {
	all := commands()
	var cmd *command
	used := 0
	for i := range all {
		n := strings.Count(all[i].name, " ") + 1
		if len(words) >= n && all[i].name == strings.Join(words[:n], " ") && n > used {
			cmd, used = &all[i], n
		}
	}
	return cmd, words[used:]
}

// capture runs a command on a call that takes its edits.
func (c *command) capture(k *call, args []string) error {
	var server, token string
	f, do := c.flagSet(k, &server, &token)
	for {
		if err := f.Parse(args); err != nil {
			return usagef("%v", err)
		}
		if f.NArg() == 0 {
			break
		}
		k.args = append(k.args, f.Arg(0))
		args = f.Args()[1:]
	}
	if len(k.args) < c.least || c.most >= 0 && len(k.args) > c.most {
		return usagef("yarnpost %s needs %s", c.name, c.args)
	}
	return do(k)
}

// fields splits a line into words as a shell does: at blanks, but not within quotes.
func fields(line string) (out []string, err error) {
	var word strings.Builder
	quote, in := rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, in = r, true
		case r == ' ' || r == '\t':
			if in {
				out = append(out, word.String())
				word.Reset()
				in = false
			}
		default:
			word.WriteRune(r)
			in = true
		}
	}
	if quote != 0 {
		return nil, errors.New("a quote is not closed")
	}
	if in {
		out = append(out, word.String())
	}
	return out, nil
}

func (k *call) rehearse(since string, lines []string, gone bool) error {
	if len(lines) == 0 && !gone {
		return usagef("say what is to be rehearsed: --edit 'scope edit NAME …', or --one-server")
	}
	edits, err := k.editsOf(lines)
	if err != nil {
		return err
	}
	r, err := k.client.Rehearse(k.ctx, api.RehearsalOrder{Since: since, Edits: edits, Gone: gone})
	if err != nil {
		return err
	}
	for !r.Over {
		if k.watched() {
			fmt.Fprintf(k.err, "\r%3.0f %%  %-40s", 100*r.Done, r.Step)
		}
		select {
		case <-k.ctx.Done():
			end, cancel := context.WithTimeout(context.WithoutCancel(k.ctx), 2*time.Second)
			defer cancel()
			return errors.Join(k.ctx.Err(), k.client.EndRehearsal(end, r.ID))
		case <-time.After(200 * time.Millisecond):
		}
		if r, err = k.client.Rehearsal(k.ctx, r.ID); err != nil {
			return err
		}
	}
	if k.watched() {
		fmt.Fprintf(k.err, "\r%60s\r", "")
	}
	if r.Failed != "" {
		return errors.New(r.Failed)
	}
	if k.json {
		return k.show(r, nil, "")
	}
	return k.showRehearsal(r)
}

func (k *call) showRehearsal(r api.Rehearsal) error {
	t := newTable("", "AS IT IS", "WITH THE CHANGE")
	row := func(name string, of func(*api.Rehearsed) string) { t.row(name, of(r.As), of(r.With)) }
	row("clients refused", func(o *api.Rehearsed) string { return fmt.Sprint(o.Refused) })
	row("of those, never served", func(o *api.Rehearsed) string { return fmt.Sprint(o.Never) })
	row("first refusal", func(o *api.Rehearsed) string {
		if o.FirstRefused == nil {
			return "never"
		}
		return o.FirstRefused.Format("Mon 2 Jan 15:04 UTC")
	})
	row("messages a second, busiest hour", func(o *api.Rehearsed) string { return fmt.Sprintf("%.2f", o.BusiestHour) })
	row("renewals a second", func(o *api.Rehearsed) string { return fmt.Sprintf("%.2f", o.Renewals) })
	if k.csv {
		return t.csv(k.out)
	}
	for _, l := range r.Diff {
		k.say("Rehearsed: ", l.Kind+" "+l.Name+": "+l.Text)
	}
	k.print(t)
	fmt.Fprintln(k.out)
	u := newTable("SCOPE", "SIZE", "REALLY", "PEAK AS IT IS", "PEAK WITH IT", "FULL")
	really := map[string]int64{}
	for _, x := range r.Really {
		really[x.Scope] = x.Peak
	}
	was := map[string]api.RehearsedScope{}
	of := func(x api.RehearsedScope) string {
		if x.Prefixes {
			return x.Scope + ", prefixes"
		}
		return x.Scope
	}
	for _, x := range r.As.Scopes {
		was[of(x)] = x
	}
	for _, x := range r.With.Scopes {
		full := "never"
		if x.FullAt != nil {
			full = x.FullAt.Format("Mon 2 Jan 15:04")
		}
		had := "?"
		if n, known := really[x.Scope]; known && !x.Prefixes {
			had = fmt.Sprint(n)
		}
		if as := was[of(x)]; x.Size > 0 || as.Size > 0 {
			u.row(of(x), count(x.Size), had, count(as.Peak), count(x.Peak), full)
		}
	}
	k.print(u)
	if len(r.With.Who) > 0 {
		fmt.Fprintln(k.out, "\nWho would have been refused:")
		w := newTable("WHEN", "CLIENT", "NAME", "SCOPE", "WHY", "WAITED")
		for _, x := range r.With.Who[:min(len(r.With.Who), 12)] {
			w.row(x.At.Format("Mon 2 Jan 15:04"), x.Hardware, x.Hostname, x.Scope, x.Why, x.Waited)
		}
		k.print(w)
	}
	fmt.Fprintf(k.out, "\n%d stays of %s to %s, played in %.1f s.\n", r.Stays, r.From.Format("2 Jan 15:04"),
		r.To.Format("2 Jan 15:04 UTC"), r.Took)
	return nil
}

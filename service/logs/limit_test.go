package logs

import (
	"bytes"
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"
)

// A flood of one kind costs a few lines, and takes none of another kind away.
func TestFlood(t *testing.T) {
	var out bytes.Buffer
	h := Limit(slog.NewTextHandler(&out, nil))
	at := time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC)
	say := func(after time.Duration, text string) {
		r := slog.NewRecord(at.Add(after), slog.LevelWarn, text, 0)
		if err := h.WithAttrs([]slog.Attr{slog.String("from", "somewhere")}).Handle(context.Background(), r); err != nil {
			t.Fatal(err)
		}
	}
	for n := range 20_000 {
		say(time.Duration(n)*time.Millisecond, "another DHCP server answers")
	}
	say(20*time.Second, "the database is away")
	say(5*time.Minute, "another DHCP server answers")
	lines := strings.Count(out.String(), "another DHCP server answers")
	if lines < burst || lines > burst+6 || out.Len() > 10_000 {
		t.Errorf("20,000 lines of one kind became %d, %d octets", lines, out.Len())
	}
	if !strings.Contains(out.String(), "the database is away") || !strings.Contains(out.String(), `"of the same left out"=`) {
		t.Errorf("the log says:\n%.2000s", out.String())
	}
}

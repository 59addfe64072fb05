package capacity

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ParseSamples reads lines of a time, in a zone where it does not say otherwise, and how many addresses were used then, with a
// comma between, as CSV files have them; a head is passed over. Times are of RFC
// 3339, or dates with or without a time of day, in UTC. Errors name the line.
func ParseSamples(lines [][]string, zone *time.Location) ([]Sample, error) {
	var out []Sample
	at, used := 0, 1
	for i, cells := range lines {
		if i == 0 && len(cells) > 1 {
			if _, err := ParseTime(cells[0], zone); err != nil && !slices.ContainsFunc(cells, isNumber) {
				at, used = -1, -1
				for c, name := range cells {
					switch strings.ToLower(strings.TrimSpace(name)) {
					case "time", "at":
						at = c
					case "used":
						used = c
					}
				}
				if at < 0 || used < 0 {
					return nil, errors.New("line 1: columns time and used are needed")
				}
				continue
			}
		}
		if len(cells) <= max(at, used) {
			return nil, fmt.Errorf("line %d: a time and a number are needed", i+1)
		}
		t, err := ParseTime(cells[at], zone)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", i+1, err)
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(cells[used]), 64)
		if err != nil || !(n >= 0) || n > math.MaxUint32 {
			return nil, fmt.Errorf("line %d: %q is no number of addresses", i+1, cells[used])
		}
		out = append(out, Sample{t, n})
	}
	if len(out) == 0 {
		return nil, errors.New("there is no sample in it")
	}
	for _, s := range out {
		if d := s.At.Sub(out[0].At); d > spanMost || d < -spanMost {
			return nil, fmt.Errorf("samples of %s and %s are too far apart; ten years are the most", out[0].At.Format(time.DateOnly), s.At.Format(time.DateOnly))
		}
	}
	return out, nil
}

func isNumber(cell string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(cell), 64)
	return err == nil
}

const spanMost = 10 * 366 * 24 * time.Hour

// ParseTime reads a moment as people and programs write it, in a zone where it does
// not say otherwise.
func ParseTime(text string, zone *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly,
		"02.01.2006 15:04:05", "02.01.2006 15:04", "02.01.2006"} {
		if t, err := time.ParseInLocation(form, text, zone); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write 2026-06-01T14:00:00Z", text)
}

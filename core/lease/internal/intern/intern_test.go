package intern

import (
	"fmt"
	"testing"
)

// Equal texts have one number; beyond the bound there is none.
func TestTexts(t *testing.T) {
	w := New(3)
	for text, want := range map[string]uint32{"": 0} {
		if got := w.Number(text); got != want {
			t.Errorf("%q is number %d", text, got)
		}
	}
	one, two := w.Number("loomctl"), w.Number("sw1/0/7")
	if one == 0 || two == 0 || one == two || w.Number("loomctl") != one || w.List()[two] != "sw1/0/7" {
		t.Errorf("numbers %d and %d of %q", one, two, w.List())
	}
	if w.Number("one too many") != 0 || len(w.List()) != 3 || w.Number("sw1/0/7") != two {
		t.Errorf("there are %q", w.List())
	}
}

// BenchmarkNumber asks for one of a thousand texts.
func BenchmarkNumber(b *testing.B) {
	w := New(1 << 16)
	var texts []string
	for i := range 1000 {
		texts = append(texts, fmt.Sprintf("sw%d/0/1", i))
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		w.Number(texts[i%len(texts)])
	}
}

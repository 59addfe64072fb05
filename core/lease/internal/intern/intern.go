// Package intern keeps each of many equal texts once, by number, up to a bound.
package intern

import "strings"

// Texts are texts that many share, by number. The first is none.
type Texts struct {
	numbers map[string]uint32
	list    []string
	most    int
}

// New makes Texts that take so many.
func New(most int) Texts { return Texts{map[string]uint32{}, []string{""}, most} }

// List are the texts by number.
func (w *Texts) List() []string { return w.list }

// Number is that of a text; 0 for none, or if there are too many.
func (w *Texts) Number(text string) uint32 {
	n, known := w.numbers[text]
	if !known && text != "" && len(w.list) < w.most {
		n = uint32(len(w.list))
		text = strings.Clone(text)
		w.numbers[text], w.list = n, append(w.list, text)
	}
	return n
}

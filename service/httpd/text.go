package httpd

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"github.com/danielgtaylor/huma/v2"
)

// This file holds what is true of every text that comes in, whatever it is for.

// jsonFormat reads JSON that says each thing once, in texts that can be shown
// anywhere.
var jsonFormat = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		return e.Encode(v)
	},
	Unmarshal: func(b []byte, v any) error {
		if err := checkJSON(b); err != nil {
			return err
		}
		return json.Unmarshal(b, v)
	},
}

// textMost bounds a text, in octets.
const textMost = 64 << 10

// checkJSON refuses keys that stand twice in one object, and texts with
// characters that are not for reading. Errors name the field and never repeat
// what it holds.
func checkJSON(b []byte) error {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if err := checkValue(d, nil); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("there is more behind the JSON value")
	}
	return nil
}

func checkValue(d *json.Decoder, path []string) error {
	t, err := d.Token()
	if err != nil {
		return err
	}
	switch v := t.(type) {
	case string:
		return checkText(strings.Join(path, "."), v)
	case json.Delim:
		if v == '{' {
			return checkObject(d, path)
		}
		for n := 0; d.More(); n++ {
			if err := checkValue(d, append(path, fmt.Sprint(n))); err != nil {
				return err
			}
		}
		_, err = d.Token()
	}
	return err
}

func checkObject(d *json.Decoder, path []string) error {
	known := map[string]bool{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return err
		}
		key, _ := t.(string)
		at := append(slices.Clone(path), key)
		if err := checkText(strings.Join(at, "."), key); err != nil {
			return err
		}
		if low := strings.ToLower(key); known[low] { // as they are read, case does not matter
			return fmt.Errorf("%s is given twice; give it once", strings.Join(at, "."))
		} else {
			known[low] = true
		}
		if err := checkValue(d, at); err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}

// checkText refuses characters that are not for reading: controls, escapes,
// marks that turn the direction of writing, and what is no character at all.
// Notes, reasons and certificates may have several lines.
func checkText(field, text string) error {
	if field == "" {
		field = "the text"
	}
	if len(text) > textMost {
		return fmt.Errorf("%s takes %d octets; %d is the most", field, len(text), textMost)
	}
	lines := strings.HasSuffix(field, "note") || strings.HasSuffix(field, "reason") || field == "ca"
	for _, r := range text {
		if lines && (r == '\n' || r == '\t') {
			continue
		}
		if r == unicode.ReplacementChar || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Co, r) || r == '\u2028' ||
			r == '\u2029' {
			return fmt.Errorf("%s has the character U+%04X, which is not for reading; take it out", strings.ToValidUTF8(clean(field), "?"), r)
		}
	}
	return nil
}

// clean makes a text harmless to show.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return '?'
	}, text)
}

// cleanURL refuses the same in a request's path and query.
func cleanURL(r *http.Request) error {
	if err := checkText("the path", r.URL.Path); err != nil {
		return err
	}
	query, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return fmt.Errorf("the query cannot be read: %w", err)
	}
	for key, values := range query {
		for _, v := range append(values, key) {
			if err := checkText(key, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// plainErrors makes refusals name the field and not repeat what it holds, which
// may be a password.
func plainErrors() {
	make := huma.NewError
	if plain {
		return
	}
	plain = true
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		for i, err := range errs {
			var detail *huma.ErrorDetail
			if errors.As(err, &detail) {
				d := *detail
				d.Value = nil
				errs[i] = &d
			}
		}
		return make(status, message, errs...)
	}
}

var plain bool // plainErrors was called

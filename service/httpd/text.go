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

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/edit"
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

// checkJSON refuses keys that stand twice in one object, and texts with
// characters that are not for reading. Errors name the field and never repeat
// what it holds.
func checkJSON(b []byte) error {
	c := jsonCheck{Decoder: json.NewDecoder(bytes.NewReader(b))}
	c.UseNumber()
	if err := c.value(); err != nil {
		return err
	}
	if _, err := c.Token(); !errors.Is(err, io.EOF) {
		return errors.New("there is more behind the JSON value")
	}
	return nil
}

// jsonCheck is a check on its way through a body.
type jsonCheck struct {
	*json.Decoder
	path []any    // keys and numbers of what is looked at
	keys []string // in lower case, of the objects that are looked at
}

// fewKeys is how many keys of an object are compared one by one.
const fewKeys = 16

// field names what is looked at.
func (c *jsonCheck) field() string {
	var b strings.Builder
	for i, step := range c.path {
		if i > 0 {
			b.WriteByte('.')
		}
		fmt.Fprint(&b, step)
	}
	return b.String()
}

// text checks a text of the value that is looked at.
func (c *jsonCheck) text(text string) error {
	return edit.CheckText(c.field(), text)
}

func (c *jsonCheck) value() error {
	t, err := c.Token()
	if err != nil {
		return err
	}
	switch v := t.(type) {
	case string:
		return c.text(v)
	case json.Delim:
		if v == '{' {
			return c.object()
		}
		for n := 0; c.More(); n++ {
			c.path = append(c.path, n)
			if err := c.value(); err != nil {
				return err
			}
			c.path = c.path[:len(c.path)-1]
		}
		_, err = c.Token()
	}
	return err
}

func (c *jsonCheck) object() error {
	first := len(c.keys)
	var many map[string]bool // of the keys, once they are more than fewKeys
	for c.More() {
		t, err := c.Token()
		if err != nil {
			return err
		}
		key, _ := t.(string)
		c.path = append(c.path, key)
		if err := c.text(key); err != nil {
			return err
		}
		low := strings.ToLower(key)
		if many[low] || many == nil && slices.Contains(c.keys[first:], low) { // as they are read, case does not matter
			return fmt.Errorf("%s is given twice; give it once", c.field())
		}
		if c.keys = append(c.keys, low); many != nil {
			many[low] = true
		} else if len(c.keys)-first > fewKeys {
			many = map[string]bool{}
			for _, k := range c.keys[first:] {
				many[k] = true
			}
		}
		if err := c.value(); err != nil {
			return err
		}
		c.path = c.path[:len(c.path)-1]
	}
	c.keys = c.keys[:first]
	_, err := c.Token()
	return err
}

// cleanURL refuses the same in a request's path and query.
func cleanURL(r *http.Request) error {
	if err := edit.CheckText("the path", r.URL.Path); err != nil {
		return err
	}
	query, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		return fmt.Errorf("the query cannot be read: %w", err)
	}
	for key, values := range query {
		for _, v := range append(values, key) {
			if err := edit.CheckText(key, v); err != nil {
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

package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"
)

// operations are what the API says it can be asked, as patterns of a method and a path,
// with the parameters that each knows.
func operations(t *testing.T) map[*regexp.Regexp]map[string]bool {
	t.Helper()
	text, err := os.ReadFile("../api/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct{ Parameters []struct{ Name, In string } }
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		t.Fatal(err)
	}
	out := map[*regexp.Regexp]map[string]bool{}
	for path, methods := range doc.Paths {
		for method, of := range methods {
			known := map[string]bool{}
			for _, p := range of.Parameters {
				if p.In == "query" {
					known[p.Name] = true
				}
			}
			pattern := regexp.MustCompile(`\{[^}]*\}`).ReplaceAllString(path, `[^/]+`)
			out[regexp.MustCompile("^"+strings.ToUpper(method)+" "+pattern+"$")] = known
		}
	}
	return out
}

// words are what methods take as a part of a path, where that is not anybody's to name.
var words = map[string]string{"OrderPair": "down"}

// filled is a value of a type in which everything says something.
func filled(of reflect.Type, depth int) reflect.Value {
	v := reflect.New(of).Elem()
	switch of.Kind() {
	case reflect.String:
		v.SetString("x y/z")
	case reflect.Int, reflect.Int64, reflect.Int32:
		v.SetInt(3)
	case reflect.Float64:
		v.SetFloat(1.5)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Slice:
		if depth > 0 {
			v.Set(reflect.Append(v, filled(of.Elem(), depth-1)))
		}
	case reflect.Pointer:
		if depth > 0 {
			v.Set(reflect.New(of.Elem()))
			v.Elem().Set(filled(of.Elem(), depth-1))
		}
	case reflect.Func:
		v.Set(reflect.MakeFunc(of, func([]reflect.Value) []reflect.Value {
			out := make([]reflect.Value, of.NumOut())
			for i := range out {
				out[i] = reflect.Zero(of.Out(i))
			}
			return out
		}))
	case reflect.Struct:
		if of == reflect.TypeFor[time.Time]() {
			return reflect.ValueOf(time.Date(2026, 6, 1, 14, 0, 0, 0, time.UTC))
		}
		for i := range of.NumField() {
			if f := of.Field(i); f.IsExported() && depth > 0 {
				v.Field(i).Set(filled(f.Type, depth-1))
			}
		}
	}
	return v
}

// callOf calls a method with values that say something, and reports whether it gave an
// error.
func callOf(ctx context.Context, c reflect.Value, m reflect.Method) (failed bool) {
	args := []reflect.Value{c}
	for i := 1; i < m.Type.NumIn(); i++ {
		if of := m.Type.In(i); of == reflect.TypeFor[context.Context]() {
			args = append(args, reflect.ValueOf(ctx))
		} else if word := words[m.Name]; word != "" && of.Kind() == reflect.String {
			args = append(args, reflect.ValueOf(word))
		} else if of == reflect.TypeFor[io.Writer]() {
			args = append(args, reflect.ValueOf(io.Discard))
		} else if !m.Type.IsVariadic() || i < m.Type.NumIn()-1 {
			args = append(args, filled(of, 3))
		}
	}
	out := m.Func.Call(args)
	last := out[len(out)-1]
	return last.Type() == reflect.TypeFor[error]() && !last.IsNil()
}

// Every method of the client asks for something that the API has, with parameters that it
// knows, and shows who asks; what it is told badly is an error, and never a panic.
func TestEveryMethodFitsTheAPI(t *testing.T) {
	known := operations(t)
	var asked []*http.Request
	status, answer := http.StatusOK, "{}"
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r)
		if _, err := io.Copy(io.Discard, r.Body); err != nil {
			t.Error(err)
		}
		w.WriteHeader(status)
		io.WriteString(w, answer)
	}))
	defer s.Close()
	c := reflect.ValueOf(New(s.URL, "secret"))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	call := func(m reflect.Method) (failed bool) {
		asked = nil
		return callOf(ctx, c, m)
	}
	methods := 0
	for i := range c.Type().NumMethod() {
		m := c.Type().Method(i)
		if m.Type.NumIn() < 2 || m.Type.In(1) != reflect.TypeFor[context.Context]() {
			continue
		}
		methods++
		status, answer = http.StatusOK, "{}"
		call(m)
		if len(asked) == 0 {
			t.Errorf("%s asks for nothing", m.Name)
		}
		for _, r := range asked {
			if r.Header.Get("Authorization") != "Bearer secret" {
				t.Errorf("%s does not say who asks", m.Name)
			}
			var fits *regexp.Regexp // the most specific, as the API takes it
			for pattern := range known {
				if pattern.MatchString(r.Method+" "+r.URL.EscapedPath()) &&
					(fits == nil || strings.Count(pattern.String(), "[") < strings.Count(fits.String(), "[")) {
					fits = pattern
				}
			}
			for name := range r.URL.Query() {
				if fits != nil && !known[fits][name] {
					t.Errorf("%s: %s %s knows no %s", m.Name, r.Method, r.URL.Path, name)
				}
			}
			if fits == nil {
				t.Errorf("%s asks for %s %s, which the API does not have", m.Name, r.Method, r.URL.EscapedPath())
			}
		}
		for _, bad := range []struct {
			status int
			answer string
		}{{503, `{"status":503,"detail":"away"}`}, {200, `{"items":3,"next":`}, {500, ""}} {
			status, answer = bad.status, bad.answer
			if !call(m) && m.Type.NumOut() > 0 && m.Type.Out(m.Type.NumOut()-1) == reflect.TypeFor[error]() {
				if bad.status == 200 && (m.Type.NumOut() == 1 || m.Type.Out(0) == reflect.TypeFor[[]byte]()) {
					continue // it reads no answer, or gives it as it is
				}
				t.Errorf("%s, told %d %q, has nothing to say", m.Name, bad.status, bad.answer)
			}
		}
	}
	if methods < 60 {
		t.Errorf("only %d methods were tried", methods)
	}
}

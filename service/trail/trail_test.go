package trail

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"

	"yarnpost/service/store"
)

// book is a recorder that may be away.
type book struct {
	away bool
	list []store.Deed
}

func (b *book) AddDeeds(_ context.Context, list []store.Deed) error {
	if b.away {
		return errors.New("the database is away")
	}
	b.list = append(b.list, list...)
	return nil
}

// What is done while nothing can be recorded is recorded afterwards, in order and once.
func TestDeedsWait(t *testing.T) {
	b := &book{}
	r := New(b, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	add := func(from, to int) {
		for n := from; n < to; n++ {
			r.Add(ctx, store.Deed{Subject: fmt.Sprint(n)})
		}
	}
	add(0, 2)
	b.away = true
	add(2, 5)
	if len(b.list) != 2 || len(r.Waiting()) != 3 {
		t.Fatalf("%d on record, %d wait", len(b.list), len(r.Waiting()))
	}
	b.away = false
	r.Flush(ctx)
	add(5, 6)
	for n, d := range b.list {
		if d.Subject != fmt.Sprint(n) {
			t.Errorf("deed %d is %s", n, d.Subject)
		}
	}
	if len(b.list) != 6 || len(r.Waiting()) != 0 {
		t.Errorf("%d on record, %d wait", len(b.list), len(r.Waiting()))
	}
	b.away = true
	add(0, waitMost+5)
	if len(r.Waiting()) != waitMost {
		t.Errorf("%d wait", len(r.Waiting()))
	}
}

package prepare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"time"

	"yarnpost/service/failover"
	"yarnpost/service/partner"
	"yarnpost/service/store"
)

// This file keeps both servers of a pair at the same changes in preparation.

// after is a time later than that of the state before, whatever the clock did.
func (k *Keeper) after(key string) time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	now, was := k.Clock.Now().UTC().Truncate(time.Microsecond), k.changed[key]
	if !now.After(was) {
		return was.Add(time.Microsecond)
	}
	return now
}

// take takes states in that are on record.
func (k *Keeper) take(rows []store.Prepared) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, row := range rows {
		if was, ok := k.changed[row.Name]; ok && !row.Changed.After(was) {
			continue
		}
		var p Preparation
		if row.Body != nil {
			if err := json.Unmarshal(row.Body, &p); err != nil {
				return fmt.Errorf("the change in preparation %s: %w", row.Name, err)
			}
		}
		if k.changed[row.Name] = row.Changed; row.Body != nil {
			k.all[row.Name] = p
		} else {
			delete(k.all, row.Name)
		}
	}
	return nil
}

// news are the states that are later than those that are kept.
func (k *Keeper) news(rows []store.Prepared) (out []store.Prepared) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, row := range rows {
		if was, ok := k.changed[row.Name]; !ok || row.Changed.After(was) {
			out = append(out, row)
		}
	}
	return out
}

// Take takes in what the partner knows: of each the state that is later.
func (k *Keeper) Take(ctx context.Context, rows []store.Prepared) error {
	news := k.news(rows)
	if len(news) == 0 {
		return nil
	}
	if err := k.Store.SavePrepared(ctx, news...); err != nil {
		return err
	}
	return k.take(news)
}

// Answers answer the questions of a partner that keeps them, too.
func (k *Keeper) Answers() map[string]partner.Answer {
	return map[string]partner.Answer{
		"prepared.head": partner.Gives(func(context.Context) (uint64, error) { return k.head(), nil }),
		"prepared":      partner.Gives(k.Store.Prepared),
		"prepared.take": partner.Takes(k.Take),
	}
}

// head is one number for all that is kept.
func (k *Keeper) head() uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	h := fnv.New64a()
	for _, name := range slices.Sorted(maps.Keys(k.changed)) {
		fmt.Fprintln(h, name, k.changed[name].UnixMicro())
	}
	return h.Sum64()
}

// CatchUp asks the partner for what was not heard of.
func (k *Keeper) CatchUp(ctx context.Context) {
	var theirs uint64
	if err := k.Partner.Ask(ctx, "prepared.head", struct{}{}, &theirs); err != nil || theirs == k.head() {
		return // it is away, or of an older version, or says the same
	}
	var rows []store.Prepared
	err := k.Partner.Ask(ctx, "prepared", struct{}{}, &rows)
	if err == nil {
		err = k.Take(ctx, rows)
	}
	if err == nil && theirs != k.head() {
		err = k.anew(ctx)
	}
	if err != nil && !errors.Is(err, failover.ErrAlone) {
		k.Log.Warn("changes in preparation could not be taken over from the partner", "err", err)
	}
}

// anew reads what is on record: a server that gave up what it had, to join the other, has none of it
// there any more. Whoever changes something just now is not waited for: it may wait for the partner.
func (k *Keeper) anew(ctx context.Context) error {
	if !k.writing.TryLock() {
		return nil
	}
	defer k.writing.Unlock()
	return k.Load(ctx)
}

package failover

import (
	"context"
	"fmt"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/pair"
)

func checkSettings(set pair.Settings) error {
	switch {
	case set.Split < 0 || set.Split > 100:
		return fmt.Errorf("split %d: of a hundred clients the primary answers 0 to 100", set.Split)
	case set.MCLT != 0 && (set.MCLT < time.Minute || set.MCLT > 24*time.Hour):
		return fmt.Errorf("lead time %s: it is a minute to a day", set.MCLT)
	case set.AutoDown != 0 && set.AutoDown < time.Minute:
		return fmt.Errorf("auto-down %s: it is a minute at least, or 0 for never", set.AutoDown)
	}
	return nil
}

// Edit changes settings of the pair on both servers.
func (p *Pair) Edit(ctx context.Context, edit func(*pair.Settings)) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil {
		return ErrAlone
	}
	set := p.on.Settings
	edit(&set)
	set.Number++
	if err := checkSettings(set); err != nil {
		return err
	}
	set = p.on.Settings.Changed(set)
	theirs := set
	theirs.Side = set.Side.Other()
	ctx, cancel := context.WithTimeout(ctx, askTime) // the other may be doing the same
	defer cancel()
	if err := p.channel.Ask(ctx, "pair.settings", theirs, nil); err != nil {
		return fmt.Errorf("settings of a pair are changed on both servers, and this one cannot reach the other: %w", err)
	}
	return p.takeSettings(ctx, set)
}

// settleSettings takes over settings that the partner has and this server missed, because it
// could not record them, or did not hear of them.
func (p *Pair) settleSettings(ctx context.Context, theirs pair.Settings) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.on == nil || theirs.Number <= p.on.Settings.Number {
		return nil
	}
	return p.takeSettings(ctx, p.on.Settings.Changed(theirs))
}

// takeSettings puts other settings in force: the pair begins anew with them. The
// caller holds p.mu.
func (p *Pair) takeSettings(ctx context.Context, set pair.Settings) error {
	if err := p.Store.SaveSettings(ctx, set); err != nil {
		return err
	}
	p.on.Settings = set
	return p.withPair(func(s *pair.Server) ([]effect.List, error) {
		s.Use(set)
		return nil, nil
	})
}

package partner

import (
	"context"
	"encoding/json"
	"fmt"
)

// Answer answers a question of the partner's; in is its JSON, and what comes back becomes
// JSON.
type Answer func(ctx context.Context, in json.RawMessage) (any, error)

// Answers makes an Answer of a function; a question that cannot be read is refused.
func Answers[In, Out any](f func(context.Context, In) (Out, error)) Answer {
	return func(ctx context.Context, in json.RawMessage) (any, error) {
		var v In
		if err := json.Unmarshal(in, &v); err != nil {
			return nil, fmt.Errorf("the question cannot be read: %w", err)
		}
		return f(ctx, v)
	}
}

// Takes makes an Answer of a function that only takes what it is told.
func Takes[In any](f func(context.Context, In) error) Answer {
	return Answers(func(ctx context.Context, in In) (struct{}, error) { return struct{}{}, f(ctx, in) })
}

// Gives makes an Answer of a function that is asked nothing in particular.
func Gives[Out any](f func(context.Context) (Out, error)) Answer {
	return func(ctx context.Context, _ json.RawMessage) (any, error) { return f(ctx) }
}

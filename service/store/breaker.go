package store

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"yarnpost/service/journal"
	"yarnpost/service/lock"
)

// breaker is a circuit breaker: it keeps a database that does not answer from holding up whoever asks it.
// While it gives no sign, nothing is asked, and what was asked before is given up:
// both end with context.Canceled. It sees each use of the pool as a tracer.
type breaker struct {
	mu   sync.Mutex
	good context.Context // over once the database gives no sign
	over context.CancelFunc
}

func newBreaker() *breaker {
	p := new(breaker)
	p.good, p.over = context.WithCancel(context.Background())
	return p
}

// signEvery is how often the database is asked for a sign.
const signEvery = 500 * time.Millisecond

// watch asks the database for a sign, on a connection of its own, until the context
// ends. One that refuses is there, and says so to everybody by itself.
func (p *breaker) watch(ctx context.Context, config *pgx.ConnConfig) {
	var conn *pgx.Conn
	for ctx.Err() == nil {
		patient, cancel := context.WithTimeout(ctx, journal.StuckAfter)
		var err error
		if conn == nil {
			conn, err = pgx.ConnectConfig(patient, config)
		}
		if err == nil {
			err = conn.Ping(patient)
		}
		p.set(err != nil && patient.Err() != nil && ctx.Err() == nil)
		if err != nil && conn != nil {
			conn.Close(patient)
			conn = nil
		}
		cancel()
		select {
		case <-ctx.Done():
		case <-time.After(signEvery):
		}
	}
	if conn != nil {
		conn.Close(ctx)
	}
}

// set says whether the database gives no sign.
func (p *breaker) set(away bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch was := p.good.Err() != nil; {
	case away:
		p.over()
	case was:
		p.good, p.over = context.WithCancel(context.Background())
	}
}

type breakerKey struct{} // of what ends the wait for one use of the pool

func (p *breaker) begin(ctx context.Context) context.Context {
	var good context.Context
	lock.While(&p.mu, func() { good = p.good })
	ctx, cancel := context.WithCancel(ctx)
	if good.Err() != nil {
		cancel()
		return ctx
	}
	stop := context.AfterFunc(good, cancel)
	return context.WithValue(ctx, breakerKey{}, func() { stop(); cancel() })
}

func (p *breaker) end(ctx context.Context) {
	if done, ok := ctx.Value(breakerKey{}).(func()); ok {
		done()
	}
}

// TraceAcquireStart implements pgxpool.AcquireTracer.
func (p *breaker) TraceAcquireStart(ctx context.Context, _ *pgxpool.Pool, _ pgxpool.TraceAcquireStartData) context.Context {
	return p.begin(ctx)
}

// TraceAcquireEnd implements pgxpool.AcquireTracer.
func (p *breaker) TraceAcquireEnd(ctx context.Context, _ *pgxpool.Pool, _ pgxpool.TraceAcquireEndData) {
	p.end(ctx)
}

// TraceQueryStart implements pgx.QueryTracer.
func (p *breaker) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return p.begin(ctx)
}

// TraceQueryEnd implements pgx.QueryTracer.
func (p *breaker) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryEndData) {
	p.end(ctx)
}

// TraceBatchStart implements pgx.BatchTracer.
func (p *breaker) TraceBatchStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return p.begin(ctx)
}

// TraceBatchQuery implements pgx.BatchTracer.
func (p *breaker) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}

// TraceBatchEnd implements pgx.BatchTracer.
func (p *breaker) TraceBatchEnd(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchEndData) {
	p.end(ctx)
}

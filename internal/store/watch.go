package store

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Watched is what was asked of the database within a context: for tests and measurements, which would know how much a
// page asks. It may be asked by several goroutines.
type Watched struct {
	mu      sync.Mutex
	n       int
	took    time.Duration
	slowest Statement
}

// Statement is one that was asked, and how long it took until all its rows were read.
type Statement struct {
	SQL  string
	Args []any
	Took time.Duration
}

// Watch watches what is asked of the database within the context that it answers.
func Watch(ctx context.Context) (context.Context, *Watched) {
	w := &Watched{}
	return context.WithValue(ctx, watchedKey{}, w), w
}

// Asked is how many statements were asked, and how long they took in all.
func (w *Watched) Asked() (n int, took time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.n, w.took
}

// Slowest is the one that took longest.
func (w *Watched) Slowest() Statement {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.slowest
}

type (
	watchedKey struct{}
	askedKey   struct{}
)

// asked is a statement under way.
type asked struct {
	Statement
	began time.Time
}

// watching tells those who watch of each statement.
type watching struct{}

// TraceQueryStart notes that a statement begins, where somebody watches.
func (watching) TraceQueryStart(ctx context.Context, _ *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	if ctx.Value(watchedKey{}) == nil {
		return ctx
	}
	return context.WithValue(ctx, askedKey{}, &asked{Statement{SQL: q.SQL, Args: q.Args}, time.Now()})
}

// TraceQueryEnd notes that it is over.
func (watching) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryEndData) {
	a, ok := ctx.Value(askedKey{}).(*asked)
	if !ok {
		return
	}
	a.Took = time.Since(a.began)
	w := ctx.Value(watchedKey{}).(*Watched)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.n, w.took = w.n+1, w.took+a.Took
	if a.Took > w.slowest.Took {
		w.slowest = a.Statement
	}
}

// Package engine is what runs by itself: it enters people into sequences,
// walks them on, sends, receives, keeps scores and makes handoffs.
//
// It decides nothing on its own. Each piece of work is a transaction in which
// the store claims what is due, the core says what to do, and the store keeps
// it. Any number of engines can work on one database at once.
package engine

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// Engine works on one database. It is safe for use by several goroutines.
type Engine struct {
	Config

	key       []byte
	before    earlierKey
	programs  sync.Map // version → *program
	executors map[string]Executor
	plans     sync.Map // version → *sequence.Plan
	threads   sync.Map // version → which of its emails answer in which threads
	words     sync.Map // message and version → *message.Program
	attached  attached
	wake      chan struct{}
	jobs      *jobs // asks for background jobs; Work runs them

	out outgoing

	workspace atomic.Pointer[Workspace]
	zone      atomic.Pointer[time.Location]
	refreshed atomic.Int64 // when the workspace was last read, in the machine's time

	mu       sync.Mutex
	worker   *store.Worker
	accounts map[int64]account // by user
	turn     sync.Mutex
	entered  time.Time // when rules were last asked whom they let in
}

// New readies an engine. The key that signs links is made at the first start
// and kept in the database.
func New(ctx context.Context, c Config) (*Engine, error) {
	x := &Engine{Config: c, wake: make(chan struct{}, 1)}
	if x.Config.Zone == nil {
		x.Config.Zone = time.UTC
	}
	if err := x.readWorkspace(ctx); err != nil {
		return nil, err
	}
	var key string
	fresh := make([]byte, 32)
	rand.Read(fresh)
	if err := x.Store.InitSetting(ctx, "link_key", base64.StdEncoding.EncodeToString(fresh)); err != nil {
		return nil, err
	}
	if _, err := x.Store.Setting(ctx, "link_key", &key); err != nil {
		return nil, fmt.Errorf("reading the key that signs links: %w", err)
	}
	var err error
	if x.jobs, err = river.NewClient(riverpgxv5.New(x.Store.Pool), &river.Config{Logger: slog.New(quieter{slog.Default().Handler()})}); err != nil {
		return nil, fmt.Errorf("readying background jobs: %w", err)
	}
	if x.key, err = base64.StdEncoding.DecodeString(key); err != nil || len(x.key) < 32 {
		return nil, plainly.Errorf("the key that signs links is damaged")
	}
	if _, err := x.Store.Setting(ctx, "link_key_before", &x.before); err != nil {
		return nil, fmt.Errorf("reading the earlier key that signed links: %w", err)
	}
	x.wayActs()
	x.recordActs()
	x.deskActs()
	return x, nil
}

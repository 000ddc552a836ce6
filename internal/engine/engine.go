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
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/mail"
	"ombak/internal/seal"
	"ombak/internal/store"
)

// Clock tells the time. Instants are UTC, in whole microseconds.
type Clock interface{ Now() time.Time }

// SystemClock is the machine's.
type SystemClock struct{}

// Now is the machine's time.
func (SystemClock) Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// Mailer sends one letter and tells what became of it.
type Mailer interface {
	Send(ctx context.Context, l mail.Letter) (mail.Fate, error)
}

// Config is what an engine works with.
type Config struct {
	Store  *store.Store
	Clock  Clock
	Mail   Mailer
	URL    string         // where readers reach Ombak, without a slash at its end
	Domain string         // of Message-IDs and return paths
	Signer *mail.Signer   // by which Mail signs, for its DNS records; nil: nothing is signed
	Zone   *time.Location // the workspace's; nil: UTC
	Seal   *seal.Key      // for passwords of mail servers; nil: none are kept

	Patience       time.Duration  // how long a mail server's answer is waited for; 0: 30 seconds
	Trust          *x509.CertPool // whose certificates mail servers may have; nil: those the machine trusts
	PrivateServers bool           // mailboxes may use mail servers on this machine and in private networks
}

// Engine works on one database. It is safe for use by several goroutines.
type Engine struct {
	Config

	key      []byte
	before   earlierKey
	programs sync.Map // version → *program
	plans    sync.Map // version → *sequence.Plan
	threads  sync.Map // version → which of its emails answer in which threads
	words    sync.Map // message and version → *message.Program
	attached attached
	wake     chan struct{}
	jobs     *jobs // asks for background jobs; Work runs them

	post post

	workspace atomic.Pointer[Workspace]
	zone      atomic.Pointer[time.Location]
	refreshed atomic.Int64 // when the workspace was last read, in the machine's time

	mu       sync.Mutex
	worker   *store.Worker
	accounts map[int64]account // by user
	entered  time.Time         // when rules were last asked whom they let in
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
	return x, nil
}

// Now is the engine's time.
func (e *Engine) Now() time.Time { return e.Clock.Now() }

// Nudge has the engine look for work at once instead of at its next turn.
func (e *Engine) Nudge() {
	select {
	case e.wake <- struct{}{}:
	default: // one is waiting already
	}
}

// program is a launched version ready to run.
type program struct {
	*sequence.Program
	messages map[int64]int
}

// programsOf readies the versions that some enrolments are on.
func (e *Engine) programsOf(ctx context.Context, tx store.Tx, claimed []store.Claimed) (map[int64]*program, error) {
	out := map[int64]*program{}
	var missing []int64
	for i := range claimed {
		v := claimed[i].Version
		if _, ok := out[v]; ok {
			continue
		}
		if p, ok := e.programs.Load(v); ok {
			out[v] = p.(*program)
			continue
		}
		out[v] = nil
		missing = append(missing, v)
	}
	if len(missing) == 0 {
		return out, nil
	}
	versions, err := tx.Versions(ctx, missing)
	if err != nil {
		return nil, err
	}
	for _, v := range versions {
		var hold time.Time
		if v.Hold != nil {
			hold = *v.Hold
		}
		pr, err := sequence.Compile(v.Plan.V, v.Sequence, hold, calendar.Working{})
		if err != nil {
			slog.Error("a launched version cannot run", "version", v.ID, "error", err)
			continue // those who are on it are put off, each for itself
		}
		p := &program{pr, v.Messages.V}
		e.programs.Store(v.ID, p) // a version never changes
		out[v.ID] = p
	}
	return out, nil
}

// topicOf names what an email belongs to, for those who watch it.
func topicOf(sequence, mailing int64) string {
	if mailing != 0 {
		return topic("mailing", mailing)
	}
	return topic("sequence", sequence)
}

func topic(kind string, id int64) string { return fmt.Sprintf("%s:%d", kind, id) }

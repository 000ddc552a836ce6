// Package base is what all rooms of the engine stand on: the clock, the workspace, the
// keys that sign addresses, who may do what, and what of an error is told.
package base

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/finder"
	"ombak/internal/mail"
	"ombak/internal/network"
	"ombak/internal/phone"
	"ombak/internal/seal"
	"ombak/internal/store"
)

// Base works on one database. It is safe for use by several goroutines.
type Base struct {
	Config
	Jobs *jobs // asks for background jobs

	key    []byte
	before earlierKey
	wake   chan struct{}
	large  Kept[bool]

	workspace atomic.Pointer[Workspace]
	zone      atomic.Pointer[time.Location]
	rests     atomic.Pointer[map[string]calendar.Holidays]
	restsOf   atomic.Int64 // the Workspace.Rests that rests are of
	refreshed atomic.Int64 // when the workspace was last read, in the machine's time
}

// New readies a base. The key that signs links is made at the first start and kept
// in the database.
func New(ctx context.Context, c Config) (*Base, error) {
	b := &Base{Config: c, wake: make(chan struct{}, 1)}
	if b.Config.Zone == nil {
		b.Config.Zone = time.UTC
	}
	b.restsOf.Store(-1)
	if err := b.readWorkspace(ctx); err != nil {
		return nil, err
	}
	if err := b.readKeys(ctx); err != nil {
		return nil, err
	}
	var err error
	b.Jobs, err = river.NewClient(riverpgxv5.New(b.Store.Pool), &river.Config{Logger: QuietLog()})
	if err != nil {
		return nil, fmt.Errorf("readying background jobs: %w", err)
	}
	return b, nil
}

func (b *Base) readKeys(ctx context.Context) error {
	fresh := make([]byte, 32)
	rand.Read(fresh)
	if err := b.Store.InitSetting(ctx, "link_key", base64.StdEncoding.EncodeToString(fresh)); err != nil {
		return err
	}
	var key string
	if _, err := b.Store.Setting(ctx, "link_key", &key); err != nil {
		return fmt.Errorf("reading the key that signs links: %w", err)
	}
	var err error
	if b.key, err = base64.StdEncoding.DecodeString(key); err != nil || len(b.key) < 32 {
		return plainly.Errorf("the key that signs links is damaged")
	}
	if _, err := b.Store.Setting(ctx, "link_key_before", &b.before); err != nil {
		return fmt.Errorf("reading the earlier key that signed links: %w", err)
	}
	return nil
}

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

// Network is the network on which reps reach people, as package network speaks to it.
type Network interface {
	Do(ctx context.Context, x network.Errand) (done bool, err error)
	Withdraw(ctx context.Context, id string) error
	News(ctx context.Context, after string) ([]network.News, error)
	People(ctx context.Context, from network.Source, what string, n int) ([]network.Person, error)
}

// Phone makes calls for reps, as package phone speaks to it.
type Phone interface {
	Dial(ctx context.Context, id, from, to string) (phone.Call, error)
	State(ctx context.Context, id string) (phone.Call, error)
	HangUp(ctx context.Context, id string) (phone.Call, error)
}

// Finder finds email addresses, as package finder speaks to it.
type Finder interface {
	Find(ctx context.Context, people []finder.Person) ([]finder.Found, error)
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

	Patience time.Duration  // how long a mail server's answer is waited for; 0: 30 seconds
	Trust    *x509.CertPool // whose certificates mail servers may have; nil: those the machine trusts
	// Network does social touches for those who leave them to it; nil: none is connected.
	Network Network
	Phone   Phone  // makes calls; nil: reps dial by themselves
	Finder  Finder // of email addresses; nil: none are looked for

	PrivateServers bool // mailboxes may use mail servers on this machine and in private networks
}

// Now is the engine's time.
func (e *Base) Now() time.Time { return e.Clock.Now() }

// Woken tells that the engine was nudged.
func (e *Base) Woken() <-chan struct{} { return e.wake }

// Nudge has the engine look for work at once instead of at its next turn.
func (e *Base) Nudge() {
	select {
	case e.wake <- struct{}{}:
	default: // one is waiting already
	}
}

// Sending is that something has become of an email of a sequence or a one-off email.
func Sending(sequence, mailing int64) news.Item {
	if mailing != 0 {
		return news.Mailing.Of(mailing)
	}
	return news.Sequence.Of(sequence)
}

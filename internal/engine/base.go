package engine

import (
	"context"
	"crypto/x509"
	"fmt"
	"ombak/internal/mail"
	"ombak/internal/seal"
	"ombak/internal/store"
	"time"
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

// Now is the engine's time.
func (e *Engine) Now() time.Time { return e.Clock.Now() }

// Woken tells that the engine was nudged.
func (e *Engine) Woken() <-chan struct{} { return e.wake }

// Nudge has the engine look for work at once instead of at its next turn.
func (e *Engine) Nudge() {
	select {
	case e.wake <- struct{}{}:
	default: // one is waiting already
	}
}

// topicOf names what an email belongs to, for those who watch it.
func topicOf(sequence, mailing int64) string {
	if mailing != 0 {
		return topic("mailing", mailing)
	}
	return topic("sequence", sequence)
}

func topic(kind string, id int64) string { return fmt.Sprintf("%s:%d", kind, id) }

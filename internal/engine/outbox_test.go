package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"ombak/internal/core/mailbox"
	"ombak/internal/seal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/standin/unruly"
	"ombak/internal/store"
)

// Of two accounts one misbehaves, in each way in which it can: the other's
// letters go out meanwhile, all of them, and of the first none is lost.
func TestAnAccountHoldsUpNobodyElse(t *testing.T) {
	const each = 40
	for _, c := range []struct{ name, at, answer string }{
		{"hangs", "RCPT", unruly.Slow},
		{"hangs when it greets", "greeting", unruly.Slow},
		{"drops", "DATA", unruly.Hang},
		{"refuses", "MAIL", "550 5.7.1 not from here"},
		{"greylists", "RCPT", "451 4.7.1 come back later"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, mailserver.Options{})
			var err error
			w.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "key"))
			w.must(err)
			w.e.Patience = time.Minute // longer than the test waits for anything
			good := true
			bad, err := unruly.Start(func(at string) string {
				if at == c.at && !good {
					return c.answer
				}
				return ""
			})
			w.must(err)
			w.must(w.e.SetMailAccount(w.ctx, w.rep1, bad.Addr(), "", ""))
			good = false
			for i := range 2 * each {
				id := w.norwegian(fmt.Sprintf("P%d", i))
				_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = $2 where id = $1", id,
					[]int64{w.rep1, w.rep2}[i/each])
				w.must(err)
			}
			w.settle()
			m := w.newsletter(func(m *store.Mailing) { m.Message = &w.second })
			w.must(w.e.LaunchMailing(w.ctx, m.ID))
			for did := true; did; {
				did, err = w.e.FillMailings(w.ctx)
				w.must(err)
			}

			began := time.Now()
			ctx, stop := context.WithCancel(w.ctx)
			worked := make(chan error, 1)
			go func() { worked <- w.e.Work(ctx) }()
			others := func() int { return len(w.mail.Letters("", 1000)) }
			until(t, "the other account's letters", func() bool { return others() >= each })
			t.Logf("while one %s, the other sent %d of %d in %v", c.name, others(), each,
				time.Since(began).Round(10*time.Millisecond))
			if others() != each {
				t.Errorf("the other account has sent %d of %d", others(), each)
			}
			stopped := func() bool {
				return w.count("select count(*) from outbox where stopped_at is not null and user_id = $1", w.rep1) == 1
			}
			if c.name == "refuses" { // the account itself; the other may well be done before it is heard
				until(t, "the account that refuses is stopped", stopped)
			}
			stop()
			bad.Close() // what hangs is let go
			w.must(<-worked)
			byState := map[string]int{}
			for _, state := range []string{"waiting", "sent", "held", "stopped", "claimed", "sending", "passed",
				"withdrawn"} {
				byState[state] = w.count("select count(*) from touch t join letter l on l.touch_id = t.id where "+
					"l.sender_id = $1 and case when l.open then l.phase else t.state end = $2 and l.lane = 3", w.rep1,
					state)
			}
			unclaimed := w.count("select count(*) from letter where sender_id is null and phase = 'waiting' and lane " +
				"= 3")
			if n := byState["waiting"] + byState["held"] + unclaimed; n != each {
				t.Errorf("of the first account's %d letters %d wait or are held: %v and %d that nobody has claimed",
					each, n, byState, unclaimed)
			}
			if stopped() != (c.name == "refuses") {
				t.Errorf("it is stopped: %v", stopped())
			}
			if len(bad.Taken()) != 0 {
				t.Errorf("it has %d letters", len(bad.Taken()))
			}
		})
	}
}

// What could not be sent counts for no daily limit: a server that was away for an
// hour costs nobody their day.
func TestWhatIsNotSentIsNotCounted(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var err error
	w.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "key"))
	w.must(err)
	var away atomic.Bool
	srv, err := unruly.Start(func(at string) string {
		if at == "greeting" && away.Load() {
			return unruly.Hang
		}
		return ""
	})
	w.must(err)
	t.Cleanup(srv.Close)
	w.must(w.e.SetMailAccount(w.ctx, w.rep1, srv.Addr(), "", ""))
	w.must(w.e.SetMailbox(w.ctx, w.rep1, mailbox.Box{Daily: 30}))
	for i := range 30 {
		id := w.norwegian(fmt.Sprintf("P%d", i))
		_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = $2 where id = $1", id, w.rep1)
		w.must(err)
	}
	w.settle()
	m := w.newsletter(func(m *store.Mailing) { m.Message = &w.second })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	away.Store(true)
	w.settle()
	w.to(20 * time.Minute)
	if n := len(srv.Taken()); n != 0 {
		t.Fatalf("%d letters by a server that is away", n)
	}
	away.Store(false)
	w.to(3 * time.Hour)
	if n := len(srv.Taken()); n != 30 {
		t.Errorf("%d of 30 have gone out on the day, of which 30 may", n)
	}
}

// A stopped account says so and keeps its letters; once somebody has looked, they go.
func TestAStoppedAccountGoesOn(t *testing.T) {
	refuse := true
	w := newWorld(t, mailserver.Options{AnswerRcpt: func(string) error {
		if refuse {
			return relayDenied
		}
		return nil
	}})
	for i := range 20 {
		w.norwegian(fmt.Sprintf("P%d", i))
	}
	w.settle()
	m := w.newsletter(nil)
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.settle()
	list, err := w.s.Stopped(w.ctx)
	w.must(err)
	if len(list) != 1 || list[0].User != 0 || !strings.Contains(list[0].Why, "relaying denied") ||
		list[0].Waiting != 20 {
		t.Fatalf("%+v", list)
	}
	w.to(2 * dayLong)
	if n := w.count("select count(*) from person where bounced_at is not null"); n != 0 {
		t.Errorf("%d readers are marked for what one setting did", n)
	}
	refuse = false
	w.to(3 * dayLong)
	if n := len(w.mail.Letters("", 100)); n != 0 {
		t.Errorf("%d went out though it is stopped", n)
	}
	w.must(w.e.OpenOutbox(w.ctx, 0))
	w.to(5 * dayLong)
	if n := len(w.mail.Letters("", 100)); n != 20 {
		t.Errorf("%d of 20 went out", n)
	}
}

var relayDenied = &smtp.SMTPError{Code: 550, EnhancedCode: smtp.NoEnhancedCode, Message: "relaying denied"}

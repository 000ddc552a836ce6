package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/standin/mailserver"
)

// TestNobodySendsBeyondTheirLimit: what is beyond waits for the next working
// day, is not a failed try, and the forecast says so before.
func TestNobodySendsBeyondTheirLimit(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	for i := range 7 {
		w.norwegian(fmt.Sprintf("P%d", i))
	}
	m := w.newsletter(nil)
	if w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: -1}) == nil {
		t.Error("a limit below nought was kept")
	}
	w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: 3}))
	r, err := w.e.Reach(w.ctx, &m)
	w.must(err)
	if len(r.Days) != 3 || r.Days[0].N != 3 || r.Days[2].N != 1 || !strings.Contains(r.Slow, "Ines Radu sends at most 3 a day") {
		t.Errorf("forecast: %+v %q", r.Days, r.Slow)
	}
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	for day, want := range []int{3, 6, 7} {
		w.to(time.Duration(day)*dayLong + 23*time.Hour)
		if got := len(w.mail.Letters("", 100)); got != want {
			t.Errorf("after day %d: %d went out, not %d", day+1, got, want)
		}
	}
	if n := w.count("select max(tries) from touch"); n != 1 {
		t.Errorf("waiting counted as %d tries", n)
	}
	boxes, err := w.s.Mailboxes(w.ctx, day0)
	w.must(err)
	for _, b := range boxes {
		if b.User == w.marketer && (b.Recent != 7 || b.Sent != 1) {
			t.Errorf("the account says %+v", b)
		}
	}
}

func TestAGapBetweenEmails(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	for i := range 3 {
		w.norwegian(fmt.Sprintf("P%d", i))
	}
	m := w.newsletter(nil)
	w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Gap: 60}))
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	for after, want := range []int{1, 2, 3} {
		w.to(time.Duration(after)*time.Minute + time.Second)
		if got := len(w.mail.Letters("", 100)); got != want {
			t.Errorf("after %d minutes: %d", after, got)
		}
	}
}

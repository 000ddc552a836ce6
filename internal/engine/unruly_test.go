package engine

import (
	"strings"
	"sync"
	"testing"
	"time"

	"ombak/internal/engine/forms"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/standin/unruly"
	"ombak/internal/store"
)

// A server that is slow, refuses for now, refuses for good or hangs up, at each point of the dialogue (RFC 5321), over
// the real wire: a letter is tried again after gaps that grow where it surely was not taken, and never where it may
// have been, and what happened stands in words.
func TestServersThatMisbehave(t *testing.T) {
	const ever = 99
	for _, c := range []struct {
		name, at, answer string
		times            int // how often it misbehaves
		state, says      string
		tries, taken     int
	}{
		{"is too slow to greet", "greeting", unruly.Slow, 3, "sent", "", 4, 1},
		{"is too slow for the reader", "RCPT", unruly.Slow, 2, "sent", "", 3, 1},
		{"is too slow to say that it has the letter", "end", unruly.Slow, 1, "held", "perhaps sent", 1, 1},
		{"is closing", "greeting", "421 4.3.2 closing", 3, "sent", "", 4, 1},
		{"greylists", "RCPT", "451 4.7.1 come back later", 4, "sent", "", 5, 1},
		{"is full for now", "end", "452 4.2.2 the mailbox is full", 2, "sent", "", 3, 1},
		{"refuses for now for ever", "RCPT", "451 4.7.1 come back later", ever, "stopped", "not taken in 8 tries", 8,
			0},
		{"does not know the reader", "RCPT", "550 5.1.1 nobody of that name", ever, "stopped", "nobody of that name", 1,
			0},
		// What is not the reader's fault is tried again, until the account is stopped.
		{"does not like the letter", "end", "554 5.7.1 not like this", ever, "ready", "not like this", 3, 0},
		{"does not like us", "MAIL", "550 5.7.1 go away", ever, "ready", "go away", 3, 0},
		{"does not relay", "RCPT", "550 relaying denied", ever, "ready", "relaying denied", 3, 0},
		{"has a full mailbox", "RCPT", "552 5.2.2 mailbox full", ever, "stopped", "mailbox full", 1, 0},
		{"has one that is switched off", "RCPT", "550 5.2.1 disabled", ever, "stopped", "disabled", 1, 0},
		{"has a policy", "RCPT", "550 5.7.1 not from you", ever, "ready", "not from you", 3, 0},
		{"does not say why", "RCPT", "550 no", ever, "stopped", "no", 1, 0},
		{"hangs up at once", "greeting", unruly.Hang, 2, "sent", "", 3, 1},
		{"hangs up at the reader", "RCPT", unruly.Hang, 2, "sent", "", 3, 1},
		{"hangs up before the letter", "DATA", unruly.Hang, 2, "sent", "", 3, 1},
		{"hangs up when it has the letter", "end", unruly.Hang, 1, "held", "perhaps sent", 1, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t, mailserver.Options{})
			var mu sync.Mutex
			var at []time.Time // of each try that came as far
			left := c.times
			bad, err := unruly.Start(func(point string) string {
				mu.Lock()
				defer mu.Unlock()
				if point != c.at {
					return ""
				}
				at = append(at, w.clock.Now())
				if left--; left >= 0 {
					return c.answer
				}
				return ""
			})
			w.must(err)
			t.Cleanup(bad.Close)
			sender, err := mail.NewSender(bad.Addr())
			w.must(err)
			sender.Patience = 250 * time.Millisecond
			t.Cleanup(sender.Close)
			w.e.Mail = sender
			p := w.clinic(false)
			ana, _ := w.comes(p, forms.Browser{}, answers("Ana", "Strand", "ana@fjord.example", "Fjord"))
			// While it is tried again, its account says so.
			boxes, err := w.s.Mailboxes(w.ctx, day0)
			w.must(err)
			waits := int64(0)
			for _, b := range boxes {
				if waits += b.Waiting; b.Waiting > 0 && (b.User != w.marketer || b.Trouble == "") {
					t.Errorf("%s waits: %q", b.Name, b.Trouble)
				}
			}
			if again := c.tries > 1; (waits == 1) != again {
				t.Errorf("%d are tried again", waits)
			}

			w.to(2 * dayLong)
			touches, err := w.s.TouchesOf(w.ctx, store.Of(ana))
			w.must(err)
			if len(touches) != 1 || string(touches[0].State) != c.state ||
				!strings.Contains(touches[0].Trouble, c.says) || (c.says == "") != (touches[0].Trouble == "") {
				t.Fatalf("it is %q, %q; want %s, %q", touches[0].State, touches[0].Trouble, c.state, c.says)
			}
			mu.Lock()
			tried := at
			mu.Unlock()
			if len(tried) != c.tries {
				t.Errorf("tried %d times, want %d", len(tried), c.tries)
			}
			for i := 2; i < len(tried); i++ {
				if a, b := tried[i-1].Sub(tried[i-2]), tried[i].Sub(tried[i-1]); b <= a {
					t.Errorf("the gap after %v is %v", a, b)
				}
			}
			if stopped := w.count("select count(*) from outbox where stopped_at is not null") == 1; stopped != (c.state == "ready") {
				t.Errorf("its account is stopped: %v", stopped)
			}
			letters := bad.Taken()
			if len(letters) != c.taken {
				t.Errorf("the server has %d letters, want %d", len(letters), c.taken)
			}
			if bounced := w.count("select count(*) from person where bounced_at is not null") == 1; bounced != (c.name == "does not know the reader") {
				t.Errorf("the address counts as one that bounces: %v", bounced)
			}
			if c.state != "held" {
				return
			}
			// A person says that it did not arrive: it goes again under the same Message-ID, so that readers can tell.
			w.must(w.e.Resolve(w.ctx, touches[0].ID, "again"))
			w.settle()
			if letters = bad.Taken(); len(letters) != 2 || messageID(letters[0]) != messageID(letters[1]) ||
				messageID(letters[0]) == "" {
				t.Errorf("sent again: %d letters, %q and %q", len(letters), messageID(letters[0]),
					messageID(letters[len(letters)-1]))
			}
		})
	}
}

func messageID(source string) string {
	for _, line := range strings.Split(source, "\r\n") {
		if id, ok := strings.CutPrefix(line, "Message-ID:"); ok {
			return strings.TrimSpace(id)
		}
	}
	return ""
}

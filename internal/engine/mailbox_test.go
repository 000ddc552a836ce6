package engine

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/forms"
	"ombak/internal/engine/post"
	"ombak/internal/mail"
	"ombak/internal/seal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/standin/unruly"
	"ombak/internal/store"
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
	if len(r.Days) != 3 || r.Days[0].N != 3 || r.Days[2].N != 1 ||
		!strings.Contains(r.Slow, "Ines Radu sends at most 3 a day") {
		t.Errorf("forecast: %+v %q", r.Days, r.Slow)
	}
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	for day, want := range []int{3, 6, 7} {
		w.to(time.Duration(day)*dayLong + 23*time.Hour)
		if got := len(w.mail.Letters("", 100)); got != want {
			t.Errorf("after day %d: %d went out, not %d", day+1, got, want)
		}
	}
	if n := w.count("select max(tries) from letter"); n != 1 {
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

// Whoever has a mail server of their own sends by it, signed in; everybody else by the common one. The password is
// nowhere in the database.
func TestAServerOfOnesOwn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var mu sync.Mutex
	var said []string
	answer := map[string]string{"AUTH": "535 5.7.8 wrong password"}
	own, err := unruly.Start(func(at string) string {
		mu.Lock()
		defer mu.Unlock()
		said = append(said, at)
		return answer[at]
	})
	w.must(err)
	t.Cleanup(own.Close)
	heard := func(at string) bool {
		mu.Lock()
		defer mu.Unlock()
		yes := slices.Contains(said, at)
		said = nil
		return yes
	}
	let := func(in bool) {
		mu.Lock()
		defer mu.Unlock()
		if answer["AUTH"] = "535 5.7.8 wrong password"; in {
			answer["AUTH"] = ""
		}
	}
	const password = "pens-at-14-metres"
	if err := w.e.SetMailAccount(w.ctx, w.marketer, own.Addr(), "ines", password); !errors.Is(err, post.ErrNoSeal) {
		t.Errorf("without a key: %v", err)
	}
	w.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "secret"))
	w.must(err)
	for server, says := range map[string]string{"smtp.karang.example": "587", ":25": "587",
		"127.0.0.1:1": "no mail server answered", own.Addr(): "does not take that name"} {
		if err := w.e.SetMailAccount(w.ctx, w.marketer, server, "ines", password); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want that it says %q", server, err, says)
		}
	}
	if err := w.e.SetMailAccount(w.ctx, w.marketer, own.Addr(), "ines", ""); err == nil {
		t.Error("a login without a password was kept")
	}
	let(true)
	w.must(w.e.SetMailAccount(w.ctx, w.marketer, " "+own.Addr()+" ", "ines", password))
	if !heard("AUTH") || len(own.Taken()) != 0 {
		t.Error("it was not tried, or something was sent")
	}
	w.must(w.e.SetMailAccount(w.ctx, w.marketer, own.Addr(), "ines", "")) // the one there is
	if n := w.count("select count(*) from mailbox x where x::text like '%pens%' or position(convert_to('pens', " +
		"'UTF8') in secret) > 0"); n != 0 {
		t.Error("the database says the password")
	}
	p := w.clinic(false) // sent by the marketer
	w.comes(p, forms.Browser{}, answers("Ana", "Strand", "ana@fjord.example", "Fjord"))
	if got := own.Taken(); len(got) != 1 || !strings.Contains(got[0], "ana@fjord.example") || !heard("AUTH") ||
		len(w.letters("ana@")) != 0 {
		t.Errorf("her own server took %d letters, the common one %d", len(got), len(w.letters("ana@")))
	}
	// Another key, as on a machine that was set up wrongly: nothing is lost, and it says why.
	right := w.e.Seal
	w.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "secret"))
	w.must(err)
	w.restart()
	ben, _ := w.comes(p, forms.Browser{}, answers("Ben", "Moe", "ben@kelp.example", "Kelp"))
	touches, err := w.s.TouchesOf(w.ctx, store.Of(ben))
	w.must(err)
	if touches[0].State != "ready" || !strings.Contains(touches[0].Trouble, "cannot be read") {
		t.Errorf("with another key: %s, %q", touches[0].State, touches[0].Trouble)
	}
	// A new key that knows the earlier one seals the password anew.
	w.e.Seal = w.e.Seal.After(right)
	for _, want := range []int{1, 0} {
		if n, err := w.e.Reseal(w.ctx); err != nil || n != want {
			t.Errorf("%d passwords sealed anew, %v, want %d", n, err, want)
		}
	}
	w.to(time.Hour)
	if n := len(own.Taken()); n != 2 {
		t.Errorf("with the right key again: %d letters", n)
	}
	// Given up: by the common one.
	w.must(w.e.SetMailAccount(w.ctx, w.marketer, "", "", ""))
	w.comes(p, forms.Browser{}, answers("Cy", "Lunde", "cy@reef.example", "Reef"))
	if len(w.letters("cy@")) != 1 ||
		w.count("select count(*) from mailbox where secret is not null or login <> ''") != 0 {
		t.Error("the server was not given up")
	}
}

// Links that went out under the earlier key still lead on; nothing newer does.
func TestLinksOfTheEarlierKey(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	old := make([]byte, 32)
	w.must(w.s.SetSetting(w.ctx, "link_key_before", map[string]any{"key": old, "touches": 7}))
	e, err := New(w.ctx, w.e.Config)
	w.must(err)
	for _, c := range []struct {
		what  string
		touch int64
		want  bool
	}{{"opt-out", 7, true}, {"link", 1, true}, {"opt-out", 8, false}} {
		if got := e.SignedTouch(c.what, c.touch, 0, base.SignWith(old, c.what, c.touch, 0)); got != c.want {
			t.Errorf("%s of %d: %v", c.what, c.touch, got)
		}
	}
	if person, _ := e.ReadToken("7." + base.SignWith(old, "reader", 7, 0)); person != 0 {
		t.Error("a browser is known by the earlier key")
	}
}

// Servers on this machine and in private networks are for nobody's mailbox,
// however they are written, unless the settings say so; and what answers at an
// address is not told.
func TestServersThatAreNotForMailboxes(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var err error
	w.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "key"))
	w.must(err)
	open, err := unruly.Start(func(string) string { return "" })
	w.must(err)
	defer open.Close()
	w.e.PrivateServers = false
	for _, server := range []string{
		"127.0.0.1:25", "127.0.0.1:465", "localhost:587", "[::1]:587", "[::ffff:127.0.0.1]:587", "10.1.2.3:25",
		"192.168.0.1:25", "172.16.0.9:2525", "169.254.169.254:25", "[fe80::1]:25", "[fd00::1]:25", "100.64.0.1:25",
		"0.0.0.0:25", "[::]:25", "[64:ff9b::7f00:1]:25", "[2002:7f00:1::]:25", "255.255.255.255:25", "224.0.0.1:25",
	} {
		if err := w.e.SetMailAccount(w.ctx, w.marketer, server, "", ""); !errors.Is(err, mail.ErrPrivate) {
			t.Errorf("%s: %v", server, err)
		}
	}
	if err := w.e.SetMailAccount(w.ctx, w.marketer, open.Addr(), "", ""); err == nil ||
		!strings.Contains(err.Error(), "one of the ports") {
		t.Errorf("a port that mail servers have not: %v", err)
	}
	w.e.PrivateServers = true
	w.must(w.e.SetMailAccount(w.ctx, w.marketer, open.Addr(), "", ""))
	for _, bad := range []string{"127.0.0.1:1", "127.0.0.1:22"} {
		if err := w.e.SetMailAccount(w.ctx, w.marketer, bad, "", ""); !errors.Is(err, post.ErrNoServer) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// A sequence can say by whose account its emails go out, whatever its messages say; that account's limit counts them.
// Where who it names has left, and for the others, it is whom the message names.
func TestTheSenderOfASequence(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	plan := func(sender int64) *sequence.Plan {
		p := w.plan(&sequence.Email{Common: sequence.Common{Title: "Guide"}, Message: w.second})
		p.Sender = sender
		return p
	}
	as, uma, gone := w.running("As it says", plan(0)), w.running("By Uma", plan(w.rep2)), w.running("By one who left",
		plan(w.rep2))
	w.must(w.e.SetMailbox(w.ctx, w.rep2, mailbox.Box{Daily: 2}))
	people := func(name string, n int) (out []int64) {
		t.Helper()
		for i := range n {
			id := w.meet(store.NewPerson{First: name, Email: fmt.Sprintf("%s%d@n.example", name, i)})
			_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = $2 where id = $1", id, w.rep1)
			w.must(err)
			out = append(out, id)
		}
		return out
	}
	w.enters(as, people("ana", 1)...)
	w.enters(uma, people("bo", 3)...)
	w.settle()
	if l := w.letters("ana0@n.example"); len(l) != 1 || l[0].FromName != "Tomas Vale" {
		t.Errorf("whose message says the owner: %+v", l)
	}
	own := plan(w.rep2)
	own.Step(own.Start).(*sequence.Email).Sender = w.marketer
	w.enters(w.running("By its own", own), people("di", 1)...)
	w.settle()
	if l := w.letters("di0@n.example"); len(l) != 1 || l[0].FromName != "Ines Radu" {
		t.Errorf("by a step's own account: %+v", l)
	}
	sent := 0
	for i := range 3 {
		for _, l := range w.letters(fmt.Sprintf("bo%d@n.example", i)) {
			sent++
			if l.FromName != "Uma Okoye" {
				t.Errorf("it comes from %s", l.FromName)
			}
		}
	}
	if sent != 2 {
		t.Errorf("%d went out by an account that sends two a day", sent)
	}
	_, err := w.s.DB().ExecContext(w.ctx, "update app_user set left_at = $2 where id = $1", w.rep2, w.clock.Now())
	w.must(err)
	w.enters(gone, people("cy", 1)...)
	w.settle()
	if l := w.letters("cy0@n.example"); len(l) != 1 || l[0].FromName != "Tomas Vale" {
		t.Errorf("by one who has left: %+v", l)
	}
}

package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// TestKilledWorkersNeverSendTwice runs two `ombak work` processes on 2,000 enrolments and kills them with SIGKILL
// at random moments, again and again, while the mail server takes their letters. Afterwards each person has each
// email at most once, and each email is either sent or listed as held.
func TestKilledWorkersNeverSendTwice(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a while")
	}
	const people = 2000
	w := newWorld(t, mailserver.Options{})
	w.e.Unregister()
	// Real processes have the machine's clock: the sequence sends at any hour of it.
	clock := base.SystemClock{}
	w.e.Clock = clock
	w.must(w.s.EnsureMonths(w.ctx, clock.Now(), clock.Now()))
	w.tx(func(tx store.Tx) error {
		draft, err := w.s.Draft(w.ctx, w.seq)
		w.must(err)
		for day := range draft.Plan.V.Hours.Days {
			draft.Plan.V.Hours.Days[day] = append(draft.Plan.V.Hours.Days[day][:0], anyHour)
		}
		_, err = tx.SaveDraft(w.ctx, w.seq, draft.N, draft.Plan.V, "any hour", clock.Now())
		return err
	})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Rule: ruleOf("NO")}, clock.Now()))
	w.tx(func(tx store.Tx) error {
		for n := range people {
			if _, _, err := tx.MeetPerson(w.ctx,
				store.NewPerson{First: "Ana", Email: fmt.Sprintf("p%d@fjord.example", n), Country: "NO"},
				clock.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	w.launch()

	program := filepath.Join(t.TempDir(), "ombak")
	build := exec.Command("go", "build", "-o", program, "ombak/cmd/ombak")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("building ombak: %v\n%s", err, out)
	}
	start := func() *exec.Cmd {
		cmd := exec.Command(program, "work")
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "OMBAK_DATABASE_URL=" + w.url,
			"OMBAK_MAIL_OUT=" + w.mail.Addr(), "OMBAK_LOG=error"}
		cmd.Stderr = os.Stderr
		w.must(cmd.Start())
		return cmd
	}
	const seed = 1911
	rnd := rand.New(rand.NewPCG(seed, 7))
	kills, life := 0, 1
	deadline := time.Now().Add(4 * time.Minute)
	for left := w.unsent(); left > 0; {
		if time.Now().After(deadline) {
			t.Fatalf("after %d kills %d emails have neither gone out nor been held", kills, left)
		}
		a, b := start(), start()
		time.Sleep(time.Duration(life*(150+rnd.IntN(900))) * time.Millisecond)
		for _, cmd := range []*exec.Cmd{a, b} {
			w.must(cmd.Process.Signal(syscall.SIGKILL))
			cmd.Wait() // killed: that is the error
			kills++
		}
		// Where the machine is so busy that workers are killed before they have begun, the next live longer.
		now := w.unsent()
		if now > left-20 && life < 16 {
			life *= 2
		}
		left = now
	}
	// A last worker lives on, finds what the dead ones held, and brings no surprise.
	last := start()
	time.Sleep(2 * time.Second)
	w.must(last.Process.Signal(syscall.SIGTERM))
	w.must(last.Wait())

	got := map[string]int{}
	ids := map[string]bool{}
	for _, l := range w.mail.Letters("", 100_000) {
		got[l.To]++
		ids[l.MessageID] = true
	}
	for to, n := range got {
		if n > 1 {
			t.Errorf("%s got the email %d times", to, n)
		}
	}
	sent := w.count("select count(*) from touch where state = 'sent'")
	held := w.count("select count(*) from touch where state = 'held'")
	if other := w.count("select count(*) from touch where state not in ('sent', 'held')"); other != 0 ||
		sent+held != people {
		t.Errorf("%d sent, %d held, %d otherwise: %d in all, want %d", sent, held, other, sent+held+other, people)
	}
	// Whatever is noted as sent has arrived; whatever arrived is sent or held.
	rows, err := w.s.DB().QueryContext(w.ctx,
		"select l.mail_id from touch t join letter l on l.touch_id = t.id where t.state = 'sent'")
	w.must(err)
	defer rows.Close()
	for rows.Next() {
		var id string
		w.must(rows.Scan(&id))
		if !ids[id] {
			t.Errorf("%s is noted as sent and never arrived", id)
		}
	}
	w.must(rows.Err())
	w.figuresHold()
	if kills < 10 {
		t.Errorf("only %d kills: the test proves little", kills)
	}
	t.Logf("%d kills (seed %d): %d sent, %d held, %d letters arrived", kills, seed, sent, held, len(ids))
}

// unsent counts enrolments whose first email is not decided, and emails that nobody has dealt with.
func (w *world) unsent() int {
	w.t.Helper()
	if held, err := w.s.HoldOrphans(context.Background(), "killed"); err != nil || held < 0 {
		w.t.Fatal(err)
	}
	return w.count(`
		select (select count(*) from person) - (select count(*) from touch where state in ('sent', 'held'))`)
}

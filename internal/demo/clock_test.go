package demo

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/standin/readers"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// small is a demo whose people are few, with everything around it, and its page's sequence running.
func small(t *testing.T) *Demo {
	t.Helper()
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	s := storetest.New(t)
	clock, err := base.NewHandClock(ctx, s, Start)
	must(err)
	var handler http.Handler
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(srv.Close)
	d, end, err := Open(ctx, Surroundings{Store: s, Clock: clock, Seed: 7, MailIn: "127.0.0.1:0",
		Engine: func(out string) (*engine.Engine, func(), error) { return Plain(ctx, s, clock, srv.URL, out) }})
	must(err)
	t.Cleanup(end)
	e := d.Engine
	handler = web.New(ctx, shell.Config{Store: s, Engine: e, Demo: d}).Handler()
	must(e.Register(ctx))
	t.Cleanup(e.Unregister)
	ids, _, err := d.Begin(ctx)
	must(err)
	must(s.EnsureMonths(ctx, Start, Start.AddDate(0, 2, 0)))
	m, err := keepContent(ctx, s, ids, Start, "")
	must(err)
	must(e.Launch(ctx, m.followUp, ids[0]))
	return d
}

// TestTimePasses lets sixty people fill in the form and three weeks go by: the stand-ins act from outside, over SMTP
// and HTTP, and nobody gets the same email twice.
func TestTimePasses(t *testing.T) {
	d := small(t)
	ctx := t.Context()
	s := imagine(7, 30, 60)
	for _, p := range s.people {
		if err := d.fillForm(ctx, s, "oxygen-alarms", p); err != nil {
			t.Fatal(err)
		}
	}
	// The form does not ask for a number, and nobody is called without one.
	if _, err := d.Store.DB().ExecContext(ctx,
		"update person set phone = '+442079460' || lpad((id % 1000)::text, 3, '0')"); err != nil {
		t.Fatal(err)
	}
	if err := d.Advance(ctx, Start.AddDate(0, 0, 21), time.Hour); err != nil {
		t.Fatal(err)
	}
	if now := d.Clock.Now(); !now.Equal(Start.AddDate(0, 0, 21)) {
		t.Errorf("the clock stands at %v", now)
	}
	got := map[string]int{}
	for _, l := range d.World.Mail.Letters("", 1000) {
		got[l.To+l.Subject]++
		if h := l.At.UTC(); l.At.Before(Start) || h.After(Start.AddDate(0, 0, 21)) {
			t.Errorf("a letter came at %v", l.At)
		}
	}
	for letter, n := range got {
		if n > 1 {
			t.Errorf("%s came %d times", letter, n)
		}
	}
	count := func(query string) (n int) {
		if err := d.Store.DB().QueryRowContext(ctx, query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for what, query := range map[string]string{
		"opens": "select count(*) from signal where kind = 4", "clicks": "select count(*) from signal where kind = 5",
		"downloads":          "select count(*) from signal where kind = 3",
		"people handed over": "select count(*) from handoff",
		"calls on the desk":  "select count(*) from touch where kind = 'call'",
		"people who ended":   "select count(*) from enrolment where ended_at is not null",
	} {
		if count(query) == 0 {
			t.Errorf("no %s in three weeks", what)
		}
	}
	// The programs that look at some readers' letters are known for what they are, and nobody else is taken for one.
	var looked []string
	rows, err := d.Store.DB().QueryContext(ctx,
		"select p.email from signal s join person p on p.id = s.person_id where s.machine <> ''")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var email string
		if err := rows.Scan(&email); err != nil {
			t.Fatal(err)
		}
		looked = append(looked, email)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	for _, email := range looked {
		if readers.Of(d.World.Seed, email) != readers.Guarded {
			t.Errorf("a signal of %s is taken for a machine's", email)
		}
	}
	guarded := 0
	for l := range got {
		if to, _, _ := strings.Cut(l, ".example"); readers.Of(d.World.Seed, to+".example") == readers.Guarded {
			guarded++
		}
	}
	if guarded == 0 || len(looked) < 2*guarded {
		t.Errorf("%d signals of programs, for %d letters they looked at", len(looked), guarded)
	}
	if n := count("select count(*) from letter where phase not in ('waiting', 'over')"); n != 0 {
		t.Errorf("%d emails are stuck", n)
	}
}

func TestMoveTheClock(t *testing.T) {
	d := small(t)
	if err := d.Move("year"); err == nil || !strings.Contains(err.Error(), "year") {
		t.Errorf("by a year: %v", err)
	}
	if err := d.Move("next"); err == nil {
		t.Error("nobody is on the way, and the clock moved to the next thing due")
	}
	wait := func() {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			if _, moving := d.Moving(); !moving {
				return
			}
			if time.Now().After(deadline) {
				t.Fatal("the clock never stands")
			}
		}
	}
	if err := d.Move("hour"); err != nil {
		t.Fatal(err)
	}
	wait()
	if now := d.Clock.Now(); !now.Equal(Start.Add(time.Hour)) {
		t.Errorf("after an hour: %v", now)
	}
	if err := d.fillForm(t.Context(), imagine(1, 1, 1), "oxygen-alarms",
		store.NewPerson{First: "Ana", Last: "Strand", Company: "Fjord", Email: "ana@fjord.example"}); err != nil {
		t.Fatal(err)
	}
	if err := d.Engine.Settle(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := d.Move("next"); err != nil {
		t.Fatal(err)
	}
	wait()
	if now := d.Clock.Now(); !now.After(Start.Add(time.Hour)) {
		t.Errorf("to the next thing due: %v", now)
	}
	// Another process sees the same clock; it never goes back.
	other, err := base.NewHandClock(t.Context(), d.Store, Start.AddDate(1, 0, 0))
	if err != nil || !other.Now().Equal(d.Clock.Now()) {
		t.Errorf("another process reads %v, %v", other.Now(), err)
	}
	before := d.Clock.Now()
	if err := d.Clock.Set(context.Background(), Start); err != nil || !d.Clock.Now().Equal(before) {
		t.Errorf("set back to %v, %v", d.Clock.Now(), err)
	}
	d.mu.Lock()
	d.target = before.Add(time.Hour) // as if it were on its way
	d.mu.Unlock()
	if err := d.Move("hour"); !errors.Is(err, ErrMoving) {
		t.Errorf("moving twice: %v", err)
	}
}

// TestACutOffDemoIsMadeAnew stops the making of the demo half way.
func TestACutOffDemoIsMadeAnew(t *testing.T) {
	d := small(t)
	if half, err := CutOff(t.Context(), d.Store); half || err != nil {
		t.Errorf("never begun: %v, %v", half, err)
	}
	if err := d.Load(t.Context()); err != nil { // somebody's own database: left alone
		t.Fatal(err)
	}
	if half, err := CutOff(t.Context(), d.Store); half || err != nil {
		t.Errorf("left alone: %v, %v", half, err)
	}
	if err := d.Store.Reset(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := d.Store.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(700*time.Millisecond, cancel)
	if err := d.Load(ctx); err == nil {
		t.Fatal("the demo was made in 0.7 s: the test proves nothing")
	}
	if half, err := CutOff(t.Context(), d.Store); !half || err != nil {
		t.Errorf("cut off: %v, %v", half, err)
	}
}

package engine

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ombak/internal/engine/forms"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// cut ends every connection there is to the database, as a restart does.
func (w *world) cut() {
	w.t.Helper()
	c, err := pgx.Connect(w.ctx, w.url)
	w.must(err)
	defer c.Close(w.ctx)
	_, err = c.Exec(w.ctx, `select pg_terminate_backend(pid) from pg_stat_activity
		where datname = current_database() and pid <> pg_backend_pid()`)
	w.must(err)
}

// mailerFunc is a way to send that does something besides.
type mailerFunc func(ctx context.Context, l mail.Letter) (mail.Fate, error)

func (f mailerFunc) Send(ctx context.Context, l mail.Letter) (mail.Fate, error) { return f(ctx, l) }

// eventually calls SendBatch until it works: the pool finds out one by one that
// its connections are gone.
func (w *world) eventually() {
	w.t.Helper()
	var err error
	for range 50 {
		if _, err = w.e.SendBatch(w.ctx, 10); err == nil {
			return
		}
	}
	w.t.Fatal(err)
}

// The database goes away while a letter is on its way: it is known to be sent,
// that is noted once the database answers, and it is not sent again.
func TestTheDatabaseGoesAwayWhileALetterIsSent(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	out := w.e.Mail
	sent := 0
	w.e.Mail = mailerFunc(func(ctx context.Context, l mail.Letter) (mail.Fate, error) {
		fate, err := out.Send(ctx, l)
		if sent++; sent == 1 {
			w.cut()
		}
		return fate, err
	})
	w.launch()
	w.tx(func(tx store.Tx) error {
		id, _, err := tx.MeetPerson(w.ctx, store.NewPerson{First: "Ana", Email: "ana@fjord.example"}, day0)
		if err != nil {
			return err
		}
		q, err := tx.RunningSequence(w.ctx, w.seq)
		if err != nil {
			return err
		}
		_, err = tx.Enrol(w.ctx, &q, []int64{id}, day0)
		return err
	})
	_, _, err := w.e.AdvanceBatch(w.ctx, 10)
	w.must(err)
	before, err := w.e.WorkerID(w.ctx)
	w.must(err)
	if _, err := w.e.SendBatch(w.ctx, 10); err == nil {
		t.Fatal("the database was away, and nobody noticed")
	}
	w.eventually()
	w.settle()
	if n := w.count("select count(*) from touch where state = 'sent'"); n != 1 || len(w.letters("ana@")) != 1 ||
		sent != 1 {
		t.Errorf("%d noted as sent, %d letters, %d tries", n, len(w.letters("ana@")), sent)
	}
	after, err := w.e.WorkerID(w.ctx)
	if w.must(err); after == before {
		t.Error("the worker goes on under a name that the database has lost sight of")
	}
	if n := w.count("select count(*) from pg_locks where locktype = 'advisory' and granted and objid = $1",
		after); n != 1 {
		t.Error("the new name is not held")
	}
}

// The database refuses a moment after emails were claimed: they are neither kept
// by the living worker nor stopped as if their words were wrong.
func TestARefusalAfterTheClaim(t *testing.T) {
	for name, c := range map[string][2]string{
		"gathering": {"alter table personal_edit rename to elsewhere", "alter table elsewhere rename to personal_edit"},
		"writing": {"alter table message_version rename column doc to elsewhere",
			"alter table message_version rename column elsewhere to doc"},
	} {
		w := newWorld(t, mailserver.Options{})
		w.launch()
		view, err := w.e.Show(w.ctx, w.page, "", "")
		w.must(err)
		_, _, err = w.e.FormFilled(w.ctx, w.page,
			forms.Filled{Visit: view, Answers: answers("Ana", "Strand", "ana@fjord.example", "Fjord Farms")})
		w.must(err)
		_, _, err = w.e.AdvanceBatch(w.ctx, 10)
		w.must(err)
		_, err = w.s.DB().Exec(c[0])
		w.must(err)
		if _, err := w.e.SendBatch(w.ctx, 10); err == nil {
			t.Errorf("%s: nobody noticed", name)
		}
		_, err = w.s.DB().Exec(c[1])
		w.must(err)
		w.settle()
		if n := len(w.letters("ana@")); n != 1 {
			t.Errorf("%s: %d letters, %d touches stopped", name, n,
				w.count("select count(*) from touch where state = 'stopped'"))
		}
		if n := w.count("select count(*) from letter where tries > 1"); n != 0 {
			t.Errorf("%s: a try that never came to the mail server counts", name)
		}
	}
}

// A worker whose database is full waits for its place.
func TestRegisteringIsTriedAgain(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	n := 0
	err := patiently(ctx, "a test", func(context.Context) error {
		if n++; n < 3 {
			return store.ErrNotFound
		}
		return nil
	})
	if err != nil || n != 3 {
		t.Errorf("%d tries, %v", n, err)
	}
}

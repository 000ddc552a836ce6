package post

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"log/slog"
	"strings"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// Receive takes in a letter that came: it finds the email it answers and the
// person it is from, keeps it, and makes it a signal. An answer by a human
// stops the person's sequences in the same transaction. The same letter again
// changes nothing.
//
// It is matched by In-Reply-To and References, then by the return path: both
// name an email by what only its reader and the servers on the way have seen.
// What names nobody but by an address anybody can have written; it is kept and
// shown, and does nothing by itself. Where it may be an answer, what would go
// out to that person waits until somebody has sorted it. A letter from nobody
// known is kept with nobody.
func (e *Post) Receive(ctx context.Context, m mail.Received) error {
	now := e.Now()
	if m.ID == "" { // RFC 5322 only says it should have one
		h := sha256.Sum256([]byte(m.From + "\n" + m.Subject + "\n" + m.Text))
		m.ID = hex.EncodeToString(h[:16]) + unnamed
	}
	for _, to := range m.To {
		local, _, _ := strings.Cut(to, "@")
		if key, ok := strings.CutPrefix(strings.ToLower(local), copyPrefix); ok {
			return e.keepCopy(ctx, m, key)
		}
	}
	kind := signal.Reply
	switch m.Kind {
	case mail.Automatic:
		kind = signal.AutomaticReply
	case mail.Bounce, mail.NotNow:
		kind = signal.Bounce
	case mail.Complaint:
		kind = signal.Complaint
	case mail.Notice:
		slog.Debug("a report came in that asks for nothing", "subject", m.Subject)
		return nil
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		in := store.Incoming{MailID: m.ID, At: now, Kind: kind, Sender: m.From, Subject: base.Cut(m.Subject, 500),
			Said: base.Cut(m.Said, 100_000), Body: base.Cut(m.Text, 100_000)}
		s := store.Signal{Detail: base.Cut(m.Subject, 200), Signal: signal.Signal{At: now, Kind: kind}}
		ids := append([]string(nil), m.References...)
		for _, to := range m.To {
			if local, ok := strings.CutPrefix(to, "bounce+"); ok {
				local, _, _ = strings.Cut(local, "@")
				ids = append(ids, local+"@"+e.Domain)
			}
		}
		t, err := tx.TouchByMailID(ctx, ids)
		switch {
		case err == nil:
			s.Person, s.Touch = t.Person, t.ID
			s.Place = signal.Place{Sequence: t.Sequence, Step: t.Step}
			if t.Message != nil {
				s.Message = *t.Message
			}
			in.Touch = &t.ID
		case store.IsNotFound(err):
			from := m.From
			if m.Kind == mail.Complaint && len(m.Against) > 0 {
				from = m.Against[0] // who complains is whom it was sent to; the report comes from their provider
			}
			for _, r := range m.About {
				if r.Action == "failed" || r.Action == "delayed" {
					from = r.Address
					if r.Original != "" {
						from = r.Original
					}
				}
			}
			if s.Person, err = tx.LastMailSender(ctx, from); err != nil && !store.IsNotFound(err) {
				return err
			}
			// What answers a letter that one of us wrote outside names that one.
			known, err := tx.WroteOutsideTo(ctx, s.Person, ids)
			if err != nil {
				return err
			}
			in.Unsure = s.Person != 0 && m.Kind != mail.NotNow && !known
		default:
			return err
		}
		if s.Person != 0 {
			in.Person = &s.Person
			if kind == signal.Reply {
				if err := e.Answerable(ctx, tx, &in); err != nil {
					return err
				}
			}
		}
		fresh, err := tx.AddIncoming(ctx, in)
		if err != nil || !fresh || s.Person == 0 {
			return err
		}
		switch {
		case in.Unsure:
			if kind == signal.Reply {
				if err := tx.HoldPerson(ctx, s.Person, now); err != nil {
					return err
				}
			}
			return tx.Notify(ctx, news.Signal.AboutSomebody(), news.Desk)
		case m.Kind == mail.NotNow:
			return nil // kept, and shown with the person; the address is not at fault
		}
		if err := tx.Notify(ctx, news.Desk); err != nil {
			return err
		}
		return e.taken(ctx, tx, s, m.Subject+"\n"+m.Said)
	})
	if err != nil {
		return err
	}
	slog.Debug("a letter came in", "kind", kind)
	e.Nudge()
	return nil
}

// unnamed is how the numbers end by which letters are known here that came without one.
const unnamed = "@unnamed"

// usualAnswer is within how many working hours an answer is answered, where nobody says otherwise.
const usualAnswer = 4

// Answerable says by when somebody's letter is to be answered, and by whom.
func (e *Post) Answerable(ctx context.Context, tx store.Tx, in *store.Incoming) error {
	within := time.Duration(cmp.Or(e.Workspace().AnswerIn, usualAnswer)) * time.Hour
	hours, zone := e.Hours(), e.Zone()
	var err error
	if in.Rep, err = tx.WhoAnswers(ctx, *in.Person, in.Touch); err != nil {
		return err
	}
	if in.Rep != nil {
		u, err := tx.User(ctx, *in.Rep)
		if err != nil {
			return err
		}
		hours, zone = e.HoursOf(&u.Work.V)
	}
	by, err := hours.After(in.At, within, zone)
	in.Due = &by
	return err
}

// taken does what follows from a letter of somebody.
func (e *Post) taken(ctx context.Context, tx store.Tx, s store.Signal, text string) error {
	if s.Kind == signal.AutomaticReply {
		if err := e.postpone(ctx, tx, s.Person, text); err != nil {
			return err
		}
	}
	return e.RecordSignals(ctx, tx, []store.Signal{s})
}

// Sort notes that a letter is from whom it seems to be from, and then it counts
// from the instant at which it came; or that it is not, and then it never does.
// Either lets go what waited for it.
func (e *Post) Sort(ctx context.Context, incoming, user int64, theirs bool) error {
	word := map[bool]string{true: "theirs", false: "not theirs"}[theirs]
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		in, err := tx.SortIncoming(ctx, incoming, user, word, e.Now())
		if err != nil || in.Person == nil {
			return err
		}
		if theirs {
			if err := e.Theirs(ctx, tx, in); err != nil {
				return err
			}
		}
		if err := tx.ReleasePerson(ctx, *in.Person, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Signal.AboutSomebody(), news.Desk)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// Theirs does what follows from a letter that somebody is found to have written.
func (e *Post) Theirs(ctx context.Context, tx store.Tx, in store.Incoming) error {
	s := store.Signal{Person: *in.Person, Detail: base.Cut(in.Subject, 200),
		Signal: signal.Signal{At: in.At, Kind: in.Kind}}
	return e.taken(ctx, tx, s, in.Subject+"\n"+in.Said)
}

// RestAway has the emails to somebody who is away wait, as their automatic answer says.
func (e *Post) RestAway(ctx context.Context, tx store.Tx, person int64, text string) error {
	return e.postpone(ctx, tx, person, text)
}

// copyPrefix begins the secret addresses to which users send hidden copies of what they write.
const copyPrefix = "copy+"

// CopyAddress is the address of a secret.
func (e *Post) CopyAddress(key string) string {
	if key == "" {
		return ""
	}
	return copyPrefix + key + "@" + e.Domain
}

// RenewCopy gives a user another secret address; with off they have none.
func (e *Post) RenewCopy(ctx context.Context, user int64, off bool) error {
	key := ""
	if !off {
		key = strings.ToLower(rand.Text())
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetCopyKey(ctx, user, key) })
}

// keepCopy keeps a letter that a user wrote outside with everybody we know whom it is to. One to an
// address that is nobody's any more is dropped: whoever has it may be anybody.
func (e *Post) keepCopy(ctx context.Context, m mail.Received, key string) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		u, err := tx.UserByCopyKey(ctx, key)
		if store.IsNotFound(err) {
			slog.Info("a copy came to an address that is nobody’s", "subject", m.Subject)
			return nil
		}
		if err != nil {
			return err
		}
		var kept []int64
		for _, address := range m.Whom {
			who, err := tx.LastMailSender(ctx, address)
			if store.IsNotFound(err) {
				continue
			}
			if err != nil {
				return err
			}
			fresh, err := tx.KeepOutside(ctx, store.OutsideLetter{MailID: m.ID, User: u.ID, Person: who, At: e.Now(),
				Subject: base.Cut(m.Subject, 500), Said: base.Cut(m.Said, 100_000)})
			if err != nil {
				return err
			}
			if fresh {
				kept = append(kept, who)
			}
		}
		if len(kept) == 0 {
			return nil
		}
		return tx.Notify(ctx, news.Signal.About(kept...))
	})
}

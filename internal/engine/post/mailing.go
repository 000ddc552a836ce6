package post

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/mailing"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/store"
)

// mailingChunk is how many people are decided about in one transaction.
const mailingChunk = 1000

// Reach is who would get a one-off email, and who not and why.
type Reach struct {
	People int64
	Will   int64
	Not    map[mailing.Reason]int64
	Days   []mailing.Day // when they would go out
	Slow   string        // whose account makes it take longer
	First  time.Time
}

// Reach counts whom a draft would reach if it were launched now.
func (e *Post) Reach(ctx context.Context, m *store.Mailing) (Reach, error) {
	r := Reach{Not: map[mailing.Reason]int64{}}
	now := e.Now()
	senders := map[int64]map[string]int{} // by who sends it, when they are due
	fromOwner, other, err := e.senderOf(ctx, m)
	if err != nil {
		return r, err
	}
	err = e.eachCandidate(ctx, m, func(list []store.Candidate) error {
		written, err := e.decide(m, list, now)
		if err != nil {
			return err
		}
		for i, w := range written {
			r.People++
			if w.Why != "" {
				r.Not[w.Why]++
				continue
			}
			r.Will++
			from := other
			if o := list[i].Owner; fromOwner && o != nil {
				from = *o
			}
			if senders[from] == nil {
				senders[from] = map[string]int{}
			}
			senders[from][w.At.In(e.Zone()).Format(time.DateOnly)]++
			if r.First.IsZero() || w.At.Before(r.First) {
				r.First = w.At
			}
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	boxes, err := e.Store.Mailboxes(ctx, now)
	if err != nil {
		return r, err
	}
	total := map[string]int{}
	for from, due := range senders {
		limit := 0
		for _, b := range boxes {
			if b.User == from {
				limit = b.Box.V.Limit(now, e.Zone())
			}
		}
		days, err := mailing.Forecast(due, limit, nextWorkingDay)
		if err != nil {
			r.Slow = fmt.Sprintf("%s: %v", nameOf(boxes, from), err)
		}
		if limit > 0 && len(days) > len(due) {
			r.Slow = fmt.Sprintf("%s sends at most %d a day", nameOf(boxes, from), limit)
		}
		for _, d := range days {
			total[d.Date] += d.N
		}
	}
	r.Days, err = mailing.Forecast(total, 0, nextDay)
	return r, err
}

func nameOf(boxes []store.Mailbox, user int64) string {
	for _, b := range boxes {
		if b.User == user {
			return b.Name
		}
	}
	return "a sender"
}

// senderOf is who sends a mailing's message to readers without an owner, and
// whether owners send it to theirs.
func (e *Post) senderOf(ctx context.Context, m *store.Mailing) (fromOwner bool, other int64, err error) {
	if m.Message == nil {
		return false, 0, nil
	}
	msg, err := e.Store.MessageText(ctx, *m.Message)
	if store.IsNotFound(err) {
		return false, 0, nil
	}
	if msg.SenderID != nil {
		other = *msg.SenderID
	}
	return msg.FromOwner, other, err
}

func nextDay(d string) string {
	t, err := time.Parse(time.DateOnly, d)
	if err != nil {
		return "9999-12-31" // never: days are made by Format
	}
	return t.AddDate(0, 0, 1).Format(time.DateOnly)
}

// nextWorkingDay is the day on which what was beyond a limit goes out.
func nextWorkingDay(d string) string {
	t, err := time.Parse(time.DateOnly, d)
	if err != nil {
		return "9999-12-31" // never: days are made by Format
	}
	return calendar.Working{}.Add(calendar.DateOf(t, time.UTC), 1).String()
}

func (e *Post) eachCandidate(ctx context.Context, m *store.Mailing, f func([]store.Candidate) error) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		for after := int64(0); ; {
			list, err := tx.Candidates(ctx, m, after, e.Now(), mailingChunk)
			if err != nil || len(list) == 0 {
				return err
			}
			if err := f(list); err != nil {
				return err
			}
			after = list[len(list)-1].ID
		}
	})
}

// decide says of each whether and when they get it.
func (e *Post) decide(m *store.Mailing, list []store.Candidate, now time.Time) ([]store.Written, error) {
	out := make([]store.Written, len(list))
	purpose := int64(0)
	if m.Purpose != nil {
		purpose = *m.Purpose
	}
	for i := range list {
		c := &list[i]
		out[i] = store.Written{Person: c.ID, Why: m.Plan.V.Why(c.Facts(purpose), purpose, now)}
		if out[i].Why != "" {
			continue
		}
		zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: c.Zone, Country: c.Country, City: c.City}, e.Zone())
		var err error
		if out[i].At, err = m.Plan.V.When(now, zone, e.Holidays(c.Country)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Ready reports what keeps a draft from being launched, or nil.
func (e *Post) Ready(ctx context.Context, m *store.Mailing) error {
	switch {
	case m.Message == nil:
		return plainly.New("choose a message")
	case m.Audience == nil:
		return plainly.New("choose an audience")
	case m.Purpose == nil:
		return plainly.New("choose what people agreed to")
	}
	if err := m.Plan.V.Check(); err != nil {
		return err
	}
	for _, a := range m.Acts.V {
		if err := act.Check(a.Act, act.OfLink()); err != nil {
			return plainly.Errorf("what pressing a link does besides: %w", err)
		}
	}
	msg, err := e.Store.MessageText(ctx, *m.Message)
	if store.IsNotFound(err) {
		return plainly.New("its message is not there any more")
	}
	if err != nil {
		return err
	}
	if msg.Version == 0 {
		return plainly.Errorf("“%s” is a draft that was not kept yet", msg.Name)
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return err
	}
	if err := msg.Doc.V.Check(fields); err != nil {
		return plainly.Errorf("“%s”: %w", msg.Name, err)
	}
	proof, err := e.Proof(ctx, &msg.Doc.V, msg.FromOwner, msg.SenderID, rule.ThingIs(rule.Audience, *m.Audience))
	if err != nil {
		return err
	}
	for _, f := range proof.Findings {
		if f.Grave {
			return plainly.Errorf("the proof of “%s” found: %s", msg.Name, f.Text)
		}
	}
	return nil
}

// SaveMailing keeps the draft of a one-off email, new where its id is 0.
func (e *Post) SaveMailing(ctx context.Context, m store.Mailing, user int64) (id int64, err error) {
	return e.SaveMailingSeen(ctx, m, user, nil)
}

// SaveMailingSeen is SaveMailing of a draft that somebody looked at: where it is not that any more, the answer is
// ErrMailingOther. Nil: they did not look.
func (e *Post) SaveMailingSeen(
	ctx context.Context, m store.Mailing, user int64, seen func(is *store.Mailing) bool,
) (id int64, err error) {
	if m.Name = person.Name(m.Name); m.Name == "" {
		return 0, people.ErrNoName
	}
	if err := m.Plan.V.Check(); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if m.ID != 0 && seen != nil {
			if is, err := tx.LockMailing(ctx, m.ID); err != nil {
				return err
			} else if !seen(&is) {
				return ErrMailingOther
			}
		}
		id, err = tx.SaveMailing(ctx, m, user, e.Now())
		return err
	})
	return id, err
}

// ErrMailingOther is answered where a one-off email is not what somebody looked at.
var ErrMailingOther = plainly.New("this email, its words or whom it is for have changed since you looked")

// MailingMark is of what a launch would send to whom: another one where the draft differs, the words of its message, or
// whom its audiences are for.
func (e *Post) MailingMark(ctx context.Context, m *store.Mailing) (string, error) {
	mark, _, err := mailingMark(ctx, e.Store.Queries, m)
	return mark, err
}

// mailingMark is the mark of a draft, with the newest version of its message; 0: it has none.
func mailingMark(ctx context.Context, db store.Queries, m *store.Mailing) (mark string, version int, err error) {
	audiences := slices.Clone(m.Excluded.V)
	if m.Audience != nil {
		audiences = append(audiences, *m.Audience)
	}
	whom, err := db.AudienceRules(ctx, audiences)
	if err != nil {
		return "", 0, err
	}
	if m.Message != nil {
		versions, err := db.MessageVersions(ctx, []int64{*m.Message})
		if err != nil {
			return "", 0, err
		}
		version = versions[*m.Message]
	}
	all, err := json.Marshal([]any{m.Message, version, m.Purpose, m.Audience, m.Excluded.V, whom, m.Plan.V, m.Acts.V})
	return fmt.Sprintf("%x", sha256.Sum256(all)), version, err
}

// LaunchMailing sends a one-off email off: its readers are written down, each
// with the instant at which their email may go out, and who is left out with
// the reason. One that somebody changes meanwhile is ErrMailingOther.
func (e *Post) LaunchMailing(ctx context.Context, id int64) error {
	return e.LaunchMailingSeen(ctx, id, "")
}

// LaunchMailingSeen is LaunchMailing of what somebody looked at, by its mark (empty: they did not look): where it is
// another by now, nothing is sent and the answer is ErrMailingOther.
func (e *Post) LaunchMailingSeen(ctx context.Context, id int64, seen string) error {
	m, err := e.Store.MailingText(ctx, id)
	if err != nil {
		return err
	}
	if m.State != "draft" {
		return store.ErrOver
	}
	mark, err := e.MailingMark(ctx, &m)
	if err != nil {
		return err
	}
	if seen != "" && seen != mark {
		return ErrMailingOther
	}
	if err := e.Ready(ctx, &m); err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		is, err := tx.LockMailing(ctx, id)
		if err != nil {
			return err
		}
		if is.State != "draft" {
			return store.ErrOver
		}
		now, version, err := mailingMark(ctx, tx.Queries, &is)
		if err != nil {
			return err
		}
		if now != mark {
			return ErrMailingOther
		}
		// The words that were proofed go out, and none that come meanwhile.
		if err := tx.LaunchMailing(ctx, id, version, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Mailing.Of(id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// settleFor is how long a launch waits at most for audiences to come up to date.
const settleFor = time.Minute

// FillMailings writes down the next readers of mailings that were launched. It
// answers whether there was something to do. A process that ends in between
// leaves the rest to the next turn; nobody is written down twice. A mailing that
// asks for an audience of which it is not known yet who is in it waits.
func (e *Post) FillMailings(ctx context.Context) (did bool, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		did = false
		uncounted, err := tx.Uncounted(ctx)
		if err != nil {
			return err
		}
		m, err := tx.FillingMailing(ctx, uncounted)
		if store.IsNotFound(err) {
			return nil
		}
		if err != nil {
			return err
		}
		now := e.Now()
		// Whoever was imported or changed before the launch has been asked about by then; where people change all the
		// time, that is not waited for without end.
		if m.FilledTo == 0 && m.Launched != nil && now.Sub(*m.Launched) < settleFor {
			if behind, err := tx.StaleNow(ctx, now); err != nil || behind {
				return err
			}
		}
		did = true
		list, err := tx.Candidates(ctx, &m, m.FilledTo, now, mailingChunk)
		if err != nil {
			return err
		}
		written, err := e.decide(&m, list, now)
		if err != nil {
			return err
		}
		last := m.FilledTo
		if len(list) > 0 {
			last = list[len(list)-1].ID
		}
		// Who walks one of them on meanwhile waits, and sees this email when it asks for their rest.
		if err := tx.LockRests(ctx, readers(written)); err != nil {
			return err
		}
		if err := tx.FillMailing(ctx, &m, written, last, len(list) < mailingChunk, now); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Mailing.Of(m.ID))
	})
	if did {
		e.Nudge()
	}
	return did, err
}

// readers are those of a chunk who get the email.
func readers(list []store.Written) (ids []int64) {
	for _, w := range list {
		if w.Why == "" {
			ids = append(ids, w.Person)
		}
	}
	return ids
}

// HoldMailing holds a mailing on its way, or lets it go on.
func (e *Post) HoldMailing(ctx context.Context, id int64, hold bool) error {
	from, to := []string{"filling", "sending"}, "held"
	if !hold {
		from, to = []string{"held"}, "filling" // who was not written down yet is now
	}
	return e.mailingState(ctx, id, from, to)
}

func (e *Post) mailingState(ctx context.Context, id int64, from []string, to string) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.SetMailingState(ctx, id, from, to); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Mailing.Of(id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// StopMailing takes back what has not gone out, for good.
func (e *Post) StopMailing(ctx context.Context, id int64) (n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.SetMailingState(ctx, id, []string{"filling", "sending", "held"}, "stopped"); err != nil {
			return err
		}
		if n, err = tx.WithdrawMailing(ctx, id, "the email was stopped", e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Mailing.Of(id))
	})
	return n, err
}

// Pressed does what pressing a link of a mailing does besides leading somewhere.
func (e *Post) Pressed(ctx context.Context, m *store.Mailing, link int, reader int64) error {
	var acts []act.Act
	for _, a := range m.Acts.V {
		if a.Link == link {
			acts = append(acts, a.Act)
		}
	}
	if len(acts) == 0 {
		return nil
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		return e.DoFor(ctx, tx, acts, reader, "by a link of “"+m.Name+"”")
	})
	if err != nil {
		return fmt.Errorf("doing what the link %d does: %w", link, err)
	}
	e.Nudge()
	return nil
}

// CleanBounced takes the addresses that bounced in a mailing off their
// records, as one piece of work that can be undone.
func (e *Post) CleanBounced(ctx context.Context, id, user int64) (int64, error) {
	var all []int64
	err := e.Store.InTx(ctx, func(tx store.Tx) (err error) {
		all, err = tx.AllIDs(ctx,
			store.PeopleQuery{Behind: store.Behind{Of: "email", ID: id, Which: "bounced"}, Now: e.Now()})
		return err
	})
	if err != nil {
		return 0, err
	}
	if len(all) == 0 {
		return 0, plainly.New("no address bounced")
	}
	return e.BeginBulk(ctx, "set", "take off addresses that bounced", people.Chosen{IDs: all},
		store.BatchDetail{Set: person.Values{person.EmailField: ""}}, user)
}

// RemoveMailing removes the draft of a one-off email; ErrOver: it was launched.
func (e *Post) RemoveMailing(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveMailing(ctx, id) })
}

package post

import (
	"context"
	"fmt"
	"strings"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/message"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Weighed is what the draft of a sequence would meet with if it were launched now. It is
// counted over everybody, so it takes a moment.
type Weighed struct {
	Rule     bool  // people enter by a rule
	Fits     int64 // for whom it holds
	Warnings []sequence.Problem
}

// Weigh tells what a plan would meet with: who fits, emails that some of them would not get,
// fields that nobody has, and more on one day than mailboxes or reps take.
func (e *Post) Weigh(ctx context.Context, q store.Sequence, p *sequence.Plan) (w Weighed, err error) {
	readers := rule.Rule{}
	if r := q.Entry.V.Rule; r != nil && r.Asks() && r.Check(nil) == nil {
		w.Rule, readers = true, *r
		if w.Fits, err = e.HowMany(ctx, store.PeopleQuery{Rule: readers, Now: e.Now()}); err != nil {
			return w, err
		}
	}
	for _, look := range []func(context.Context, store.Sequence, *sequence.Plan, rule.Rule, *Weighed) error{
		e.weighMessages, e.weighFields, e.weighLoad, e.weighDesks} {
		if err := look(ctx, q, p, readers, &w); err != nil {
			return w, err
		}
	}
	return w, nil
}

func (w *Weighed) warn(step sequence.StepID, format string, args ...any) {
	w.Warnings = append(w.Warnings, sequence.Problem{Step: step, Text: fmt.Sprintf(format, args...)})
}

// weighMessages finds what would be broken in its emails, and whom they would not reach for
// want of a merge field.
func (e *Post) weighMessages(
	ctx context.Context, _ store.Sequence, p *sequence.Plan, readers rule.Rule, w *Weighed,
) error {
	messages, err := e.MessagesOf(ctx, p)
	if err != nil {
		return err
	}
	about, err := e.surroundings(ctx)
	if err != nil {
		return err
	}
	for _, part := range p.Parts() {
		m, ok := messages[part.ID]
		if part.What != sequence.MessagePart || !ok || m.Version == 0 {
			continue // what keeps it from being launched is said elsewhere
		}
		proof, err := e.proof(ctx, about, &m.Doc.V, m.FromOwner, m.SenderID, readers)
		if err != nil {
			return err
		}
		for _, f := range proof.Findings {
			if f.Grave {
				w.warn(part.Step, "“%s”: %s", m.Name, f.Text)
			}
		}
		if !w.Rule {
			continue
		}
		for _, s := range proof.Stopped {
			w.warn(part.Step, "“%s” does not go out to %d of the %d who fit: nothing is known as their %s, and it has "+
				"no fallback", m.Name, s.People, w.Fits, strings.ToLower(fieldWords(s.Field)))
		}
	}
	return nil
}

func fieldWords(f message.Field) string {
	if f.Label != "" {
		return f.Label
	}
	return f.Name
}

// weighFields finds rules that ask for a field of which nothing is known of anybody.
func (e *Post) weighFields(ctx context.Context, _ store.Sequence, p *sequence.Plan, _ rule.Rule, w *Weighed) error {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	type place struct {
		step  sequence.StepID
		field rule.Field
	}
	var asked []place
	p.Asks(func(step sequence.StepID, r *rule.Rule) {
		r.Each(func(c *rule.Condition) {
			if x := (place{step, c.Field}); c.Field != "" && c.Op != rule.NotKnown {
				asked = append(asked, x)
			}
		})
	})
	known := map[rule.Field]bool{}
	said := map[place]bool{}
	for _, x := range asked {
		d, ok := cat.Define(x.field)
		if !ok || said[x] {
			continue // Check names it
		}
		said[x] = true
		if _, looked := known[x.field]; !looked {
			any := rule.Rule{If: &rule.Condition{Field: x.field, Op: rule.Known}}
			if known[x.field], err = e.Store.Anybody(ctx, any, e.Now()); err != nil {
				return err
			}
		}
		if !known[x.field] {
			w.warn(x.step, "asks for %s, and nothing is known of anybody's", strings.ToLower(d.Name))
		}
	}
	return nil
}

// weighLoad finds days on which more would go out than mailboxes send, or more calls come to
// the desk than reps have room for.
func (e *Post) weighLoad(ctx context.Context, q store.Sequence, p *sequence.Plan, _ rule.Rule, w *Weighed) error {
	if w.Fits == 0 {
		return nil
	}
	boxes, err := e.Store.Mailboxes(ctx, e.Now())
	if err != nil {
		return err
	}
	users, err := e.Store.Users(ctx)
	if err != nil {
		return err
	}
	limits, all := map[int64]int64{}, int64(0)
	for _, b := range boxes {
		limits[b.User] = int64(b.Box.V.Limit(e.Now(), e.Zone())) // 0: none
	}
	unbound := false
	for _, u := range users {
		if u.Role != right.Rep {
			continue
		}
		all += limits[u.ID]
		unbound = unbound || limits[u.ID] == 0
	}
	if unbound {
		all = 0
	}
	senders := map[sequence.StepID]int64{} // 0: whoever owns them
	messages, err := e.MessagesOf(ctx, p)
	if err != nil {
		return err
	}
	for _, part := range p.Parts() {
		if part.What != sequence.MessagePart || part.ID == 0 {
			continue
		}
		m := messages[part.ID] // one that is not there any more is sent by nobody in particular
		senders[part.Step] = 0
		if !m.FromOwner && m.SenderID != nil {
			senders[part.Step] = *m.SenderID
		}
		by := p.SenderOf(part.Step)
		if _, works := limits[by]; works && by != 0 {
			senders[part.Step] = by
		}
	}
	wave := q.Entry.V.Wave
	told := map[int64]bool{}
	for _, s := range p.Steps {
		from, email := senders[s.About().ID]
		if !email || told[from] {
			continue
		}
		told[from] = true
		limit, who := all, "the reps together send"
		if from != 0 {
			limit, who = limits[from], nameOf(boxes, from)+" sends"
		}
		n := p.Busiest(w.Fits, wave, func(x sequence.Step) bool {
			f, email := senders[x.About().ID]
			return email && f == from
		})
		if limit > 0 && n > limit {
			w.warn(s.About().ID, "up to %d emails come due on one day, and %s at most %d: the rest wait for the days "+
				"after; waves let people in more slowly", n, who, limit)
		}
	}
	return e.weighNetwork(ctx, p, wave, w)
}

// buries are the kinds of work that come to desks by the hundred.
var buries = []struct {
	kind  desk.Kind
	words string
}{{desk.Call, "calls"}, {desk.Social, "social touches"}, {desk.Task, "tasks"}}

// weighDesks finds reps to whose desks more would come on one day than they have time for: those that
// own whom it is for, and an even part of those that nobody owns.
func (e *Post) weighDesks(
	ctx context.Context, q store.Sequence, p *sequence.Plan, readers rule.Rule, w *Weighed,
) error {
	if w.Fits == 0 {
		return nil
	}
	var users []store.User
	var reps []int64
	var owned map[int64]int64
	for _, x := range buries {
		n := p.Busiest(w.Fits, q.Entry.V.Wave, func(s sequence.Step) bool { return s.Kind().Word == string(x.kind) })
		if n == 0 {
			continue
		}
		if owned == nil {
			var err error
			if users, err = e.Store.Users(ctx); err != nil {
				return err
			}
			for _, u := range users {
				if u.Role == right.Rep && !u.Away {
					reps = append(reps, u.ID)
				}
			}
			if owned, err = e.Store.CountByOwner(ctx, readers, e.Now()); err != nil {
				return err
			}
		}
		share := desk.Share(n, owned, reps)
		var told []string
		for _, u := range users {
			hours, zone := e.HoursOf(&u.Work.V)
			most := u.Work.V.PerDay(x.kind, hours, nextOpen(hours, calendar.DateOf(e.Now(), zone)))
			if got := share[u.ID]; got > int64(most) {
				told = append(told, fmt.Sprintf("up to %d to %s, who has time for %d", got, u.Name, most))
			}
		}
		if k := len(told); k > 0 {
			more := ""
			if k > 3 {
				told, more = told[:3], fmt.Sprintf("; and to %d more", k-3)
			}
			w.warn(0, "%d %s come up on one day: %s%s. Waves let people in more slowly", n, x.words,
				strings.Join(told, "; "), more)
		}
	}
	return nil
}

// nextOpen is the first date from one on that hours are open on; the date itself where none is within
// a fortnight.
func nextOpen(h calendar.SendingHours, from calendar.Date) calendar.Date {
	for n := range 14 {
		if d := from.Add(n); !h.Closed(d) {
			return d
		}
	}
	return from
}

// weighNetwork finds days on which more is to be done on the network than its limits let it do
// for the reps together who leave it to it. Where nobody does, the reps do it by hand.
func (e *Post) weighNetwork(ctx context.Context, p *sequence.Plan, wave sequence.Wave, w *Weighed) error {
	accounts, err := e.Store.NetworkAccounts(ctx)
	if err != nil || len(accounts) == 0 {
		return err
	}
	told := map[sequence.SocialAct]bool{}
	for _, s := range p.Steps {
		x, ok := s.(*sequence.Social)
		if !ok || told[x.What] {
			continue
		}
		told[x.What] = true
		room := int64(0)
		for _, a := range accounts {
			room += int64(a.Limits.V.Of(x.What))
		}
		n := p.Busiest(w.Fits, wave, func(other sequence.Step) bool {
			o, ok := other.(*sequence.Social)
			return ok && o.What == x.What
		})
		if n > room {
			w.warn(x.ID, "up to %d come due on one day, and the network does at most %d such a day for the reps who "+
				"leave it to it: the rest wait for the days after; waves let people in more slowly", n, room)
		}
	}
	return nil
}

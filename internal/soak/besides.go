package soak

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/mailing"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
)

// Besides sequences there is what a workspace has beside them: tags, a page that is visited, an audience that people
// join and leave, and one-off emails.

const (
	mailEvery = 3 * 24 * time.Hour // between two one-off emails
	tagsThere = 5
	keen      = "Keen" // the title of those in the live audience
)

// furnish makes them.
func (w *world) furnish(ctx context.Context) error {
	for _, q := range []string{
		"insert into page (slug, title, updated_at, doc, published) values ('x', 'Soak', now(), '{}', true)",
		"insert into consent (person_id, purpose_id, given, at, how) select p.id, x.id, true, p.created_at, '' " +
			"from person p, (select min(id) as id from purpose) x",
	} {
		if _, err := w.s.DB().ExecContext(ctx, q); err != nil {
			return err
		}
	}
	var err error
	in := rule.FieldIs(person.Title, keen)
	w.audience, err = w.e.SaveAudience(ctx,
		store.Audience{Name: "Soak", Live: true, Rule: store.JSON[rule.Rule]{V: in}})
	if err != nil {
		return err
	}
	w.picked, err = w.e.SaveAudience(ctx, store.Audience{Name: "Picked"})
	if err != nil {
		return err
	}
	return w.s.InTx(ctx, func(tx store.Tx) error {
		for i := range tagsThere {
			id, err := tx.TagNamed(ctx, fmt.Sprint("tag ", i), w.user, w.clock.Now())
			if err != nil {
				return err
			}
			w.tags = append(w.tags, id)
		}
		return nil
	})
}

// besides does some of it: people are tagged, picked and moved, look at the page and fill in its form, are mailed, and
// some of what they did is found out to have been done by a program.
func (w *world) besides(ctx context.Context) error {
	now := w.clock.Now()
	for range 4 {
		id, on := w.people[w.rnd.IntN(len(w.people))], w.rnd.IntN(2) == 0
		mark := person.Mark(person.TagMark, w.tags[w.rnd.IntN(len(w.tags))])
		if w.rnd.IntN(3) == 0 {
			mark = person.Mark(person.AudienceMark, w.picked)
		}
		if err := w.e.Mark(ctx, id, mark, on, w.user); err != nil {
			return err
		}
	}
	moved := w.people[w.rnd.IntN(len(w.people))]
	title := []string{keen, keen, "Clerk"}[w.rnd.IntN(3)]
	if err := w.e.ChangePerson(ctx, moved, person.Values{person.Title: title}, w.user); err != nil {
		return err
	}
	for range 1 + w.rnd.IntN(4) {
		visit, err := w.s.PageVisit(ctx, 1, []string{"", "fair"}[w.rnd.IntN(2)], "", now)
		if err == nil && w.rnd.IntN(2) == 0 {
			err = w.s.StartForm(ctx, visit, now)
		}
		if err == nil && w.rnd.IntN(3) == 0 {
			err = w.s.InTx(ctx, func(tx store.Tx) error {
				_, err := tx.FinishVisit(ctx, 1, visit, now)
				return err
			})
		}
		if err != nil {
			return err
		}
	}
	if _, err := w.s.DB().ExecContext(ctx, "update signal set machine = case machine when '' then 'found out' else '' "+
		"end where id % 97 = $1", w.rnd.IntN(97)); err != nil {
		return err
	}
	if w.rnd.IntN(20) == 0 {
		if err := w.s.FoldCounts(ctx, 10); err != nil {
			return err
		}
	}
	if now.Sub(began)%mailEvery == 0 {
		return w.mailAll(ctx)
	}
	return nil
}

// mailAll launches a one-off email to the live audience.
func (w *world) mailAll(ctx context.Context) error {
	purpose := int64(0)
	if err := w.s.DB().QueryRowContext(ctx, "select min(id) from purpose").Scan(&purpose); err != nil {
		return err
	}
	m := store.Mailing{Name: "Soak", Message: &w.message, Audience: &w.audience, Purpose: &purpose}
	m.Plan.V = mailing.NewPlan()
	m.Plan.V.Rest = w.rnd.IntN(3)
	id, err := w.e.SaveMailing(ctx, m, w.user)
	if err != nil {
		return err
	}
	return w.e.LaunchMailing(ctx, id)
}

// mailings: of one-off emails each reader got each at most once, and those that are noted as sent arrived.
func (w *world) mailings(ctx context.Context, arrived map[string]int) (known int, err error) {
	err = w.each(ctx, `
		select t.id, t.state, lt.mail_id, count(*) over (partition by t.mailing_id, t.person_id)
		from touch t
		join letter lt on lt.touch_id = t.id
		where t.mailing_id is not null and lt.mail_id is not null`, func(scan func(...any) error) error {
		var id int64
		var state, mailID string
		var n int
		if err := scan(&id, &state, &mailID, &n); err != nil {
			return err
		}
		if arrived[mailID] > 0 {
			known++
		}
		if state == "sent" && arrived[mailID] == 0 {
			w.broken("touch %d of a one-off email is noted as sent, and never arrived", id)
		}
		if n > 1 {
			w.broken("touch %d is one of %d of the same email to the same person", id, n)
		}
		return nil
	})
	return known, err
}

// kept: what is kept of figures of every kind is what counting gives.
func (w *world) kept(ctx context.Context) error {
	list, err := w.s.MendFigures(ctx, w.clock.Now())
	for _, m := range list {
		w.broken("%d figures of %s are not what counting gives: %+v", m.Lines, m.Figure, m.First.V)
	}
	return err
}

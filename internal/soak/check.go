package soak

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// logLine is a line of somebody's way.
type logLine struct {
	enrolment, version int64
	step               int32
	exit               string
}

// check looks at what came of it.
func (w *world) check(ctx context.Context) error {
	w.report.Letters = w.mail.Count()
	for _, f := range []func(context.Context) error{w.readPlans, w.paths, w.letters, w.waves, w.ends, w.figures,
		w.kept} {
		if err := f(ctx); err != nil {
			return fmt.Errorf("looking at what came of it: %w", err)
		}
	}
	return nil
}

func (w *world) each(ctx context.Context, query string, row func(scan func(...any) error) error, args ...any) error {
	rows, err := w.s.DB().QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := row(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (w *world) readPlans(ctx context.Context) error {
	var ids []int64
	if err := w.each(ctx, "select id from sequence_version", func(scan func(...any) error) error {
		var id int64
		err := scan(&id)
		ids = append(ids, id)
		return err
	}); err != nil {
		return err
	}
	list, err := w.s.Versions(ctx, ids)
	for _, v := range list {
		w.plans[v.ID] = v.Plan.V
	}
	return err
}

// paths: each step follows from the exit of the last, and begins at the start.
func (w *world) paths(ctx context.Context) error {
	var last logLine
	return w.each(ctx, `
		select l.enrolment_id, l.version_id, l.step, l.exit from enrolment_log l order by l.enrolment_id, l.id`,
		func(scan func(...any) error) error {
			var l logLine
			if err := scan(&l.enrolment, &l.version, &l.step, &l.exit); err != nil {
				return err
			}
			w.report.Steps++
			plan := w.plans[l.version]
			want := plan.Start
			if last.enrolment == l.enrolment {
				if last.exit == "" {
					w.broken("enrolment %d goes on after its end, to step %d", l.enrolment, l.step)
				} else if s := plan.Step(sequence.StepID(last.step)); s != nil {
					want = s.About().To[sequence.Exit(last.exit)]
				}
			}
			if sequence.StepID(l.step) != want {
				before := "at its beginning"
				if last.enrolment == l.enrolment {
					before = fmt.Sprintf("from step %d by %q", last.step, last.exit)
				}
				w.broken("enrolment %d comes to step %d, which it left by %q, and not to %d, %s", l.enrolment, l.step,
					l.exit, want, before)
			}
			last = l
			return nil
		})
}

// letters: each at most once, in its hours, not after its reader has left, and not too soon
// after another.
func (w *world) letters(ctx context.Context) error {
	arrived := map[string]int{}
	for _, l := range w.mail.Letters("", 1_000_000) {
		if arrived[l.MessageID]++; arrived[l.MessageID] > 1 {
			w.broken("the letter %s arrived %d times", l.MessageID, arrived[l.MessageID])
		}
	}
	known, err := w.mailings(ctx, arrived)
	w.report.Mailed = known
	if err != nil {
		return err
	}
	type reached struct {
		person int64
		at     time.Time
	}
	var last reached
	err = w.each(ctx, `
		select t.person_id, t.version_id, t.step, t.state, t.done_at, coalesce(lt.mail_id, ''), p.country, e.ended_at,
			t.id
		from touch t
		join letter lt on lt.touch_id = t.id
		join person p on p.id = t.person_id
		join enrolment e on e.id = t.enrolment_id
		where t.state in ('sent', 'held')
		order by t.person_id, coalesce(t.done_at, t.made_at), t.id`, func(scan func(...any) error) error {
		var person, version, id int64
		var step int32
		var state, mailID, country string
		var done, ended *time.Time
		if err := scan(&person, &version, &step, &state, &done, &mailID, &country, &ended, &id); err != nil {
			return err
		}
		if arrived[mailID] > 0 {
			known++
		}
		if state == "held" {
			w.report.Held++
			return nil
		}
		if arrived[mailID] == 0 {
			w.broken("touch %d is noted as sent, and never arrived", id)
		}
		plan := w.plans[version]
		zone, _ := calendar.ZoneFor(calendar.Whereabouts{Country: country}, time.UTC)
		if next, err := plan.Hours.Next(*done, zone); err != nil || !next.Equal(*done) {
			w.broken("touch %d went out at %s, outside its hours", id, done.In(zone))
		}
		if ended != nil && done.After(*ended) {
			w.broken("touch %d went out at %s, and they had left at %s", id, done, ended)
		}
		rest := plan.Rest.Days
		if rest > 0 && last.person == person && done.Sub(last.at) < time.Duration(rest)*24*time.Hour {
			w.broken("touch %d went out to %d at %s, and the last at %s: no %d days", id, person, done, last.at, rest)
		}
		last = reached{person, *done}
		return nil
	})
	if known != len(arrived) {
		w.broken("%d letters arrived of which nobody knows", len(arrived)-known)
	}
	return err
}

// waves: on no day of the workspace more entered than a wave lets in.
func (w *world) waves(ctx context.Context) error {
	if err := w.each(ctx, "select count(*) from enrolment", func(scan func(...any) error) error {
		return scan(&w.report.Entered)
	}); err != nil {
		return err
	}
	return w.each(ctx, `
		select e.sequence_id, count(*), v.entry from enrolment e join sequence_version v on v.id = e.version_id
		group by e.sequence_id, v.entry, date_trunc('day', e.entered_at at time zone $1)`,
		func(scan func(...any) error) error {
			var q int64
			var n int
			var entry store.JSON[store.Entry]
			if err := scan(&q, &n, &entry); err != nil {
				return err
			}
			if wave := entry.V.Wave; wave.N > 0 && n > wave.N {
				w.broken("%d entered sequence %d on one day, by waves of %d", n, q, wave.N)
			}
			return nil
		}, w.e.Zone().String())
}

// open lists the ways that have not ended, but where nobody knows whether an email went out.
func (w *world) open(ctx context.Context) (out []string, err error) {
	err = w.each(ctx, `
		select e.id, e.step, e.phase from enrolment e
		where e.ended_at is null and not exists (
			select from touch t where t.enrolment_id = e.id and t.state in ('held', 'stopped'))`,
		func(scan func(...any) error) error {
			var id int64
			var step, phase int32
			err := scan(&id, &step, &phase)
			out = append(out, fmt.Sprintf("enrolment %d has not ended: it is at step %d, in phase %d", id, step, phase))
			return err
		})
	return out, err
}

// ends: every way has ended.
func (w *world) ends(ctx context.Context) error {
	list, err := w.open(ctx)
	for _, x := range list {
		w.broken("%s", x)
	}
	return err
}

// figures: what is kept of how many are where is what counting gives.
func (w *world) figures(ctx context.Context) error {
	return w.each(ctx, `
		select c.sequence_id, c.step, c.what, sum(c.n), (
			case c.what
			when 'here' then (select count(*) from enrolment e
				where e.sequence_id = c.sequence_id and e.step = c.step and e.ended_at is null)
			when 'passed' then (select count(*) from enrolment_log l join sequence_version v on v.id = l.version_id
				where v.sequence_id = c.sequence_id and l.step = c.step)
			when 'entered' then (select count(*) from enrolment e where e.sequence_id = c.sequence_id)
			when 'ended' then (select count(*) from enrolment e
				where e.sequence_id = c.sequence_id and e.ended_at is not null)
			when 'opened' then (select count(*) from touch t where t.sequence_id = c.sequence_id and t.step = c.step
				and exists (select from signal s where s.touch_id = t.id and s.person_id = t.person_id and s.kind = 4
					and s.machine = ''))
			when 'clicked' then (select count(*) from touch t where t.sequence_id = c.sequence_id and t.step = c.step
				and exists (select from signal s where s.touch_id = t.id and s.person_id = t.person_id and s.kind = 5
					and s.machine = ''))
			when 'replied' then (select count(*) from touch t where t.sequence_id = c.sequence_id and t.step = c.step
				and exists (select from signal s where s.touch_id = t.id and s.person_id = t.person_id and s.kind = 6
					and s.machine = ''))
			else (
				select count(*)
				from touch t
				where t.sequence_id = c.sequence_id and t.step = c.step and t.state = c.what)
			end)
		from flow_count c group by 1, 2, 3`, func(scan func(...any) error) error {
		var q, step, kept, counted int64
		var what string
		if err := scan(&q, &step, &what, &kept, &counted); err != nil {
			return err
		}
		if kept != counted {
			w.broken("of sequence %d, step %d, %d “%s” are kept, and there are %d", q, step, kept, what, counted)
		}
		return nil
	})
}

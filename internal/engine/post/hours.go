package post

import (
	"context"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/mailing"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// inHours keeps the emails of a claimed batch whose sending hours are open. An
// email was made when they were; a daily limit, a gap, another try, a hold that
// ended or an absence may have moved it since, so they are asked again each time.
func (e *Post) inHours(ctx context.Context, l *letters, list []store.Outgoing) ([]store.Outgoing, error) {
	plans, err := e.plansOf(ctx, list)
	if err != nil {
		return nil, err
	}
	mailings := map[int64]mailing.Plan{}
	now := e.Now()
	var open []store.Outgoing
	var later []int64
	var at []time.Time
	for _, o := range list {
		p := l.Whom[o.Person]
		if p == nil || o.Single {
			open = append(open, o)
			continue
		}
		zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, e.Zone())
		when := now
		if o.Mailing != 0 {
			m, ok := mailings[o.Mailing]
			if !ok {
				if m, err = e.Store.MailingPlan(ctx, o.Mailing); err != nil {
					return nil, err
				}
				mailings[o.Mailing] = m
			}
			when, err = m.When(now, zone, e.Holidays(p.Country))
		} else if plan := plans[o.Plan]; plan != nil {
			when, err = plan.MayGoOut(sequence.StepID(o.Step), now, zone, e.Holidays(p.Country))
		}
		if err != nil {
			return nil, err
		}
		if when.After(now) {
			later, at = append(later, o.ID), append(at, when)
		} else {
			open = append(open, o)
		}
	}
	if len(later) == 0 {
		return open, nil
	}
	return open, e.Store.InTx(ctx, func(tx store.Tx) error { return tx.PutOffEmails(ctx, later, at) })
}

// plansOf reads the plans that some emails are of. A version never changes, so
// each is read once.
func (e *Post) plansOf(ctx context.Context, list []store.Outgoing) (map[int64]*sequence.Plan, error) {
	out := map[int64]*sequence.Plan{}
	var missing []int64
	for i := range list {
		v := list[i].Plan
		if _, ok := out[v]; ok || v == 0 {
			continue
		}
		out[v] = nil
		if p, ok := e.plans.Load(v); ok {
			out[v] = p.(*sequence.Plan)
		} else {
			missing = append(missing, v)
		}
	}
	if len(missing) == 0 {
		return out, nil
	}
	versions, err := e.Store.Versions(ctx, missing)
	if err != nil {
		return nil, err
	}
	for i := range versions {
		p := versions[i].Plan.V
		e.plans.Store(versions[i].ID, p)
		out[versions[i].ID] = p
	}
	return out, nil
}

package demo

import (
	"context"
	"errors"
	"slices"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
)

// keepHanding keeps territories and why people are sent back, as a lead does, for whoever is handed over from now on.
func (d *Demo) keepHanding(ctx context.Context, m made) error {
	reps, err := d.reps(ctx)
	if err != nil {
		return err
	}
	users, err := d.Store.Users(ctx)
	if err != nil {
		return err
	}
	lead := users[slices.IndexFunc(users, func(u store.User) bool { return u.Role == right.Lead })].ID
	in := func(countries ...string) store.JSON[rule.Rule] {
		return store.JSON[rule.Rule]{V: rule.Rule{All: []rule.Rule{{If: &rule.Condition{Field: person.Country,
			Op: rule.OneOf, Values: countries}}}}}
	}
	for _, t := range []store.Territory{{Name: "North Sea", User: reps[0], Rule: in("NO", "GB")},
		{Name: "The Americas", User: reps[1%len(reps)], Rule: in("CA", "CL")}} {
		if _, _, err := d.Engine.KeepTerritory(ctx, t, nil, lead); err != nil {
			return err
		}
	}
	for _, r := range []store.BackReason{
		{Name: "no budget this year", CoolOff: 90, GoesOn: store.WhereFrom},
		{Name: "too early", CoolOff: 30, GoesOn: store.OnWith, Sequence: m.followUp},
		{Name: "wrong person", CoolOff: 180, GoesOn: store.Nowhere}} {
		if _, err := d.Engine.KeepBackReason(ctx, r, nil, lead); err != nil {
			return err
		}
	}
	if err := d.keepPlans(ctx); err != nil {
		return err
	}
	return d.keepService(ctx)
}

// keepPlans says of most open deals when they are expected, and what is done next.
func (d *Demo) keepPlans(ctx context.Context) error {
	pipes, err := d.Store.Pipelines(ctx)
	if err != nil {
		return err
	}
	deals, err := d.Store.OpenDeals(ctx, pipes[0].ID, 0, 500)
	if err != nil {
		return err
	}
	stages, err := d.Store.Stages(ctx)
	if err != nil {
		return err
	}
	next := []string{"send the offer for three pens", "call about the intake", "visit the site", "ask who signs",
		"lend a second buoy"}
	now := d.Clock.Now().Truncate(24 * time.Hour)
	for i, x := range deals {
		at := slices.IndexFunc(stages, func(s pipeline.Stage) bool { return s.ID == x.Stage })
		n := int(x.ID*37%101) + 1
		p := store.DealPlan{Name: x.Name}
		if n%5 != 0 {
			day := now.AddDate(0, 0, 20+n+35*max(2-at, 0)-25*max(at-2, 0))
			p.Expected = &day
		}
		if n%3 != 0 {
			p.Next = next[i%len(next)]
			on := now.AddDate(0, 0, 1+n%12)
			p.NextOn = &on
		}
		if err := d.Engine.PlanDeal(ctx, x.ID, p, *x.Rep); err != nil {
			return err
		}
	}
	w := d.Engine.Workspace()
	w.Target = 250_000_00
	return d.Engine.SetWorkspace(ctx, w)
}

// keepService opens deals of the second pipeline with those whose buoys were bought a while ago, and has colleagues
// take part in open deals.
func (d *Demo) keepService(ctx context.Context) error {
	pipes, err := d.Store.Pipelines(ctx)
	if err != nil {
		return err
	}
	stages, err := d.Store.Stages(ctx)
	if err != nil {
		return err
	}
	stages = slices.DeleteFunc(stages, func(s pipeline.Stage) bool { return s.Pipeline != pipes[1].ID || s.Closed() })
	won, err := d.Store.Deals(ctx, store.DealQuery{State: store.WonDeals, Order: "newest first"}, 14)
	if err != nil {
		return err
	}
	for i, x := range won {
		_, err := d.Engine.OpenByHand(ctx, store.NewDeal{Person: x.Person, Rep: *x.Rep, Name: "Service, " + x.Name,
			Stage: stages[i%len(stages)].ID, Amount: x.Amount / 10, Currency: x.Currency}, *x.Rep)
		if err != nil && !errors.Is(err, sales.ErrHasDeal) {
			return err
		}
	}
	open, err := d.Store.OpenDeals(ctx, pipes[0].ID, 0, 12)
	if err != nil {
		return err
	}
	for i, x := range open {
		there, err := d.Store.CouldTakePart(ctx, x.ID)
		if err != nil {
			return err
		}
		parts := pipeline.Parts()[1:]
		for j := range min(len(there), 1+i%2) {
			if err := d.Engine.SetPart(ctx, x.ID, there[j].Person, parts[(i+j)%4], *x.Rep); err != nil {
				return err
			}
		}
	}
	return nil
}

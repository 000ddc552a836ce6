package demo

import (
	"context"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
)

// keepHanding keeps territories and why people are sent back, as a lead does, for whoever is handed over from now on.
func (d *Demo) keepHanding(ctx context.Context, m made) error {
	reps, err := d.reps(ctx)
	if err != nil {
		return err
	}
	in := func(countries ...string) store.JSON[rule.Rule] {
		return store.JSON[rule.Rule]{V: rule.Rule{All: []rule.Rule{{If: &rule.Condition{Field: person.Country,
			Op: rule.OneOf, Values: countries}}}}}
	}
	for _, t := range []store.Territory{{Name: "North Sea", User: reps[0], Rule: in("NO", "GB")},
		{Name: "The Americas", User: reps[1%len(reps)], Rule: in("CA", "CL")}} {
		if _, err := d.Engine.KeepTerritory(ctx, t); err != nil {
			return err
		}
	}
	for _, r := range []store.BackReason{
		{Name: "no budget this year", CoolOff: 90, GoesOn: store.WhereFrom},
		{Name: "too early", CoolOff: 30, GoesOn: store.OnWith, Sequence: m.followUp},
		{Name: "wrong person", CoolOff: 180, GoesOn: store.Nowhere}} {
		if _, err := d.Engine.KeepBackReason(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

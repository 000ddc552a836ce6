package people

import (
	"context"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// tagAll puts tags on people's records; one that is not there yet is made.
func (e *People) tagAll(ctx context.Context, tx store.Tx, list []flow.Doing[act.Tag]) error {
	type key struct{ name, how string }
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.Tag]) key { return key{d.Act.Name, d.How} }) {
		id, err := tx.TagNamed(ctx, group[0].Act.Name, 0, e.Now())
		if err == nil {
			err = e.markAll(ctx, tx, flow.Whom(group), person.Mark(person.TagMark, id), group[0].How)
		}
		if flow.Gone(err) != nil {
			return err
		}
	}
	return nil
}

// include puts people into hand-picked audiences.
func (e *People) include(ctx context.Context, tx store.Tx, list []flow.Doing[act.Include]) error {
	type key struct {
		audience int64
		how      string
	}
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.Include]) key {
		return key{d.Act.Audience, d.How}
	}) {
		mark := person.Mark(person.AudienceMark, group[0].Act.Audience)
		if err := flow.Gone(e.markAll(ctx, tx, flow.Whom(group), mark, group[0].How)); err != nil {
			return err
		}
	}
	return nil
}

// markAll sets a mark of people, with a line in the history of each.
func (e *People) markAll(ctx context.Context, tx store.Tx, ids []int64, mark person.Field, how string) error {
	list, err := tx.PeopleByID(ctx, ids)
	if err != nil {
		return err
	}
	now, err := tx.Marks(ctx, ids, []person.Field{mark})
	if err != nil {
		return err
	}
	var edits []store.Edit
	for _, id := range ids {
		if list[id] == nil {
			continue
		}
		before := now[id]
		if before == nil {
			before = person.Values{}
		}
		edits = append(edits, store.Edit{P: list[id], Now: before, Set: person.Values{mark: "yes"}})
	}
	if _, err := tx.Change(ctx, edits, store.Author{How: how, At: e.Now()}); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Person.About(ids...))
}

// assign gives people who have no owner one: the user named, or the rep whose turn
// it is. Where no rep has room nobody becomes the owner.
func (e *People) assign(ctx context.Context, tx store.Tx, list []flow.Doing[act.Assign]) error {
	unowned, err := tx.Unowned(ctx, flow.Whom(list))
	if err != nil || len(unowned) == 0 {
		return err
	}
	waits := make(map[int64]bool, len(unowned))
	for _, id := range unowned {
		waits[id] = true
	}
	var reps []handoff.Rep
	owner := map[int64]int64{}
	how := map[string][]int64{}
	for _, d := range list {
		if !waits[d.Person] {
			continue
		}
		to := d.Act.To
		if to == 0 {
			if reps == nil {
				if reps, err = tx.RepsInTurn(ctx, e.Now(), e.Zone()); err != nil {
					return err
				}
			}
			if to = handoff.Route(handoff.Case{}, reps).Rep; to == 0 {
				continue
			}
			if err := tx.HadTurn(ctx, to, d.At); err != nil {
				return err
			}
			handoff.HadTurn(reps, to, d.At)
		}
		delete(waits, d.Person)
		owner[d.Person] = to
		how[d.How] = append(how[d.How], d.Person)
	}
	if err := tx.KeepTurns(ctx, reps); err != nil {
		return err
	}
	for how, ids := range how {
		if err := flow.Gone(e.own(ctx, tx, ids, owner, how)); err != nil {
			return err
		}
	}
	return nil
}

// own gives people their owners.
func (e *People) own(ctx context.Context, tx store.Tx, ids []int64, owner map[int64]int64, how string) error {
	list, err := tx.PeopleByID(ctx, ids)
	if err != nil {
		return err
	}
	names := map[int64]string{}
	var edits []store.Edit
	for _, id := range ids {
		p, to := list[id], owner[id]
		if p == nil {
			continue
		}
		if names[to] == "" {
			if names[to], err = tx.UserName(ctx, to); err != nil {
				return err
			}
		}
		edits = append(edits, store.Edit{P: p, Now: p.Values(), Set: person.Values{person.Owner: names[to]}})
	}
	return e.Applied(ctx, tx, edits, store.Author{How: how, At: e.Now()})
}

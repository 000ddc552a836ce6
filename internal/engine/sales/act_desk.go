package sales

import (
	"context"
	"slices"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/core/news"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// giveTasks gives users something to do for people.
func (e *Sales) giveTasks(ctx context.Context, tx store.Tx, list []flow.Doing[act.Task]) error {
	out := make([]store.NewTask, len(list))
	for i, d := range list {
		out[i] = store.NewTask{Person: d.Person, To: d.Act.To, Words: d.Act.Words, How: d.How, At: d.At,
			Team: d.Act.Team}
	}
	return e.told(ctx, tx, out)
}

// openDeals opens deals about people who have none open, for their owners.
func (e *Sales) openDeals(ctx context.Context, tx store.Tx, list []flow.Doing[act.OpenDeal]) error {
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.OpenDeal]) act.OpenDeal { return d.Act }) {
		from := make([]int64, len(group)) // the sequences
		for i, d := range group {
			if d.Way != nil {
				from[i] = d.Way.Sequence()
			}
		}
		opened, err := tx.OpenDeals(ctx, flow.Whom(group), from, group[0].Act.Stage, e.Workspace().Currency, e.Now())
		if err != nil {
			return err
		}
		if err := e.followDeals(ctx, tx, opened, e.Now()); err != nil {
			return err
		}
	}
	return tx.Notify(ctx, news.Pipeline.About(flow.Whom(list)...))
}

// fewLeaving is for how many people at a time that is done: their ways are locked for it.
const fewLeaving = 50

// LeaveForDeals has whoever a deal was opened about by a step leave the sequences, and answers how many did: whoever
// opens it by hand sees to it at once, but a step stands in the midst of somebody’s way.
func (e *Sales) LeaveForDeals(ctx context.Context) (n int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		people, err := tx.TakeLeaving(ctx, fewLeaving)
		if err != nil {
			return err
		}
		n = len(people)
		for _, p := range people {
			if err := e.Leave(ctx, tx, p, sequence.DealOpened, e.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

// moveDeals moves people's open deals to a stage.
func (e *Sales) moveDeals(ctx context.Context, tx store.Tx, list []flow.Doing[act.MoveDeal]) error {
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.MoveDeal]) act.MoveDeal { return d.Act }) {
		moved, err := tx.MoveOpenDeals(ctx, flow.Whom(group), group[0].Act.Stage, e.Now())
		if err != nil {
			return err
		}
		if err := e.followDeals(ctx, tx, moved, e.Now()); err != nil {
			return err
		}
	}
	return tx.Notify(ctx, news.Pipeline.About(flow.Whom(list)...))
}

// giveAlerts tells users something about people.
func (e *Sales) giveAlerts(ctx context.Context, tx store.Tx, list []flow.Doing[act.Alert]) error {
	out := make([]store.NewTask, len(list))
	for i, d := range list {
		out[i] = store.NewTask{Person: d.Person, To: d.Act.To, Alert: true, Words: d.Act.Words, How: d.How, At: d.At,
			Role: d.Act.Role, Team: d.Act.Team}
	}
	return e.told(ctx, tx, out)
}

func (e *Sales) told(ctx context.Context, tx store.Tx, list []store.NewTask) error {
	if err := tx.AddTasks(ctx, list, e.Zone()); err != nil {
		return err
	}
	people := make([]int64, len(list))
	for i, t := range list {
		people[i] = t.Person
	}
	return tx.Notify(ctx, news.Desk.About(people...))
}

// handOver hands people over who have neither an open handoff nor an open deal, in
// the order given.
func (e *Sales) handOver(ctx context.Context, tx store.Tx, list []flow.Doing[act.HandOver]) error {
	// The reps are locked first: whoever hands over, waits here.
	reps, err := tx.RepsInTurn(ctx, e.Now(), e.Zone())
	if err != nil {
		return err
	}
	owners, err := tx.Handable(ctx, flow.Whom(list))
	if err != nil || len(owners) == 0 {
		return err
	}
	cases, err := e.cases(ctx, tx.Queries, owners)
	if err != nil {
		return err
	}
	var out []store.NewHandoff
	for _, d := range list {
		if _, can := owners[d.Person]; !can {
			continue
		}
		delete(owners, d.Person)
		h := store.NewHandoff{Person: d.Person, MadeBy: d.By, At: d.At, Model: d.Model}
		if d.Way != nil {
			h.Sequence = d.Way.Sequence()
		}
		to := handoff.Route(cases[d.Person], reps)
		h.Rep, h.How, h.Why = to.Rep, store.HowWords(to), to.Why
		handoff.Given(reps, h.Rep, h.At)
		out = append(out, h)
	}
	if err := tx.KeepTurns(ctx, reps); err != nil {
		return err
	}
	if err := e.brief(ctx, tx, out); err != nil {
		return err
	}
	handed, err := tx.AddHandoffs(ctx, out)
	if err != nil {
		return err
	}
	return tx.Notify(ctx, news.Desk.About(handed...))
}

// brief says in each handoff why now, from the ledgers as they stand: by the model whose line was crossed, else by the
// one whose line is nearest or passed by most.
func (e *Sales) brief(ctx context.Context, tx store.Tx, list []store.NewHandoff) error {
	models, err := e.ScoreModels(ctx, tx.Queries)
	if err != nil || len(models) == 0 { // without a model of scores there is nothing to say
		return err
	}
	ids, since := make([]int64, len(list)), make([]store.Since, len(list))
	for i, h := range list {
		ids[i], since[i] = h.Person, store.Since{Person: h.Person}
	}
	signals, err := tx.SignalsSince(ctx, since)
	if err != nil {
		return err
	}
	var records map[int64]*rule.Record
	if slices.ContainsFunc(models, func(m store.Model) bool { return m.AsksRecord() }) {
		if records, err = tx.Records(ctx, ids); err != nil {
			return err
		}
	}
	for i := range list {
		h := &list[i]
		did := signals[h.Person]
		who := flow.NewPersonOf(records[h.Person], did)
		said := false
		for j := range models {
			m := &models[j]
			if m.Version == 0 || h.Model != 0 && h.Model != m.ID {
				continue
			}
			b := handoff.NewBrief(&m.Model, m.Ledger(nil, did, who, h.At), did, h.At)
			if !said || b.Over() > h.Brief.Over() {
				if h.Brief, said = b, true; len(models) > 1 {
					h.Brief.Model = m.Name
				}
			}
		}
	}
	return nil
}

package sales

import (
	"context"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/core/news"
	"ombak/internal/core/rule"
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

// moveDeals moves people's open deals to a stage.
func (e *Sales) moveDeals(ctx context.Context, tx store.Tx, list []flow.Doing[act.MoveDeal]) error {
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.MoveDeal]) act.MoveDeal { return d.Act }) {
		moved, err := tx.MoveOpenDeals(ctx, flow.Whom(group), group[0].Act.Stage, e.Now())
		if err != nil {
			return err
		}
		if err := tx.FollowLost(ctx, moved, e.Now()); err != nil {
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
		h := store.NewHandoff{Person: d.Person, MadeBy: d.By, At: d.At}
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

// brief says in each handoff why now, from the ledgers as they stand.
func (e *Sales) brief(ctx context.Context, tx store.Tx, list []store.NewHandoff) error {
	m, err := e.ScoreModel(ctx, tx)
	if err != nil {
		return flow.Gone(err) // without a model of scores there is nothing to say
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
	if m.AsksRecord() {
		if records, err = tx.Records(ctx, ids); err != nil {
			return err
		}
	}
	for i := range list {
		h := &list[i]
		did := signals[h.Person]
		ledger := m.Ledger(nil, did, flow.NewPersonOf(records[h.Person], did), h.At)
		h.Brief = handoff.NewBrief(&m.Model, ledger, did, h.At)
	}
	return nil
}

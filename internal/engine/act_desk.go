package engine

import (
	"context"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/core/rule"
	"ombak/internal/store"
)

// giveTasks gives users something to do for people.
func (e *Engine) giveTasks(ctx context.Context, tx store.Tx, list []doing[act.Task]) error {
	out := make([]store.NewTask, len(list))
	for i, d := range list {
		out[i] = store.NewTask{Person: d.Person, To: d.Act.To, Words: d.Act.Words, How: d.How, At: d.At}
	}
	return told(ctx, tx, out)
}

// giveAlerts tells users something about people.
func (e *Engine) giveAlerts(ctx context.Context, tx store.Tx, list []doing[act.Alert]) error {
	out := make([]store.NewTask, len(list))
	for i, d := range list {
		out[i] = store.NewTask{Person: d.Person, To: d.Act.To, Alert: true, Words: d.Act.Words, How: d.How, At: d.At}
	}
	return told(ctx, tx, out)
}

func told(ctx context.Context, tx store.Tx, list []store.NewTask) error {
	if err := tx.AddTasks(ctx, list); err != nil {
		return err
	}
	return tx.Notify(ctx, "desk")
}

// handOver hands people over who have neither an open handoff nor an open deal, in
// the order given.
func (e *Engine) handOver(ctx context.Context, tx store.Tx, list []doing[act.HandOver]) error {
	// The reps are locked first: whoever hands over, waits here.
	reps, err := tx.RepsInTurn(ctx)
	if err != nil {
		return err
	}
	owners, err := tx.Handable(ctx, people(list))
	if err != nil || len(owners) == 0 {
		return err
	}
	var out []store.NewHandoff
	for _, d := range list {
		owner, can := owners[d.Person]
		if !can {
			continue
		}
		delete(owners, d.Person)
		h := store.NewHandoff{Person: d.Person, MadeBy: d.By, At: d.At}
		if d.Way != nil {
			h.Sequence = d.Way.Sequence()
		}
		h.Rep, h.How = handoff.Route(owner, reps)
		handoff.Given(reps, h.Rep, h.At)
		out = append(out, h)
	}
	if err := e.brief(ctx, tx, out); err != nil {
		return err
	}
	if _, err := tx.AddHandoffs(ctx, out); err != nil {
		return err
	}
	return tx.Notify(ctx, "desk")
}

// brief says in each handoff why now, from the ledgers as they stand.
func (e *Engine) brief(ctx context.Context, tx store.Tx, list []store.NewHandoff) error {
	m, err := e.model(ctx, tx)
	if err != nil {
		return gone(err) // without a model of scores there is nothing to say
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
	if asksRecord(&m.Model) {
		if records, err = tx.Records(ctx, ids); err != nil {
			return err
		}
	}
	for i := range list {
		h := &list[i]
		did := signals[h.Person]
		ledger := m.Ledger(nil, did, newPersonOf(records[h.Person], did), h.At)
		h.Brief = handoff.NewBrief(&m.Model, ledger, did, h.At)
	}
	return nil
}

func (e *Engine) deskActs() {
	e.Does("task", each(e.giveTasks))
	e.Does("alert", each(e.giveAlerts))
	e.Does("hand over", each(e.handOver))
}

package flow

import (
	"context"
	"errors"

	"ombak/internal/core/act"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Whoever is written to because of a score gets the message by a sequence of one email: so what holds for emails of
// sequences holds for it, and nobody gets it twice. There is one for each message and purpose, and it can be looked at,
// held and changed as any other.

// ReadyWriter begins and launches the sequence by which a message is written, where none is there.
func (e *Flow) ReadyWriter(ctx context.Context, a act.Write, user int64) error {
	id, err := e.Store.WriterOf(ctx, a.Message, a.Purpose)
	if err == nil {
		return e.launchLeft(ctx, id, user)
	}
	if !store.IsNotFound(err) {
		return err
	}
	m, err := e.Store.Message(ctx, a.Message)
	if store.IsNotFound(err) {
		return plainly.New("the message that is to be written is not there any more")
	}
	if err != nil {
		return err
	}
	plan := e.freshPlan(sequence.NewPlan())
	plan.Ground = contact.Ground{Purpose: a.Purpose}
	if _, err := plan.Insert(&sequence.Email{Message: a.Message}, 0, ""); err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		name := person.Name("“" + m.Name + "”, by score")
		if id, err = tx.AddSequence(ctx, name, plan, e.Now()); err != nil {
			return err
		}
		if err := tx.SetSequence(ctx, id, name, "Whoever comes to a level of a score is written to by it, once.",
			store.Entry{Hand: true}, e.Now()); err != nil {
			return err
		}
		return tx.SetWriter(ctx, id, a.Message, a.Purpose)
	})
	if err != nil {
		if other, gone := e.Store.WriterOf(ctx, a.Message, a.Purpose); gone == nil { // another began it meanwhile
			return e.launchLeft(ctx, other, user)
		}
		return err
	}
	if err = e.launchLeft(ctx, id, user); err == nil {
		return nil
	}
	var unready *Unready
	if errors.As(err, &unready) {
		err = plainly.Errorf("“%s” cannot be written yet: %s", m.Name, unready.Problems[0].Text)
	}
	return errors.Join(err, e.RemoveSequence(ctx, id, false))
}

// launchLeft launches one that was begun and never launched. Where another does so at the same moment, it is launched.
func (e *Flow) launchLeft(ctx context.Context, id, user int64) error {
	for try := 0; ; try++ {
		q, err := e.Store.Sequence(ctx, id)
		if err != nil || q.State != "draft" {
			return err
		}
		if err = e.Launch(ctx, id, user); !errors.Is(err, ErrLaunchesOther) || try == 3 {
			return err
		}
	}
}

// writeOnce enters people into the sequences by which messages are written; one that is gone lets nobody in.
func (e *Flow) writeOnce(ctx context.Context, tx store.Tx, list []Doing[act.Write]) error {
	for _, group := range Grouped(list, func(d Doing[act.Write]) act.Write { return d.Act }) {
		id, err := tx.WriterOf(ctx, group[0].Act.Message, group[0].Act.Purpose)
		if store.IsNotFound(err) {
			continue
		}
		if err != nil {
			return err
		}
		into := make([]Doing[act.Enrol], len(group))
		for i, d := range group {
			into[i] = Doing[act.Enrol]{act.Enrol{Sequence: id}, d.Occasion}
		}
		if err := e.enrol(ctx, tx, into); err != nil {
			return err
		}
	}
	return nil
}

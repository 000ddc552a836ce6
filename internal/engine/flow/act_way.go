package flow

import (
	"context"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/touch"
	"ombak/internal/store"
)

// enrol enters people into running sequences; one that does not run any more lets
// nobody in.
func (e *Flow) enrol(ctx context.Context, tx store.Tx, list []Doing[act.Enrol]) error {
	for _, group := range Grouped(list, func(d Doing[act.Enrol]) int64 { return d.Act.Sequence }) {
		q, err := tx.RunningSequence(ctx, group[0].Act.Sequence)
		if err == nil {
			err = e.Enter(ctx, tx, q, Whom(group)...)
		}
		if Gone(err) != nil {
			return err
		}
	}
	return nil
}

// goOn enters people into another sequence, from the one they were on. That its entry
// allows it, the step has asked.
func (e *Flow) goOn(ctx context.Context, tx store.Tx, list []Doing[act.GoOn]) error {
	as := make([]Doing[act.Enrol], len(list))
	for i, d := range list {
		as[i] = Doing[act.Enrol]{act.Enrol{Sequence: d.Act.Sequence}, d.Occasion}
	}
	return e.enrol(ctx, tx, as)
}

// Enter enters people into a running sequence.
func (e *Flow) Enter(ctx context.Context, tx store.Tx, q store.RunningEntry, people ...int64) error {
	if _, err := tx.Enrol(ctx, &q, people, e.Now()); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Sequence.Of(q.Sequence).About(people...))
}

// write makes the emails of steps, ready to go out.
func (e *Flow) write(ctx context.Context, tx store.Tx, list []Doing[act.Send]) error {
	out := make([]store.NewTouch, len(list))
	for i, d := range list {
		out[i] = d.Way.touch(touch.Email, d.Occasion)
		out[i].Message, out[i].MessageVersion = d.Act.Message, d.Way.p.messages[d.Act.Message]
		out[i].From = d.Way.p.Plan().SenderOf(d.Way.step)
	}
	return tx.MakeTouches(ctx, out)
}

// putOnDesk makes the touches of steps that somebody has to do.
func (e *Flow) putOnDesk(ctx context.Context, tx store.Tx, list []Doing[act.Work]) error {
	out := make([]store.NewTouch, len(list))
	for i, d := range list {
		out[i] = d.Way.touch(d.Act.Of, d.Occasion)
		out[i].For, out[i].Team = d.Act.For, d.Act.Team
	}
	if err := tx.MakeTouches(ctx, out); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Desk.About(Whom(list)...))
}

// touch is what a step reaches out by.
func (w *way) touch(kind touch.Kind, o Occasion) store.NewTouch {
	t := store.NewTouch{Enrolment: w.c.ID, Sequence: w.c.Sequence, Version: w.c.Version, Person: o.Person,
		Step: w.step, Visit: int(w.visit), Kind: kind, At: o.At, Ground: w.p.Plan().GroundOf(w.step)}
	if w.c.State.Step == w.step {
		t.Due = w.c.State.Due
	}
	return t
}

// takeOffDesk takes touches off the desk that nobody took in time.
func (e *Flow) takeOffDesk(ctx context.Context, tx store.Tx, list []Doing[act.Withdraw]) error {
	out := make([]store.MissedTouch, len(list))
	for i, d := range list {
		out[i] = store.MissedTouch{Enrolment: d.Way.c.ID, Step: d.Way.step, Visit: d.Way.visit, At: d.At}
	}
	if err := tx.MissTouches(ctx, out); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Desk.About(Whom(list)...))
}

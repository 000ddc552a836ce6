package people

import (
	"context"
	"log/slog"
	"strconv"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// edits makes an executor of acts that change a record in one way each. What values says
// of an act is set for everybody it is for; nil: it cannot be done any more.
func edits[A interface {
	act.Act
	comparable
}](
	e *People, values func(ctx context.Context, tx store.Tx, a A) (person.Values, error),
) flow.Executor {
	type key struct {
		act A
		how string
	}
	return flow.Each(func(ctx context.Context, tx store.Tx, list []flow.Doing[A]) error {
		for _, group := range flow.Grouped(list, func(d flow.Doing[A]) key { return key{d.Act, d.How} }) {
			set, err := values(ctx, tx, group[0].Act)
			if err == nil && set != nil {
				_, err = e.setAll(ctx, tx, flow.Whom(group), store.BatchDetail{Set: set},
					store.Author{How: group[0].How, At: e.Now()})
			}
			if flow.Gone(err) != nil {
				return err
			}
		}
		return nil
	})
}

// setField is the values of an act that sets a field. One that does not take the value any
// more is left, and logged: it must keep nobody from going on.
func setField(ctx context.Context, tx store.Tx, a act.Set) (person.Values, error) {
	cat, err := tx.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	v, err := fieldValue(cat, a)
	if err != nil {
		slog.Warn("a step cannot set a field", "field", a.Field, "value", a.Value, "error", err)
		return nil, nil
	}
	return person.Values{rule.Field(a.Field): v}, nil
}

// CanSet reports whether a step can set a field.
func CanSet(d person.Definition) bool {
	return !d.Fixed && !d.Company && d.Type != person.EmailType && d.Type != person.PhoneType &&
		d.Field != person.Owner && d.Field != person.DoNotContact
}

// fieldValue is the value of a field as it is kept; an error that users may read where a
// step cannot set the field so.
func fieldValue(cat *rule.Catalogue, a act.Set) (string, error) {
	d, ok := cat.Define(rule.Field(a.Field))
	if !ok || !CanSet(d) {
		return "", ErrCannotSet
	}
	return d.Tidy(a.Value, "")
}

func untag(ctx context.Context, tx store.Tx, a act.Untag) (person.Values, error) {
	id, err := tx.TagID(ctx, a.Name)
	if err != nil {
		return nil, err
	}
	return person.Values{person.Mark(person.TagMark, id): ""}, nil
}

func exclude(_ context.Context, _ store.Tx, a act.Exclude) (person.Values, error) {
	return person.Values{person.Mark(person.AudienceMark, a.Audience): ""}, nil
}

func give(ctx context.Context, tx store.Tx, a act.Give) (person.Values, error) {
	name := ""
	if a.To != 0 {
		var err error
		if name, err = tx.UserName(ctx, a.To); err != nil {
			return nil, err
		}
	}
	return person.Values{person.Owner: name}, nil
}

func revoke(_ context.Context, _ store.Tx, a act.Revoke) (person.Values, error) {
	return person.Values{person.Mark(person.ConsentMark, a.Purpose): ""}, nil
}

// addNotes adds notes to people's records, by nobody in particular.
func (e *People) addNotes(ctx context.Context, tx store.Tx, list []flow.Doing[act.Note]) error {
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.Note]) act.Note { return d.Act }) {
		if err := tx.AddNotes(ctx, flow.Whom(group), group[0].Act.Words, e.Now()); err != nil {
			return err
		}
	}
	return tx.Notify(ctx, news.Person.About(flow.Whom(list)...))
}

// givePoints keeps points as signals, of the sequence and the step that gave them.
func (e *People) givePoints(ctx context.Context, tx store.Tx, list []flow.Doing[act.Points]) error {
	var signals []store.Signal
	for _, d := range list {
		s := store.Signal{Person: d.Person, Detail: strconv.Itoa(d.Act.N),
			Signal: signal.Signal{At: d.At, Kind: signal.PointsGiven, Worth: d.Act.N}}
		if d.Way != nil {
			s.Sequence, s.Step = d.Way.Sequence(), int32(d.Way.Step())
		}
		signals = append(signals, s)
	}
	return e.RecordSignals(ctx, tx, signals)
}

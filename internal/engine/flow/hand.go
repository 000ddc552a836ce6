package flow

import (
	"context"
	"fmt"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// ByHand is what somebody does by hand to people on a sequence, or to bring them there.
type ByHand struct {
	Do       HandDeed        `json:"do"`
	Sequence int64           `json:"sequence"`
	Step     sequence.StepID `json:"step,omitempty"` // to which they are moved
}

// HandDeed is one thing to do.
type HandDeed string

// What there is.
const (
	PutIn    HandDeed = "put in"
	TakeOut  HandDeed = "take out"
	HoldBack HandDeed = "hold"
	LetGo    HandDeed = "let go on"
	MoveTo   HandDeed = "move"
)

// Title says what is done, for the list of work: "take out of “Guide”".
func (x ByHand) Title(name, step string) string {
	switch x.Do {
	case PutIn:
		return "put into “" + name + "”"
	case TakeOut:
		return "take out of “" + name + "”"
	case HoldBack:
		return "hold on “" + name + "”"
	case LetGo:
		return "let go on with “" + name + "”"
	}
	return fmt.Sprintf("move to “%s” of “%s”", step, name)
}

// CheckHand reports why something cannot be done by hand, and what it is called.
func (e *Flow) CheckHand(ctx context.Context, x ByHand) (title string, err error) {
	q, err := e.Store.Sequence(ctx, x.Sequence)
	if err != nil {
		return "", err
	}
	step := ""
	switch x.Do {
	case PutIn:
		if q.State != "running" {
			return "", plainly.Errorf("“%s” does not run: nobody can be put in", q.Name)
		}
	case MoveTo:
		if q.Version == nil {
			return "", plainly.Errorf("“%s” does not run", q.Name)
		}
		v, err := e.Store.Version(ctx, *q.Version)
		if err != nil {
			return "", err
		}
		s := v.Plan.V.Step(x.Step)
		if s == nil {
			return "", plainly.New("choose the step that they are moved to")
		}
		step = s.About().Title
	case TakeOut, HoldBack, LetGo:
	default:
		return "", plainly.Errorf("nobody can do %q", string(x.Do))
	}
	return x.Title(q.Name, step), nil
}

// DoByHand does it for people, as far as it can be done for each, and answers for how many
// it was.
func (e *Flow) DoByHand(ctx context.Context, tx store.Tx, x ByHand, people []int64) (int64, error) {
	now := e.Now()
	if x.Do == PutIn {
		q, err := tx.RunningSequence(ctx, x.Sequence)
		if store.IsNotFound(err) {
			return 0, ErrNotRunning
		}
		if err != nil {
			return 0, err
		}
		n, err := tx.Enrol(ctx, &q, people, now)
		if err == nil {
			err = tx.Notify(ctx, news.Sequence.Of(x.Sequence).About(people...))
		}
		return n, err
	}
	ways, err := tx.WaysOn(ctx, x.Sequence, people)
	if err != nil || len(ways) == 0 {
		return 0, err
	}
	n := int64(len(ways))
	switch x.Do {
	case TakeOut:
		if err = tx.Leave(ctx, ways, sequence.TakenOut, now); err == nil {
			err = tx.Withdraw(ctx, ways, string(sequence.TakenOut), now)
		}
	case HoldBack:
		n, err = tx.HoldWays(ctx, ways)
	case LetGo:
		n, err = tx.LetWaysGo(ctx, ways, now)
	case MoveTo:
		if err = tx.Withdraw(ctx, ways, "moved by hand", now); err == nil {
			n, err = tx.MoveWays(ctx, ways, x.Step, now)
		}
	}
	if err != nil {
		return 0, fmt.Errorf("doing by hand (%s) on sequence %d: %w", x.Do, x.Sequence, err)
	}
	e.Nudge()
	return n, tx.Notify(ctx, news.Sequence.Of(x.Sequence).About(people...), news.Desk.About(people...))
}

// Hand does something by hand for people, in one transaction.
func (e *Flow) Hand(ctx context.Context, x ByHand, people ...int64) (n int64, err error) {
	if _, err := e.CheckHand(ctx, x); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		n, err = e.DoByHand(ctx, tx, x, people)
		return err
	})
	e.Nudge()
	return n, err
}

// TakeOut takes a person off a sequence for a reason of sequence.WhyTakenOut, by whoever the person
// belongs to, a lead or an admin.
func (e *Flow) TakeOut(ctx context.Context, person, seq, user int64, why string) error {
	reason := sequence.Reason(why)
	if !slices.Contains(sequence.WhyTakenOut(), reason) {
		return plainly.New("say why they are taken out")
	}
	now := e.Now()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		people, err := tx.PeopleByID(ctx, []int64{person})
		if err != nil {
			return err
		}
		if people[person] == nil {
			return store.ErrNotFound
		}
		if err := base.May(ctx, tx, user, people[person].OwnerID); err != nil {
			return err
		}
		ways, err := tx.WaysOn(ctx, seq, []int64{person})
		if err != nil {
			return err
		}
		if len(ways) == 0 {
			return store.ErrNotFound
		}
		if err := tx.Leave(ctx, ways, reason, now); err != nil {
			return err
		}
		if err := tx.Withdraw(ctx, ways, string(reason), now); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Sequence.Of(seq).About(person), news.Desk.About(person))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

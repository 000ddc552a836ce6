package flow

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Occasion is for whom an act is done, when and because of what.
type Occasion struct {
	Person int64
	At     time.Time
	How    string // what they did, as their history keeps it
	By     string // what made it, as a handoff keeps it: crossing, step or hand
	Way    *way   // the step that asks for it; nil: none does
	Model  int64  // whose score came to a level; 0: none did
}

// way is somebody's coming to a step.
type way struct {
	c     *store.Claimed
	p     *program
	step  sequence.StepID
	visit int32
}

// Sequence is the one whose step it is.
func (w *way) Sequence() int64 { return w.c.Sequence }

// Step is the step itself.
func (w *way) Step() sequence.StepID { return w.step }

// Deed is an act to be done.
type Deed struct {
	act.Act
	Occasion
}

// Doing is a deed whose act is an A.
type Doing[A act.Act] struct {
	Act A
	Occasion
}

// Executor does the acts of one kind, for a whole batch.
type Executor func(ctx context.Context, tx store.Tx, list []Deed) error

// Each makes an executor of what does acts of type A.
func Each[A act.Act](do func(ctx context.Context, tx store.Tx, list []Doing[A]) error) Executor {
	return func(ctx context.Context, tx store.Tx, list []Deed) error {
		own := make([]Doing[A], len(list))
		for i, d := range list {
			own[i] = Doing[A]{d.Act.(A), d.Occasion}
		}
		return do(ctx, tx, own)
	}
}

// Does has a kind of act done by an executor, from the start of the program on.
func (e *Flow) Does(word string, x Executor) {
	if act.Named(word) == nil || e.executors[word] != nil {
		panic("flow: the act " + word + " is none, or is done already")
	}
	if e.executors == nil {
		e.executors = map[string]Executor{}
	}
	e.executors[word] = x
}

// Executor is what does a kind of act; nil: nobody does.
func (e *Flow) Executor(word string) Executor { return e.executors[word] }

// Do does acts, each kind in a few statements however many people it is for. What an
// act is to be done with, and is not there any more, is passed over: a reader must
// not meet an error for it, nor somebody who stands beside.
func (e *Flow) Do(ctx context.Context, tx store.Tx, deeds []Deed) error {
	if len(deeds) == 0 {
		return nil
	}
	for _, k := range act.Kinds() {
		var own []Deed
		for _, d := range deeds {
			if d.Kind() == k {
				own = append(own, d)
			}
		}
		if len(own) == 0 {
			continue
		}
		x := e.Executor(k.Word)
		if x == nil {
			return fmt.Errorf("nobody does what is to be done (%s)", k.Word)
		}
		if err := x(ctx, tx, own); err != nil {
			return fmt.Errorf("doing what is to be done (%s): %w", k.Word, err)
		}
	}
	return nil
}

// DoFor does some acts for one person because of something they did; how says what.
func (e *Flow) DoFor(ctx context.Context, tx store.Tx, acts []act.Act, reader int64, how string) error {
	deeds := make([]Deed, len(acts))
	for i, a := range acts {
		deeds[i] = Deed{a, Occasion{Person: reader, At: e.Now(), How: how}}
	}
	return e.Do(ctx, tx, deeds)
}

// Grouped splits what is to be done by a key, the groups in the order in which they
// begin.
func Grouped[A act.Act, K comparable](list []Doing[A], key func(Doing[A]) K) (groups [][]Doing[A]) {
	at := map[K]int{}
	for _, d := range list {
		k := key(d)
		i, ok := at[k]
		if !ok {
			i = len(groups)
			at[k] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], d)
	}
	return groups
}

// Whom lists whom acts are for, each once.
func Whom[A act.Act](list []Doing[A]) []int64 {
	seen := make(map[int64]bool, len(list))
	var out []int64
	for _, d := range list {
		if !seen[d.Person] {
			seen[d.Person] = true
			out = append(out, d.Person)
		}
	}
	return out
}

// Gone lets pass that something is not there any more.
func Gone(err error) error {
	if store.IsNotFound(err) {
		return nil
	}
	return err
}

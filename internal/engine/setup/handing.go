package setup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/handoff"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
)

// ErrTurnedSince is answered to somebody who would change what somebody else has changed since they looked.
var ErrTurnedSince = plainly.New("somebody else has changed this meanwhile")

// Seen is asked whether something still is as somebody saw it when they began to change it; nil: it may be as it likes.
type Seen[T any] func(T) bool

func (s Seen[T]) check(is T) error {
	if s != nil && !s(is) {
		return ErrTurnedSince
	}
	return nil
}

// handing is to whom people are handed over, and why they are sent back: the whole of it stands in each change.
type handing struct {
	Territories []store.Territory
	Reasons     []store.BackReason
	Turns       map[int64]int // of reps
}

func readHanding(ctx context.Context, tx store.Tx) (h handing, err error) {
	if h.Territories, err = tx.Territories(ctx); err != nil {
		return h, err
	}
	if h.Reasons, err = tx.BackReasons(ctx); err != nil {
		return h, err
	}
	users, err := tx.Users(ctx)
	h.Turns = map[int64]int{}
	for _, u := range users {
		if u.Role == right.Rep {
			h.Turns[u.ID] = u.Weight
		}
	}
	return h, err
}

// changeHanding changes something of it, one user after the other, and keeps what was changed.
func (e *Setup) changeHanding(
	ctx context.Context, user int64, words string, f func(store.Tx, handing) error,
) (change int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.LockSetting(ctx, ofHanding); err != nil {
			return err
		}
		was, err := readHanding(ctx, tx)
		if err != nil {
			return err
		}
		if err := f(tx, was); err != nil {
			return err
		}
		is, err := readHanding(ctx, tx)
		if err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofHanding, Words: words}, was, is)
		return err
	})
	return change, err
}

// restoreHanding has it be as it was.
func (e *Setup) restoreHanding(ctx context.Context, tx store.Tx, doc []byte) error {
	var was handing
	if err := json.Unmarshal(doc, &was); err != nil {
		return err
	}
	if err := tx.LockSetting(ctx, ofHanding); err != nil {
		return err
	}
	is, err := readHanding(ctx, tx)
	if err != nil {
		return err
	}
	now := e.Now()
	order, err := putBack(was.Territories, is.Territories, func(t store.Territory) int64 { return t.ID },
		func(t store.Territory) error {
			_, err := tx.KeepTerritory(ctx, t, now)
			return err
		}, func(id int64, gone bool) error { return tx.RemoveTerritory(ctx, id, when(gone, now)) })
	if err != nil {
		return err
	}
	if _, err := putBack(was.Reasons, is.Reasons, func(r store.BackReason) int64 { return r.ID },
		func(r store.BackReason) error {
			_, err := tx.KeepBackReason(ctx, r, now)
			return err
		}, func(id int64, gone bool) error { return tx.RemoveBackReason(ctx, id, when(gone, now)) }); err != nil {
		return err
	}
	users := slices.Sorted(maps.Keys(was.Turns))
	weights := make([]int, len(users))
	for i, u := range users {
		weights[i] = was.Turns[u]
	}
	return errors.Join(tx.OrderTerritories(ctx, order), tx.SetWeights(ctx, users, weights))
}

// putBack has a list be as it was: what was removed since comes back, and what came since goes. It answers the ids of
// what was there.
func putBack[T any](
	was, is []T, idOf func(T) int64, keep func(T) error, remove func(id int64, gone bool) error,
) (ids []int64, err error) {
	for _, x := range was {
		id := idOf(x)
		err := keep(x)
		if ids = append(ids, id); store.IsNotFound(err) {
			if err = remove(id, false); err == nil {
				err = keep(x)
			}
		}
		if err != nil {
			return nil, err
		}
	}
	for _, x := range is {
		if !slices.Contains(ids, idOf(x)) {
			if err := remove(idOf(x), true); err != nil {
				return nil, err
			}
		}
	}
	return ids, nil
}

// when is the instant at which something goes; nil: it comes back.
func when(gone bool, now time.Time) *time.Time {
	if gone {
		return &now
	}
	return nil
}

// KeepTerritory keeps where a rule sends people; a new one has the id 0. It answers its id and the change.
func (e *Setup) KeepTerritory(
	ctx context.Context, t store.Territory, seen Seen[store.Territory], user int64,
) (id, change int64, err error) {
	t.Name = base.Cut(strings.TrimSpace(t.Name), 80)
	switch {
	case t.Name == "":
		return 0, 0, plainly.New("a territory has a name")
	case (t.User == 0) == (t.Team == 0):
		return 0, 0, plainly.New("a territory is a rep’s or a team’s")
	case !t.Rule.V.Asks():
		return 0, 0, plainly.New("a territory needs a condition: whose it is")
	}
	change, err = e.changeHanding(ctx, user, fmt.Sprintf("the territory “%s”", t.Name),
		func(tx store.Tx, _ handing) error {
			if err := checkTerritory(ctx, tx, &t); err != nil {
				return err
			}
			if t.ID != 0 {
				is, err := tx.Territory(ctx, t.ID)
				if err == nil {
					err = seen.check(is)
				}
				if err != nil {
					return err
				}
			}
			id, err = tx.KeepTerritory(ctx, t, e.Now())
			return err
		})
	return id, change, err
}

// checkTerritory asks of a territory that its rule can be asked of whoever is handed over, and that its rep is one.
func checkTerritory(ctx context.Context, tx store.Tx, t *store.Territory) error {
	cat, err := tx.Catalogue(ctx)
	if err != nil {
		return err
	}
	if err := t.Rule.V.Check(cat); err != nil {
		return err
	}
	t.Rule.V.Each(func(c *rule.Condition) {
		if c.Signal != nil {
			err = plainly.New("a territory asks for what is on the record and how they stand, and not for what " +
				"they did")
		}
	})
	if err != nil || t.User == 0 {
		return err
	}
	role, err := tx.RoleOf(ctx, t.User)
	if err == nil && role == right.Rep {
		return nil
	}
	if err := flow.Gone(err); err != nil {
		return err
	}
	return plainly.New("a territory is a rep’s or a team’s")
}

// RemoveTerritory removes a territory; back brings it back.
func (e *Setup) RemoveTerritory(ctx context.Context, id int64, back bool, user int64) error {
	words := "a territory, removed"
	at := new(e.Now())
	if back {
		words, at = "a territory, back again", nil
	}
	_, err := e.changeHanding(ctx, user, words, func(tx store.Tx, _ handing) error {
		return tx.RemoveTerritory(ctx, id, at)
	})
	return err
}

// MoveTerritory puts a territory one place up or down.
func (e *Setup) MoveTerritory(ctx context.Context, id int64, by int, user int64) error {
	_, err := e.changeHanding(ctx, user, "the order of the territories", func(tx store.Tx, is handing) error {
		var ids []int64
		for _, t := range is.Territories {
			ids = append(ids, t.ID)
		}
		i := slices.Index(ids, id)
		if j := i + by; i >= 0 && j >= 0 && j < len(ids) && (by == 1 || by == -1) {
			ids[i], ids[j] = ids[j], ids[i]
		}
		return tx.OrderTerritories(ctx, ids)
	})
	return err
}

// KeepBackReason keeps why reps send somebody back, and what follows; a new one has the id 0. It answers the change.
func (e *Setup) KeepBackReason(
	ctx context.Context, r store.BackReason, seen Seen[store.BackReason], user int64,
) (change int64, err error) {
	r.Name = base.Cut(strings.TrimSpace(r.Name), 120)
	switch {
	case r.Name == "":
		return 0, sales.ErrNoReason
	case r.CoolOff < 0 || r.CoolOff > sales.MostCoolOff:
		return 0, plainly.Errorf("the cool-off is 0 to %d days", sales.MostCoolOff)
	case r.GoesOn != store.Nowhere && r.GoesOn != store.WhereFrom && r.GoesOn != store.OnWith:
		return 0, plainly.New("nurture goes on nowhere, where they came from, or in a sequence")
	case r.GoesOn == store.OnWith && r.Sequence == 0:
		return 0, plainly.New("choose the sequence in which nurture goes on")
	case r.Step < 0:
		return 0, plainly.New("a step has a number")
	}
	if r.GoesOn != store.OnWith {
		r.Sequence = 0
	}
	return e.changeHanding(ctx, user, fmt.Sprintf("why people are sent back: “%s”", r.Name),
		func(tx store.Tx, is handing) error {
			if r.Sequence != 0 {
				if _, err := tx.Sequence(ctx, r.Sequence); err != nil {
					return err
				}
			}
			for _, x := range is.Reasons {
				if x.ID == r.ID {
					if err := seen.check(x); err != nil {
						return err
					}
				}
			}
			_, err := tx.KeepBackReason(ctx, r, e.Now())
			return err
		})
}

// RemoveBackReason removes a reason; back brings it back.
func (e *Setup) RemoveBackReason(ctx context.Context, id int64, back bool, user int64) error {
	words := "why people are sent back: a reason, removed"
	at := new(e.Now())
	if back {
		words, at = "why people are sent back: a reason, back again", nil
	}
	_, err := e.changeHanding(ctx, user, words, func(tx store.Tx, _ handing) error {
		return tx.RemoveBackReason(ctx, id, at)
	})
	return err
}

// SetWeights keeps how many turns reps have, and answers the change. Seen is asked of the turns of all reps.
func (e *Setup) SetWeights(
	ctx context.Context, users []int64, weights []int, seen Seen[map[int64]int], user int64,
) (change int64, err error) {
	for _, w := range weights {
		if w < 0 || w > handoff.MaxWeight {
			return 0, plainly.Errorf("turns are a whole number from 0 to %d", handoff.MaxWeight)
		}
	}
	return e.changeHanding(ctx, user, "turns", func(tx store.Tx, is handing) error {
		if err := seen.check(is.Turns); err != nil {
			return err
		}
		return tx.SetWeights(ctx, users, weights)
	})
}

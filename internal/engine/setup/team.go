package setup

import (
	"context"
	"fmt"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// KeepTeam keeps a team (ID 0: a new one) with its members, and answers the change.
func (e *Setup) KeepTeam(ctx context.Context, t store.Team, user int64) (change int64, err error) {
	if t.Name = person.Name(t.Name); t.Name == "" || len(t.Name) > 80 {
		return 0, plainly.New("a team has a name of at most 80 letters")
	}
	slices.Sort(t.Members)
	t.Members = slices.Compact(t.Members)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		var was store.Team
		if t.ID != 0 {
			if was, err = tx.TeamForChange(ctx, t.ID); err != nil {
				return err
			}
		}
		if t.ID, err = tx.KeepTeam(ctx, t, e.Now()); err != nil {
			return err
		}
		was.ID = t.ID
		words := fmt.Sprintf("the team “%s”", t.Name)
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofTeam, Key: fmt.Sprint(t.ID), Words: words},
			was, t)
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
	return change, err
}

// RemoveTeam removes a team; what waits for it is for anybody to take.
func (e *Setup) RemoveTeam(ctx context.Context, id, user int64) (change int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.TeamForChange(ctx, id)
		if err != nil {
			return err
		}
		if err := tx.RemoveTeam(ctx, id, e.Now()); err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofTeam, Key: fmt.Sprint(id),
			Words: fmt.Sprintf("the team “%s”, removed", was.Name)}, was, store.Team{ID: id})
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
	return change, err
}

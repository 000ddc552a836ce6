package base

import (
	"context"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/store"
)

// ErrGone is answered where something is not open any more.
var ErrGone = plainly.New("somebody else has decided this meanwhile")

// ErrNotYours is answered to somebody who would do what is another's.
var ErrNotYours = plainly.New("this is somebody else’s: only they, a lead or an admin can do it")

// May checks that a user may do what belongs to another; nil: to nobody.
func May(ctx context.Context, tx store.Tx, user int64, of *int64) error {
	role, err := tx.RoleOf(ctx, user)
	if err != nil {
		return err
	}
	owner := int64(0)
	if of != nil {
		owner = *of
	}
	if !(right.Who{ID: user, Role: role}).May(owner) {
		return ErrNotYours
	}
	return nil
}

// MayWork checks that a user may do an item of work that is still open.
func MayWork(ctx context.Context, tx store.Tx, user int64, kind store.WorkKind, id int64) error {
	of, err := tx.OwnerOfWork(ctx, kind, id)
	if store.IsNotFound(err) {
		return ErrGone
	}
	if err != nil {
		return err
	}
	if err := May(ctx, tx, user, of.User); err != nil || of.User != nil || of.Team == nil {
		return err
	}
	team, err := tx.TeamOf(ctx, user)
	if err != nil {
		return err
	}
	role, err := tx.RoleOf(ctx, user)
	if err != nil {
		return err
	}
	if !(right.Who{ID: user, Role: role, Team: team}).MayTake(*of.Team) {
		return ErrNotYours
	}
	return nil
}

// Lead checks that a user leads, or is an admin.
func Lead(ctx context.Context, tx store.Tx, user int64) error {
	role, err := tx.RoleOf(ctx, user)
	if err == nil && role != right.Lead && role != right.Admin {
		err = ErrNotYours
	}
	return err
}

package sequences

import (
	"context"

	"golang.org/x/sync/errgroup"

	"ombak/internal/store"
)

// judge finds what is wrong with a draft, what may be meant otherwise and how it differs from what runs.
func (s *Place) judge(ctx context.Context, d *sequenceData, n int) (err error) {
	if d.Problems, err = s.Engine.Problems(ctx, d.Q, d.Plan); err != nil {
		return err
	}
	if d.Warnings, err = s.Engine.Warnings(ctx, d.Q, d.Plan); err != nil {
		return err
	}
	if d.Differs, _, err = s.Engine.Differs(ctx, d.Q, d.Plan); err != nil {
		return err
	}
	d.Weighing, err = weighing(n, &d.Q.Entry.V)
	return err
}

// read reads what a map and what stands beside it choose from, and judges a draft, which is its nth, meanwhile. It
// answers the messages that there are.
func (s *Place) read(ctx context.Context, d *sequenceData, n int) ([]store.MessageName, error) {
	judging, judged := errgroup.WithContext(ctx)
	if d.Draft {
		judging.Go(func() error { return s.judge(judged, d, n) })
	}
	ids, _ := d.Plan.Events()
	events, err := s.Store.EventsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	d.dates = d.Plan.Dates(s.Engine.Zone(), events)
	if d.Events, err = s.Store.EventNames(ctx); err != nil {
		return nil, err
	}
	if d.Pages, err = s.Store.PageNames(ctx); err != nil {
		return nil, err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	d.Audiences, d.cat = cat.Audiences, cat
	if d.choices, err = s.ActChoices(ctx); err != nil {
		return nil, err
	}
	d.Senders = d.choices.Users
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return nil, err
	}
	if d.Grounds, err = s.Store.Grounds(ctx); err != nil {
		return nil, err
	}
	messages, err := s.Store.MessageNames(ctx)
	if err != nil {
		return nil, err
	}
	return messages, judging.Wait()
}

// Rehearse reads the draft of a sequence that runs, as those do who come.
func (s *Place) Rehearse(ctx context.Context) error {
	running, err := s.Store.RunningNames(ctx)
	if err != nil || len(running) == 0 {
		return err
	}
	id := running[len(running)-1].ID // of the oldest, which has grown
	d := sequenceData{Draft: true}
	if d.Q, err = s.Store.Sequence(ctx, id); err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	d.Plan = draft.Plan.V
	_, err = s.read(ctx, &d, draft.N)
	return err
}

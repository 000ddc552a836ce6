package base

import (
	"context"
	"sync/atomic"
	"time"

	"ombak/internal/store"
)

// HandClock stands still until it is moved. It is kept in the database, so
// that several processes share it and it goes on where it stood.
type HandClock struct {
	store *store.Store
	now   atomic.Pointer[time.Time]
}

// NewHandClock reads the clock, or sets it to start where there is none yet.
func NewHandClock(ctx context.Context, s *store.Store, start time.Time) (*HandClock, error) {
	c := &HandClock{store: s}
	if err := s.InitSetting(ctx, "clock", start.UTC().Truncate(time.Microsecond)); err != nil {
		return nil, err
	}
	return c, c.Refresh(ctx)
}

// Now is where the clock stands.
func (c *HandClock) Now() time.Time { return *c.now.Load() }

// Refresh reads where another process may have moved it.
func (c *HandClock) Refresh(ctx context.Context) error {
	var t time.Time
	if _, err := c.store.Setting(ctx, "clock", &t); err != nil {
		return err
	}
	t = t.UTC()
	c.now.Store(&t)
	return nil
}

// Set moves it forward; it never goes back.
func (c *HandClock) Set(ctx context.Context, t time.Time) error {
	t = t.UTC().Truncate(time.Microsecond)
	if old := c.Now(); t.Before(old) {
		t = old
	}
	if err := c.store.SetSetting(ctx, "clock", t); err != nil {
		return err
	}
	c.now.Store(&t)
	return nil
}

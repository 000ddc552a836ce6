package base

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// Kept is something that takes a while to count. A small one is counted whenever what it rests on has changed; a large
// one at most once a minute, in the background, and meanwhile the one from before is answered. The zero Kept knows
// nothing yet. It is safe for use by several goroutines.
type Kept[T any] struct {
	sync.Mutex
	known bool
	large bool
	busy  bool // it is being counted in the background
	at    time.Time
	stamp int64 // tells what it rests on from what it rested on; 0: nothing tells
	value T
}

// How long one is answered before it is counted anew: a large one, and any.
const (
	keepLarge = time.Minute
	keepAny   = time.Hour
	countFor  = time.Minute // bounds the counting in the background
)

// Get answers what count counts, and when it was counted. Equal stamps, but for 0, say that nothing has changed.
func (k *Kept[T]) Get(
	ctx context.Context, now time.Time, stamp int64, count func(context.Context) (value T, large bool, err error),
) (T, time.Time, error) {
	k.Lock()
	defer k.Unlock()
	age := now.Sub(k.at).Abs()
	if k.known && stamp != 0 && k.stamp == stamp && age <= keepAny {
		return k.value, k.at, nil
	}
	if !k.known || !k.large {
		v, large, err := count(ctx)
		if err == nil {
			k.known, k.large, k.at, k.stamp, k.value = true, large, now, stamp, v
		}
		return v, now, err
	}
	if age > keepLarge && !k.busy {
		k.busy = true
		go k.count(context.WithoutCancel(ctx), now, stamp, count)
	}
	return k.value, k.at, nil
}

// Peek answers what is known, and when it was counted, where nobody is counting just now; known says whether it is.
func (k *Kept[T]) Peek() (v T, at time.Time, known bool) {
	if !k.TryLock() {
		return v, at, false
	}
	defer k.Unlock()
	return k.value, k.at, k.known
}

func (k *Kept[T]) count(
	ctx context.Context, now time.Time, stamp int64, count func(context.Context) (T, bool, error),
) {
	ctx, cancel := context.WithTimeout(ctx, countFor)
	defer cancel()
	v, large, err := count(ctx)
	k.Lock()
	defer k.Unlock()
	if k.busy = false; err != nil {
		slog.ErrorContext(ctx, "figures were not counted anew; those from before stand", "error", err)
		return
	}
	k.large, k.at, k.stamp, k.value = large, now, stamp, v
}

// KeptBy keeps something of each of many, by what it is of. The zero KeptBy is empty.
type KeptBy[K comparable, T any] struct {
	mu sync.Mutex
	of map[K]*Kept[T]
}

// mostKept bounds of how many it is kept: of one more, all are forgotten.
const mostKept = 200

// Forget forgets all of it: somebody has changed what it is counted from, and wants to see that.
func (k *KeptBy[K, T]) Forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.of = nil
}

// Of is where it is kept of one.
func (k *KeptBy[K, T]) Of(key K) *Kept[T] {
	k.mu.Lock()
	defer k.mu.Unlock()
	one := k.of[key]
	if one == nil {
		if len(k.of) >= mostKept || k.of == nil {
			k.of = map[K]*Kept[T]{}
		}
		one = &Kept[T]{}
		k.of[key] = one
	}
	return one
}

// LargeFrom is from how many people on what counts them all is large.
const LargeFrom = 20_000

// Large reports whether there are so many people that nobody should wait for what counts them all; by an estimate that
// is looked at once a minute.
func (b *Base) Large(ctx context.Context) (bool, error) {
	large, _, err := b.large.Get(ctx, time.Now(), 0, func(ctx context.Context) (bool, bool, error) {
		n, err := b.Store.Everybody(ctx)
		return n >= LargeFrom, n >= LargeFrom, err
	})
	return large, err
}

// Lately answers what count counts of a key: where there are few people, as it is; where there are many, as it was at
// most a minute before somebody last asked.
func Lately[K comparable, T any](
	ctx context.Context, b *Base, kept *KeptBy[K, T], key K, count func(context.Context) (T, error),
) (T, error) {
	v, _, err := kept.Of(key).Get(ctx, b.Now(), 0, func(ctx context.Context) (v T, large bool, err error) {
		if large, err = b.Large(ctx); err == nil {
			v, err = count(ctx)
		}
		return v, large, err
	})
	return v, err
}

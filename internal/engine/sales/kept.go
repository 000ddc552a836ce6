package sales

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// kept is something that takes a while to count. A small one is counted whenever what it rests on has changed; a large
// one at most once a minute, in the background, and meanwhile the one from before is answered.
type kept[T any] struct {
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

// get answers what count counts, and when it was counted. Equal stamps, but for 0, say that nothing has changed.
func (k *kept[T]) get(
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

func (k *kept[T]) count(
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

package base

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"
)

// What is small is counted whenever it has changed; what is large is answered as it was, and counted anew in the
// background, once a minute at most; an error leaves what was known.
func TestKept(t *testing.T) {
	ctx := t.Context()
	var k Kept[int]
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	var mu sync.Mutex
	n, large, counted := 0, false, make(chan bool, 10)
	var fails error
	from := func(isLarge bool, err error) {
		mu.Lock()
		defer mu.Unlock()
		large, fails = isLarge, err
	}
	get := func(after time.Duration, stamp int64) int {
		t.Helper()
		v, at, err := k.Get(ctx, now.Add(after), stamp, func(context.Context) (int, bool, error) {
			mu.Lock()
			defer mu.Unlock()
			n++
			counted <- true
			return n, large, fails
		})
		if err != nil || at.After(now.Add(after)) {
			t.Fatalf("%d as of %s: %v", v, at, err)
		}
		return v
	}
	if get(0, 1) != 1 || get(0, 1) != 1 || get(time.Minute, 1) != 1 {
		t.Error("it is counted anew though nothing has changed")
	}
	if get(time.Minute, 2) != 2 || get(time.Minute, 0) != 3 || get(time.Minute, 0) != 4 {
		t.Error("it is not counted anew though something has changed")
	}
	if get(time.Minute, 7) != 5 || get(2*time.Minute+keepAny, 7) != 6 {
		t.Error("it is kept for longer than an hour")
	}
	from(true, nil)
	if get(0, 8) != 7 {
		t.Error("it is not counted before it is known to be large")
	}
	for len(counted) > 0 {
		<-counted
	}
	if get(30*time.Second, 9) != 7 || len(counted) > 0 {
		t.Error("what is large is counted twice in a minute")
	}
	if get(2*time.Minute, 9) != 7 {
		t.Error("somebody waits for what is large")
	}
	<-counted
	for get(2*time.Minute, 9) != 8 { // it comes as soon as it is counted
		time.Sleep(time.Millisecond)
	}
	from(true, errors.New("no"))
	if get(4*time.Minute, 10) != 8 {
		t.Error("an error of the background is answered")
	}
	<-counted
	from(true, nil)
	for get(5*time.Minute, 10) == 8 {
		time.Sleep(time.Millisecond)
	}
	var none Kept[int]
	if _, _, err := none.Get(ctx, now, 1, func(context.Context) (int, bool, error) {
		return 0, true, errors.New("no")
	}); err == nil {
		t.Error("an error of the first count is not answered")
	}
}

// What is kept of each of many is kept apart, and of no more than so many.
func TestKeptBy(t *testing.T) {
	var k KeptBy[int, string]
	one := k.Of(1)
	if k.Of(2) == one || k.Of(1) != one {
		t.Fatal("two share what is kept, or one has it twice")
	}
	for i := range mostKept {
		k.Of(10 + i)
	}
	if len(k.of) > mostKept {
		t.Errorf("it is kept of %d", len(k.of))
	}
}

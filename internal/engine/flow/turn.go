package flow

import (
	"sync"
	"time"

	"ombak/internal/store"
)

// turns has those who are due on other sequences be looked at between the many of one: who has waited longest comes
// first, and of a sequence that a few hundred thousand have entered all have waited longest. It is a hint of this
// process alone. The zero turns knows of no crowd.
type turns struct {
	mu    sync.Mutex
	crowd int64     // the sequence that the last batch was full of; 0: none
	after time.Time // when the others have their next turn
}

// The others have a turn twice a second, and looking for them takes at most a sixth of the time.
const (
	othersEvery = 500 * time.Millisecond
	othersShare = 5
)

// others is the crowd that is passed over now; 0: nobody is.
func (t *turns) others() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Now().Before(t.after) {
		return 0
	}
	return t.crowd
}

// had notes that the others had a turn, and how long it took to look for them.
func (t *turns) had(took time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.after = time.Now().Add(max(othersEvery, othersShare*took))
}

// claimed notes what a batch of at most n is of.
func (t *turns) claimed(list []store.Claimed, n int) {
	of, crowd := map[int64]int{}, int64(0)
	for i := range list {
		q := list[i].Sequence
		if of[q]++; of[q] >= n*9/10 {
			crowd = q
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.crowd = crowd
}

// entered is how far this process is with asking who enters each sequence by its rule: by the ids of people, from the
// first to the last. It is a hint: at the end it begins again. The zero entered is at the beginning.
type entered struct {
	mu sync.Mutex
	to map[int64]int64
}

func (e *entered) after(sequence int64) int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.to[sequence]
}

// asked notes who was found, where at most n were asked for; fewer: those were the last.
func (e *entered) asked(sequence int64, people []int64, n int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(people) < n {
		delete(e.to, sequence)
		return
	}
	if e.to == nil {
		e.to = map[int64]int64{}
	}
	e.to[sequence] = people[len(people)-1]
}

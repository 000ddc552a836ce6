// Package desk orders what a rep has to do, and reckons what can be done in time.
//
// The order is Jackson's rule (J. R. Jackson, Scheduling a production line to minimize maximum
// tardiness, 1955): the earliest due first keeps the greatest lateness as small as it can be.
// How many items can be done in time is Moore's algorithm (J. M. Moore, An n job, one machine
// sequencing algorithm for minimizing the number of late jobs, Management Science 15, 1968).
// Both know one worker who does one thing after the other.
package desk

import (
	"cmp"
	"slices"
	"time"
)

// Kind is what an item of work is.
type Kind string

// The kinds there are.
const (
	Handoff Kind = "handoff"
	Answer  Kind = "answer"
	Call    Kind = "call"
	Social  Kind = "social touch"
	Task    Kind = "task"
	Meeting Kind = "meeting"
)

// Kinds lists them, in the order in which they are shown.
func Kinds() []Kind { return []Kind{Handoff, Answer, Meeting, Call, Social, Task} }

// Known reports whether it is one of Kinds.
func (k Kind) Known() bool { return slices.Contains(Kinds(), k) }

// Item is something to do.
type Item struct {
	Kind  Kind
	ID    int64         // among those of its kind
	By    time.Time     // by when it is to be done; zero: some time
	From  time.Time     // cannot be done before; zero: can be done now
	Score float64       // the person's engagement
	Takes time.Duration // at the rep's pace
	Index int           // whatever whoever asks knows it by
}

// compare is the order of what can be done: by when, then engagement, then id.
func compare(a, b *Item) int {
	switch {
	case a.By.IsZero() != b.By.IsZero():
		if a.By.IsZero() {
			return 1
		}
		return -1
	case !a.By.Equal(b.By):
		return a.By.Compare(b.By)
	case a.Score != b.Score:
		return cmp.Compare(b.Score, a.Score)
	case a.ID != b.ID:
		return cmp.Compare(a.ID, b.ID)
	}
	return cmp.Compare(a.Kind, b.Kind)
}

// Order puts items into the order in which they are worked on: those that can be done now
// first, able of them; then the others by when they come up.
func Order(list []Item, now time.Time) (able int) {
	below := func(x *Item) bool { return x.From.After(now) }
	slices.SortFunc(list, func(a, b Item) int {
		switch {
		case below(&a) != below(&b):
			if below(&a) {
				return 1
			}
			return -1
		case below(&a) && !a.From.Equal(b.From):
			return a.From.Compare(b.From)
		}
		return compare(&a, &b)
	})
	for able < len(list) && !below(&list[able]) {
		able++
	}
	return able
}

// Late answers, in rising order, which of some items are late when as many as can be are done
// in time: due is how much working time is left for each, takes how long each takes; a due
// below zero is late already. Of equally many it is those that Moore's algorithm leaves out:
// the longest of what stands in the way, the last of them where several are as long.
func Late(due, takes []time.Duration) []int {
	order := make([]int, len(due))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(due[a], due[b]) })
	var h longest
	h.takes = takes
	var sum time.Duration
	var late []int
	for _, i := range order {
		h.push(i)
		if sum += takes[i]; sum > due[i] {
			out := h.pop()
			sum -= takes[out]
			late = append(late, out)
		}
	}
	slices.Sort(late)
	return late
}

// longest is a heap of items, the longest on top.
type longest struct {
	takes []time.Duration
	list  []int
}

func (h *longest) over(i, j int) bool {
	a, b := h.list[i], h.list[j]
	return h.takes[a] > h.takes[b] || h.takes[a] == h.takes[b] && a > b
}

func (h *longest) push(x int) {
	h.list = append(h.list, x)
	for i := len(h.list) - 1; i > 0; {
		up := (i - 1) / 2
		if !h.over(i, up) {
			return
		}
		h.list[i], h.list[up] = h.list[up], h.list[i]
		i = up
	}
}

func (h *longest) pop() int {
	top := h.list[0]
	last := len(h.list) - 1
	h.list[0] = h.list[last]
	h.list = h.list[:last]
	for i := 0; ; {
		big := i
		for _, c := range []int{2*i + 1, 2*i + 2} {
			if c < last && h.over(c, big) {
				big = c
			}
		}
		if big == i {
			return top
		}
		h.list[i], h.list[big] = h.list[big], h.list[i]
		i = big
	}
}

// Enough is how many times one's own pace is reckoned from; of fewer the usual one is taken.
const Enough = 10

// usual is how long each kind takes whoever has done fewer (common practice, no source).
var usual = map[Kind]time.Duration{Handoff: 10 * time.Minute, Answer: 8 * time.Minute, Call: 12 * time.Minute,
	Social: 4 * time.Minute, Task: 10 * time.Minute, Meeting: 30 * time.Minute}

// Usual is how long an item of a kind usually takes.
func Usual(k Kind) time.Duration { return usual[k] }

// Pace is how long an item of a kind takes somebody whom it took so long before: the median,
// of an even number the mean of the two in the middle.
func Pace(k Kind, took []time.Duration) time.Duration {
	if len(took) < Enough {
		return usual[k]
	}
	s := slices.Sorted(slices.Values(took))
	m := len(s) / 2
	if len(s)%2 == 1 {
		return s[m]
	}
	return (s[m-1] + s[m]) / 2
}

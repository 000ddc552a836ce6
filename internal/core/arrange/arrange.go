// Package arrange moves the parts of a document about: numbered things in an
// order. A part's number stays its own, wherever it stands.
package arrange

import (
	"slices"

	"ombak/internal/core/plainly"
)

// Part is a part of a document.
type Part interface{ Number() int }

// ErrGone is answered for a part that is not there.
var ErrGone = plainly.New("this part is not there any more")

// Find is where a part stands; −1 where it is not there.
func Find[T Part](list []T, number int) int {
	return slices.IndexFunc(list, func(x T) bool { return x.Number() == number })
}

// Insert puts a part behind another: before all for 0, behind all for one that
// is not there.
func Insert[T Part](list []T, x T, behind int) []T {
	at := 0
	if behind != 0 {
		if at = Find(list, behind) + 1; at == 0 {
			at = len(list)
		}
	}
	return slices.Insert(list, at, x)
}

// Remove takes a part out.
func Remove[T Part](list []T, number int) ([]T, error) {
	i := Find(list, number)
	if i < 0 {
		return list, ErrGone
	}
	return slices.Delete(list, i, i+1), nil
}

// Move moves a part by some places, as far as there are any.
func Move[T Part](list []T, number, by int) ([]T, error) {
	i := Find(list, number)
	if i < 0 {
		return list, ErrGone
	}
	x := list[i]
	to := min(max(i+by, 0), len(list)-1)
	return slices.Insert(slices.Delete(list, i, i+1), to, x), nil
}

// Order puts parts into the order of some numbers; those not named stay behind
// the others.
func Order[T Part](list []T, numbers []int) {
	place := func(x T) int {
		if i := slices.Index(numbers, x.Number()); i >= 0 {
			return i
		}
		return len(numbers)
	}
	slices.SortStableFunc(list, func(a, b T) int { return place(a) - place(b) })
}

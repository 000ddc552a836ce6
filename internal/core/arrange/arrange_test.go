package arrange

import (
	"errors"
	"fmt"
	"slices"
	"testing"
)

type part int

func (p part) Number() int { return int(p) }

func TestArranging(t *testing.T) {
	base := []part{1, 2, 3, 4}
	for _, c := range []struct {
		what string
		do   func(list []part) ([]part, error)
		want string
		gone bool
	}{
		{"before all", func(l []part) ([]part, error) { return Insert(l, 9, 0), nil }, "[9 1 2 3 4]", false},
		{"behind 2", func(l []part) ([]part, error) { return Insert(l, 9, 2), nil }, "[1 2 9 3 4]", false},
		{"behind one that is not there", func(l []part) ([]part, error) {
			return Insert(l, 9, 7), nil
		}, "[1 2 3 4 9]", false},
		{"3 out", func(l []part) ([]part, error) { return Remove(l, 3) }, "[1 2 4]", false},
		{"7 out", func(l []part) ([]part, error) { return Remove(l, 7) }, "[1 2 3 4]", true},
		{"1 down", func(l []part) ([]part, error) { return Move(l, 1, 1) }, "[2 1 3 4]", false},
		{"1 down far", func(l []part) ([]part, error) { return Move(l, 1, 99) }, "[2 3 4 1]", false},
		{"4 up far", func(l []part) ([]part, error) { return Move(l, 4, -99) }, "[4 1 2 3]", false},
		{"1 up", func(l []part) ([]part, error) { return Move(l, 1, -1) }, "[1 2 3 4]", false},
		{"7 up", func(l []part) ([]part, error) { return Move(l, 7, -1) }, "[1 2 3 4]", true},
		{"ordered", func(l []part) ([]part, error) { Order(l, []int{3, 1, 7}); return l, nil }, "[3 1 2 4]", false},
	} {
		got, err := c.do(slices.Clone(base))
		if fmt.Sprint(got) != c.want || errors.Is(err, ErrGone) != c.gone {
			t.Errorf("%s: %v, %v; want %s", c.what, got, err, c.want)
		}
	}
	if Find(base, 3) != 2 || Find(base, 7) != -1 || Find([]part(nil), 1) != -1 {
		t.Error("parts are not found where they stand")
	}
}

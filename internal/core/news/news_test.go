package news

import (
	"strings"
	"testing"
)

func TestTopics(t *testing.T) {
	var many []int64
	for i := range int64(mostNamed + 1) {
		many = append(many, i+1)
	}
	for _, c := range []struct {
		events []Item
		want   string
	}{
		{[]Item{Desk}, "desk"},
		{[]Item{Desk, Desk, Signal}, "desk signal"},
		{[]Item{Sequence.Of(7), Sequence.Of(7), Sequence.Of(8)}, "sequence:7 sequence:8"},
		{[]Item{Desk.About(12), Signal.About(12, 5)}, "about:12 about:5 desk signal"},
		{[]Item{Person.About(many[:2]...).Of(3)}, "about:1 about:2 person:3"},
		{[]Item{Score.About(many...)}, "score about:*"},
		{[]Item{Desk.About(1), Audience.AboutSomebody()}, "desk audience about:*"},
		{nil, ""},
	} {
		if got := strings.Join(Topics(c.events...), " "); got != c.want {
			t.Errorf("%v are told as %q, want %q", c.events, got, c.want)
		}
	}
	if Desk.ID != 0 || Desk.People != nil {
		t.Error("what was said of one event stays with its kind")
	}
}

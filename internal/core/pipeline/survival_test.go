package pipeline

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

const week = 7 * 24 * time.Hour

// remissions are the weeks of remission of 21 children on 6-mercaptopurine (E. J. Freireich and others, Blood 21, 1963);
// a minus: still in remission. The product-limit table of them is in the textbooks (for instance D. Collett, Modelling
// Survival Data in Medical Research; D. G. Kleinbaum and M. Klein, Survival Analysis): 0.857, 0.807, 0.753, 0.690, 0.627,
// 0.538 and 0.448, the median at 23 weeks; on placebo the median is at 8. Both from memory.
var (
	remissions = []int{6, 6, 6, -6, 7, -9, 10, -10, -11, 13, 16, -17, -19, -20, 22, 23, -25, -32, -32, -34, -35}
	placebo    = []int{1, 1, 2, 2, 3, 4, 4, 5, 5, 8, 8, 8, 8, 11, 11, 12, 12, 15, 17, 22, 23}
)

func stays(weeks []int) (out []Stay) {
	for _, w := range weeks {
		s := Stay{time.Duration(w) * week, Won}
		if w < 0 {
			s = Stay{time.Duration(-w) * week, GoesOn}
		}
		out = append(out, s)
	}
	return out
}

func TestStayingOfFreireich(t *testing.T) {
	c := Staying(stays(remissions))
	want := map[int]float64{5: 1, 6: 0.857, 7: 0.807, 10: 0.753, 13: 0.690, 16: 0.627, 22: 0.538, 23: 0.448, 35: 0.448}
	for w, s := range want {
		if got := c.At(time.Duration(w) * week); math.Abs(got-s) > 0.0005 {
			t.Errorf("after %d weeks %.4f, want %.3f", w, got, s)
		}
	}
	if m, ok := c.Median(); !ok || m != 23*week || len(c.Steps) != 7 {
		t.Errorf("the median is %v, in %d steps", m, len(c.Steps))
	}
	c = Staying(stays(placebo))
	if m, ok := c.Median(); !ok || m != 8*week || c.Last() != 0 {
		t.Errorf("on placebo: %v, %v", m, c.Last())
	}
	if _, ok := Staying(nil).Median(); ok || Staying(nil).Last() != 1 {
		t.Error("of nothing something")
	}
}

// Stays of one, two, three (which goes on) and four weeks, by hand: 1/4 won at once; 3/4 · 1/3 lost; then half are
// left, and of the one that is still there it all is won.
func TestIncidenceByHand(t *testing.T) {
	list := []Stay{{4 * week, Won}, {3 * week, GoesOn}, {week, Won}, {2 * week, Lost}}
	won, lost := Incidence(list, Won), Incidence(list, Lost)
	for w, want := range [][2]float64{{0, 0}, {0.25, 0}, {0.25, 0.25}, {0.25, 0.25}, {0.75, 0.25}} {
		at := time.Duration(w) * week
		if math.Abs(won.At(at)-want[0]) > 1e-12 || math.Abs(lost.At(at)-want[1]) > 1e-12 {
			t.Errorf("after %d weeks %v and %v, want %v", w, won.At(at), lost.At(at), want)
		}
	}
}

// redistributed is the incidence in another way (B. Efron, 1967): everybody has the same weight, and whoever goes on
// hands theirs to all that stay longer.
func redistributed(list []Stay, of End, at time.Duration) float64 {
	list = sorted(list)
	weight := make([]float64, len(list))
	for i := range weight {
		weight[i] = 1 / float64(len(list))
	}
	sum := 0.0
	for i, s := range list {
		if s.End == GoesOn {
			for j := i + 1; j < len(list); j++ {
				weight[j] += weight[i] / float64(len(list)-i-1)
			}
			continue
		}
		if s.End == of && s.For <= at {
			sum += weight[i]
		}
	}
	return sum
}

// The incidences of all ends and the share that goes on make one at every age; where nothing goes on they are the plain
// shares; and another way comes to the same.
func TestIncidenceAgainstAnotherWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 78))
	for n := range 600 {
		var list []Stay
		open := n%3 > 0
		for range 1 + rnd.IntN(25) {
			s := Stay{time.Duration(rnd.IntN(9)) * week, []End{Won, Lost, MovedOn}[rnd.IntN(3)]}
			if open && rnd.IntN(3) == 0 {
				s.End = GoesOn
			}
			list = append(list, s)
		}
		staying := Staying(list)
		for w := range 10 {
			at, sum := time.Duration(w)*week, 0.0
			for _, end := range []End{Won, Lost, MovedOn} {
				got := Incidence(list, end).At(at)
				sum += got
				if want := redistributed(list, end, at); math.Abs(got-want) > 1e-9 {
					t.Fatalf("after %d weeks %v, another way %v\n%+v", w, got, want, list)
				}
				if !open {
					plain := 0
					for _, s := range list {
						if s.End == end && s.For <= at {
							plain++
						}
					}
					if want := float64(plain) / float64(len(list)); math.Abs(got-want) > 1e-9 {
						t.Fatalf("after %d weeks %v, the plain share is %v", w, got, want)
					}
				}
			}
			if math.Abs(sum+staying.At(at)-1) > 1e-9 {
				t.Fatalf("after %d weeks the ends and what goes on make %v\n%+v", w, sum+staying.At(at), list)
			}
		}
	}
}

// With fewer than 20 deals the admin's figure counts as 20 of them.
func TestChance(t *testing.T) {
	won, lost := Stay{week, Won}, Stay{week, Lost}
	some := func(n int, of ...Stay) (out []Stay) {
		for range n {
			out = append(out, of...)
		}
		return out
	}
	for name, c := range map[string]struct {
		list  []Stay
		admin int
		want  float64
	}{
		"nothing is known":       {nil, 30, 0.3},
		"one that was won":       {some(1, won), 30, (20*0.3 + 1) / 21},
		"19, all won":            {some(19, won), 10, (20*0.1 + 19) / 39},
		"20, a half":             {some(10, won, lost), 90, 0.5},
		"many, a quarter":        {some(25, won, lost, lost, lost), 90, 0.25},
		"none is decided of few": {some(5, Stay{week, GoesOn}), 50, 20 * 0.5 / 25},
	} {
		if got := ChanceOf(c.list, c.admin); math.Abs(got.Share-c.want) > 1e-9 || got.Deals != len(c.list) {
			t.Errorf("%s: %+v, want %v", name, got, c.want)
		}
	}
	if got := ChanceOf([]Stay{won, {2 * week, GoesOn}}, 0); math.Abs(got.Known-0.5) > 1e-9 || math.Abs(got.Open-0.5) > 1e-9 {
		t.Errorf("one won, one open: %+v", got)
	}
	if q := Quantile([]time.Duration{5, 1, 4, 2, 3}, 0.8); q != 4 || Quantile(nil, 0.8) != 0 {
		t.Errorf("the 80th percentile of 1 to 5 is %d", q)
	}
}

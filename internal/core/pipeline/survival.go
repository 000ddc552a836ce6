package pipeline

import (
	"math"
	"slices"
	"time"
)

// Stay is for how long something stood, and how that ended.
type Stay struct {
	For time.Duration
	End End
}

// End is how a stay ended.
type End int

// The ends. A stay that goes on is not known yet: it was at least so long.
const (
	GoesOn End = iota
	Won
	Lost
	MovedOn // to another stage; of stays in one stage alone
)

// Point is a level from an instant of the curve on.
type Point struct {
	At    time.Duration
	Level float64
}

// Curve is a level that falls or rises in steps; before the first it is where it began.
type Curve struct {
	Begins float64
	Steps  []Point
}

// At is the level at an age.
func (c Curve) At(t time.Duration) float64 {
	v := c.Begins
	for _, p := range c.Steps {
		if p.At > t {
			break
		}
		v = p.Level
	}
	return v
}

// Last is the level at the end of what is known.
func (c Curve) Last() float64 {
	if len(c.Steps) == 0 {
		return c.Begins
	}
	return c.Steps[len(c.Steps)-1].Level
}

// sorted are the stays in their order: of one length those that ended first, for what goes on was there at that
// instant.
func sorted(list []Stay) []Stay {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b Stay) int {
		switch {
		case a.For != b.For:
			return int(min(max(a.For-b.For, -1), 1))
		case a.End == GoesOn && b.End != GoesOn:
			return 1
		case b.End == GoesOn && a.End != GoesOn:
			return -1
		}
		return 0
	})
	return out
}

// Staying is the share that stays longer than an age, by the product-limit estimate (E. L. Kaplan and P. Meier, 1958):
// a stay that goes on is known to have been that long, and no more.
func Staying(list []Stay) Curve {
	list = sorted(list)
	c := Curve{Begins: 1}
	s := 1.0
	for i := 0; i < len(list); {
		j, ended := i, 0
		for ; j < len(list) && list[j].For == list[i].For; j++ {
			if list[j].End != GoesOn {
				ended++
			}
		}
		if ended > 0 {
			s *= 1 - float64(ended)/float64(len(list)-i)
			c.Steps = append(c.Steps, Point{list[i].For, s})
		}
		i = j
	}
	return c
}

// Median is the first age that at most half stay longer than; false: more than half still do at the end of what is
// known.
func (c Curve) Median() (time.Duration, bool) {
	for _, p := range c.Steps {
		if p.Level <= 0.5+1e-12 {
			return p.At, true
		}
	}
	return 0, false
}

// Incidence is, by age, the share for whom a stay has ended in one way, where it can end in others as well (O. Aalen
// and S. Johansen, 1978): the chance to have stayed so long, times that of this end then, summed up. What goes on is
// not yet decided.
func Incidence(list []Stay, of End) Curve {
	list = sorted(list)
	c := Curve{}
	s, sum := 1.0, 0.0
	for i := 0; i < len(list); {
		j, ended, such := i, 0, 0
		for ; j < len(list) && list[j].For == list[i].For; j++ {
			if list[j].End != GoesOn {
				ended++
			}
			if list[j].End == of {
				such++
			}
		}
		n := float64(len(list) - i)
		if such > 0 {
			sum += s * float64(such) / n
			c.Steps = append(c.Steps, Point{list[i].For, sum})
		}
		s *= 1 - float64(ended)/n
		i = j
	}
	return c
}

// usualDeals is as how many deals an admin's figure counts beside what is known.
const usualDeals = 20

// Chance is how likely a deal that once is in a stage is won in the end.
type Chance struct {
	Share float64 // 0 to 1
	Deals int     // that it rests on
	Known float64 // the incidence of won alone
	Open  float64 // the share that is not decided yet
}

// ChanceOf estimates a stage's chance from what became of the deals that once came into it, each counted from then on.
// With fewer than 20 of them the admin's figure (in per cent) is weighed in as 20 deals.
func ChanceOf(list []Stay, admin int) Chance {
	c := Chance{Deals: len(list), Known: Incidence(list, Won).Last(), Open: Staying(list).Last(),
		Share: float64(admin) / 100}
	switch n := float64(len(list)); {
	case n >= usualDeals:
		c.Share = c.Known
	case n > 0:
		c.Share = (usualDeals*float64(admin)/100 + n*c.Known) / (usualDeals + n)
	}
	return c
}

// Quantile is the smallest of some lengths of time that at least a share p of them is not above; 0 of none.
func Quantile(list []time.Duration, p float64) time.Duration {
	if len(list) == 0 {
		return 0
	}
	list = slices.Clone(list)
	slices.Sort(list)
	return list[min(max(int(math.Ceil(p*float64(len(list))-1e-9)), 1), len(list))-1]
}

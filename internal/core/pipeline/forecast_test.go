package pipeline

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// exact is the distribution of the sum of deals, told from every way in which they can be won or lost.
func exact(amounts []int64, chances []float64) map[int64]float64 {
	out := map[int64]float64{0: 1}
	for i, p := range chances {
		next := map[int64]float64{}
		for sum, w := range out {
			next[sum+amounts[i]] += w * p
			next[sum] += w * (1 - p)
		}
		out = next
	}
	return out
}

func below(dist map[int64]float64, v int64, with bool) (sum float64) {
	for x, w := range dist {
		if x < v || with && x == v {
			sum += w
		}
	}
	return sum
}

// The range of small forecasts holds what the exact distribution says: a tenth lies below it, and a tenth above, as near
// as 2,000 draws come to it (four standard errors: 2.7 points).
func TestExpectAgainstEveryWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 80))
	for range 200 {
		var list []Prospect
		var amounts []int64
		var chances []float64
		mean := 0.0
		for range 1 + rnd.IntN(11) {
			p := Prospect{int64(1+rnd.IntN(9)) * 1000, rnd.Float64(), []float64{rnd.Float64() / 2, rnd.Float64() / 2}}
			list, amounts = append(list, p), append(amounts, p.Amount)
			chances = append(chances, p.Chance*p.Months[1])
			mean += float64(p.Amount) * p.Chance * p.Months[1]
		}
		got := Expect(list, 3)
		e, dist := got[1], exact(amounts, chances)
		if math.Abs(float64(e.Sum)-mean) > 0.5 || e.Deals != len(list) || got[2].Deals != 0 || got[2].High != 0 {
			t.Fatalf("expected %+v, by every way %v", e, mean)
		}
		if below(dist, e.Low, true) < 0.1-0.027 || below(dist, e.Low, false) > 0.1+0.027 ||
			below(dist, e.High, true) < 0.9-0.027 || below(dist, e.High, false) > 0.9+0.027 {
			t.Fatalf("from %d (%.3f below, %.3f with it) to %d (%.3f, %.3f)", e.Low, below(dist, e.Low, false),
				below(dist, e.Low, true), e.High, below(dist, e.High, false), below(dist, e.High, true))
		}
		if again := Expect(list, 3); again[1] != e {
			t.Fatal("equal deals give another forecast")
		}
	}
}

// Of very many deals the range is the normal one, held against the exact distribution: deals of one worth are a binomial.
func TestExpectOfMany(t *testing.T) {
	const n, p = 400, 0.3
	var list []Prospect
	for range n {
		list = append(list, Prospect{100, p, []float64{1}})
	}
	e := Expect(list, 1)[0]
	cdf := func(k int) (sum float64) {
		for i := range k + 1 {
			a, _ := math.Lgamma(n + 1)
			b, _ := math.Lgamma(float64(i) + 1)
			c, _ := math.Lgamma(float64(n-i) + 1)
			sum += math.Exp(a - b - c + float64(i)*math.Log(p) + float64(n-i)*math.Log(1-p))
		}
		return sum
	}
	if e.Sum != n*100*3/10 || math.Abs(cdf(int(e.Low/100))-0.1) > 0.03 || math.Abs(cdf(int(e.High/100))-0.9) > 0.03 {
		t.Errorf("%+v: %.3f lie below it, %.3f up to its end", e, cdf(int(e.Low/100)), cdf(int(e.High/100)))
	}
}

func TestWhen(t *testing.T) {
	zone := time.FixedZone("east", 7*3600)
	now := time.Date(2026, 11, 30, 20, 0, 0, 0, time.UTC) // 1 December there
	day := func(m time.Month, d int) *time.Time { x := time.Date(2027, m, d, 0, 0, 0, 0, time.UTC); return &x }
	past := now.AddDate(0, -3, 0)
	days := func(list ...int) (out []time.Duration) {
		for _, d := range list {
			out = append(out, time.Duration(d)*24*time.Hour)
		}
		return out
	}
	for name, c := range map[string]struct {
		expected *time.Time
		age      int
		took     []time.Duration
		want     []float64
	}{
		"expected in January":              {day(1, 31), 0, nil, []float64{0, 1, 0}},
		"expected beyond the months":       {day(3, 1), 0, nil, []float64{0, 0, 0}},
		"expected in the past":             {&past, 0, nil, []float64{1, 0, 0}},
		"by what others took":              {nil, 0, days(10, 40, 40, 400), []float64{0.25, 0.5, 0}},
		"of those that took longer so far": {nil, 35, days(10, 40, 40, 400), []float64{2.0 / 3, 0, 0}},
		"nothing is known":                 {nil, 35, days(10), []float64{1.0 / 3, 1.0 / 3, 1.0 / 3}},
	} {
		got := When(3, now, zone, c.expected, time.Duration(c.age)*24*time.Hour, c.took)
		for i := range got {
			if math.Abs(got[i]-c.want[i]) > 1e-9 {
				t.Errorf("%s: %v, want %v", name, got, c.want)
				break
			}
		}
	}
	if len(When(0, now, zone, nil, 0, nil)) != 0 {
		t.Error("no month has a chance")
	}
	if m := (Month{2026, 11}).Add(3); m != (Month{2027, 2}) || m.Since(Month{2026, 11}) != 3 {
		t.Errorf("three months after November is %v", m)
	}
}

// When is the same as looking at every deal that was won, one by one, also where a month begins at an hour that a zone
// leaves out.
func TestWhenAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(82, 1))
	for _, name := range []string{"UTC", "Europe/Oslo", "Asia/Jakarta", "America/Santiago", "Asia/Beirut"} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		for range 300 {
			now := time.Date(2019+rnd.IntN(9), time.Month(1+rnd.IntN(12)), 1+rnd.IntN(31), rnd.IntN(24), rnd.IntN(60), 0, 0,
				time.UTC)
			months := 1 + rnd.IntN(7)
			age := time.Duration(rnd.IntN(90)) * 24 * time.Hour
			var took []time.Duration
			for range rnd.IntN(12) {
				d := age + time.Duration(rnd.IntN(200)-20)*24*time.Hour
				switch first := MonthOf(now, zone).Add(rnd.IntN(6)); rnd.IntN(3) {
				case 0: // at the edge of a month
					d = time.Date(first.Year, first.Month, 1, 0, 0, 0, 0, zone).Sub(now) + age +
						time.Duration(rnd.IntN(3)-1)*time.Nanosecond
				case 1: // as long as the deal has been there
					d = age
				}
				took = append(took, d)
			}
			slices.Sort(took)
			want, longer := make([]float64, months), 0
			for _, d := range took {
				if d > age {
					longer++
					if n := MonthOf(now.Add(d-age), zone).Since(MonthOf(now, zone)); n < months {
						want[n]++
					}
				}
			}
			got := When(months, now, zone, nil, age, took)
			for i := range want {
				if want[i] /= float64(longer); longer == 0 {
					want[i] = 1 / float64(months)
				}
				if math.Abs(got[i]-want[i]) > 1e-12 {
					t.Fatalf("%s, %s, %v of %v: %v, plainly %v", name, now, age, took, got, want)
				}
			}
		}
	}
}

package pipeline

import (
	"strings"
	"testing"
)

func TestForecast(t *testing.T) {
	stages := []Stage{{ID: 1, Name: "Accepted", Share: 10}, {ID: 2, Name: "Trial", Share: 50},
		{ID: 3, Name: "Won", Share: 100, Won: true}, {ID: 4, Lost: true}}
	columns, promised := Forecast(stages, []Sum{{1, 1, 1000}, {1, 1, 2000}, {2, 1, 1000}, {3, 1, 9000}, {4, 1, 7000}, {99, 1, 5}})
	if promised != 800 { // 3000 at 10 % and 1000 at 50 %: what is won or lost is no promise
		t.Errorf("promised %d", promised)
	}
	if c := columns[0]; c.Deals != 2 || c.Amount != 3000 {
		t.Errorf("first stage: %+v", c)
	}
	if c := columns[2]; c.Deals != 1 || c.Amount != 9000 {
		t.Errorf("won: %+v", c)
	}
}

func TestStagesThatCannotBe(t *testing.T) {
	for _, c := range []struct {
		s    Stage
		want string
	}{
		{Stage{Name: "Trial"}, ""}, {Stage{Name: "Trial", Share: 100}, ""}, {Stage{Name: "Won", Won: true}, ""},
		{Stage{}, "a stage has a name"},
		{Stage{Name: strings.Repeat("x", 81)}, "a stage’s name has at most 80 letters"},
		{Stage{Name: "Trial", Share: -1}, "a stage’s chance is a whole number from 0 to 100 %"},
		{Stage{Name: "Trial", Share: 101}, "a stage’s chance is a whole number from 0 to 100 %"},
		{Stage{Name: "Trial", Won: true, Lost: true}, "a stage is won or lost, not both"},
		{Stage{Name: "Lost", Lost: true, Nurture: 3, After: 90}, ""},
		{Stage{Name: "Trial", Nurture: 3}, "only whoever is lost comes back to nurture"},
		{Stage{Name: "Lost", Lost: true, After: -1}, "whoever is lost comes back after 0 to 3660 days"},
	} {
		got := ""
		if err := c.s.Check(); err != nil {
			got = err.Error()
		}
		if got != c.want || c.s.Closed() != (c.s.Won || c.s.Lost) {
			t.Errorf("%+v: %q, want %q", c.s, got, c.want)
		}
	}
}

// Currencies and how many decimals each has: ISO 4217, from memory; of the rupiah, whose
// hundredth nobody uses, CLDR has none.
func TestCurrencies(t *testing.T) {
	for code, digits := range map[string]int{"EUR": 2, "JPY": 0, "KWD": 3, "NOK": 2, "IDR": 0, "no": 2} {
		if got := Digits(code); got != digits {
			t.Errorf("%s has %d decimals, want %d", code, got, digits)
		}
		if KnownCurrency(code) != (code != "no") || KnownCurrency(strings.ToLower(code)) {
			t.Errorf("%s is known: %v; in small letters %v", code, KnownCurrency(code), KnownCurrency("eur"))
		}
	}
}

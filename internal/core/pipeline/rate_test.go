package pipeline

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
)

func rated(currency, base, day, value string) Rate {
	var y, m, d int
	fmt.Sscanf(day, "%d-%d-%d", &y, &m, &d)
	return Rate{currency, base, calendar.Date{Year: y, Month: time.Month(m), Day: d}, value}
}

// Minor units and digits are those of ISO 4217: the krone has two, the yen none, the dinar of Bahrain three. The rates
// are invented. Halves are rounded away from zero (common practice, no source).
func TestWorth(t *testing.T) {
	list := []Rate{rated("NOK", "EUR", "2026-01-10", "0.0865"), rated("NOK", "EUR", "2026-03-01", "0.09"),
		rated("JPY", "EUR", "2026-01-01", "0.0061"), rated("BHD", "EUR", "2026-01-01", "2.45"),
		rated("EUR", "JPY", "2026-01-01", "163.5"), rated("NOK", "EUR", "2026-02-01", "0.085")}
	for _, x := range []struct {
		amount         int64
		currency, base string
		day            string
		want           int64
		known          bool
	}{
		{12_500_00, "EUR", "EUR", "2026-04-14", 12_500_00, true},
		{1_000_00, "NOK", "EUR", "2026-01-10", 86_50, true},
		{1_000_00, "NOK", "EUR", "2026-01-31", 86_50, true},
		{1_000_00, "NOK", "EUR", "2026-02-01", 85_00, true},
		{1_000_00, "NOK", "EUR", "2026-04-14", 90_00, true},
		{1_000_00, "NOK", "EUR", "2025-12-31", 86_50, true}, // before the first: by the first
		{10_000, "JPY", "EUR", "2026-04-14", 61_00, true},   // of no digits into two
		{100_00, "EUR", "JPY", "2026-04-14", 16_350, true},  // and back
		{1_000, "BHD", "EUR", "2026-04-14", 2_45, true},     // of three digits
		{30, "NOK", "EUR", "2026-04-14", 3, true},           // 2.7
		{5, "NOK", "EUR", "2026-02-02", 0, true},            // 0.425
		{100, "USD", "EUR", "2026-04-14", 0, false},
		{100, "NOK", "USD", "2026-04-14", 0, false},
	} {
		got, known := Worth(x.amount, x.currency, x.base, list, rated("", "", x.day, "").Day)
		if got != x.want || known != x.known {
			t.Errorf("%d %s in %s on %s: %d, %v", x.amount, x.currency, x.base, x.day, got, known)
		}
	}
	if got, _ := Worth(100, "NOK", "EUR", []Rate{rated("NOK", "EUR", "2026-01-01", "0.005")},
		rated("", "", "2026-02-01", "").Day); got != 1 { // a half
		t.Errorf("half a cent is %d", got)
	}
	if got, _ := Worth(-100, "NOK", "EUR", []Rate{rated("NOK", "EUR", "2026-01-01", "0.005")},
		rated("", "", "2026-02-01", "").Day); got != -1 {
		t.Errorf("half a cent owed is %d", got)
	}
}

// TestWorthAgainstThePlainWay holds it against long multiplication of whole numbers, on generated rates: a rate is its
// digits and how many of them are decimals.
func TestWorthAgainstThePlainWay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(61, 4))
	codes := []string{"EUR", "NOK", "JPY", "BHD", "AUD"}
	for range 3000 {
		from, to := codes[rnd.IntN(5)], codes[rnd.IntN(5)]
		decimals := rnd.IntN(7)
		digits := 1 + rnd.Int64N(2_000_000)
		text := fmt.Sprintf("%0*d", decimals+1, digits)
		text = text[:len(text)-decimals] + "." + text[len(text)-decimals:]
		amount := rnd.Int64N(1_000_000_000)
		got, known := Worth(amount, from, to, []Rate{rated(from, to, "2026-01-01", strings.TrimSuffix(text, "."))},
			calendar.Date{Year: 2026, Month: 4, Day: 14})
		want := amount
		if from != to {
			// amount · digits · 10^(to − from − decimals), a half up.
			n := new(big.Int).Mul(big.NewInt(amount), big.NewInt(digits))
			shift := Digits(to) - Digits(from) - decimals
			if shift >= 0 {
				n.Mul(n, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(shift)), nil))
			} else {
				p := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(-shift)), nil)
				n.Add(n, new(big.Int).Div(p, big.NewInt(2)))
				n.Div(n, p)
			}
			want = n.Int64()
		}
		if !known || got != want {
			t.Fatalf("%d %s at %s in %s: %d, want %d", amount, from, text, to, got, want)
		}
	}
}

func TestRatesThatCannotBe(t *testing.T) {
	today := calendar.Date{Year: 2026, Month: 4, Day: 14}
	for _, x := range []struct {
		r  Rate
		ok bool
	}{
		{rated("nok ", "EUR", "2026-04-14", " 0,0865 "), true},
		{rated("NOK", "EUR", "1990-01-01", "1000000000"), true},
		{rated("NOK", "EUR", "2026-04-15", "0.0865"), false},
		{rated("NOK", "EUR", "1989-12-31", "0.0865"), false},
		{rated("EUR", "EUR", "2026-04-14", "1"), false},
		{rated("XQZ", "EUR", "2026-04-14", "1"), false},
		{rated("NOK", "EUR", "2026-04-14", "0"), false},
		{rated("NOK", "EUR", "2026-04-14", "-1"), false},
		{rated("NOK", "EUR", "2026-04-14", "1/3"), false},
		{rated("NOK", "EUR", "2026-04-14", "1e9"), false},
		{rated("NOK", "EUR", "2026-04-14", "0x1"), false},
		{rated("NOK", "EUR", "2026-04-14", ""), false},
		{rated("NOK", "EUR", "2026-04-14", "1,000.5"), false},
		{rated("NOK", "EUR", "2026-04-14", "1000000000.1"), false},
		{rated("NOK", "EUR", "2026-04-14", "0.00000000001"), false},
	} {
		if err := x.r.Check(today); (err == nil) != x.ok {
			t.Errorf("%+v: %v", x.r, err)
		}
	}
}

func TestPartsAndPipelines(t *testing.T) {
	for _, p := range Parts() {
		if p.Check() != nil || p.String() == "" || Part(p.Key()) != p {
			t.Errorf("%q is no part", p)
		}
	}
	if Part("signs").Check() == nil {
		t.Error("any word is a part")
	}
	if (Pipeline{Name: "Sales"}).Check() != nil || (Pipeline{}).Check() == nil ||
		(Pipeline{Name: strings.Repeat("x", 81)}).Check() == nil {
		t.Error("what a pipeline is called")
	}
	for _, x := range []struct {
		minor    int64
		currency string
		want     string
	}{{12_500_50, "EUR", "12500.50"}, {5, "EUR", "0.05"}, {-5, "EUR", "-0.05"}, {12, "JPY", "12"}, {0, "JPY", "0"},
		{1234, "BHD", "1.234"}} {
		if got := Decimal(x.minor, x.currency); got != x.want {
			t.Errorf("%d %s is written %s", x.minor, x.currency, got)
		}
		if back, err := ParseAmount(strings.TrimPrefix(x.want, "-"), x.currency); x.currency != "BHD" && (err != nil ||
			back != max(x.minor, -x.minor)) {
			t.Errorf("%s %s is read as %d, %v", x.want, x.currency, back, err)
		}
	}
}

package pipeline

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// How amounts are written in several countries: CLDR's number patterns, from
// memory; minor units by ISO 4217.
func TestParseAmount(t *testing.T) {
	const no = -1
	for _, c := range []struct {
		text, code string
		want       int64
	}{
		{"12500", "EUR", 1250000}, {"12,500", "EUR", 1250000}, {"12.500", "EUR", 1250000}, {"12 500", "EUR", 1250000},
		{"12\u202f500,5", "EUR", 1250050},
		{"12.500,50", "EUR", 1250050}, {"12,500.50", "EUR", 1250050}, {"12'500.50", "CHF", 1250050},
		{"12’500", "CHF", 1250000}, {"1.234.567", "EUR", 123456700},
		{"1,234,567.8", "USD", 123456780}, {"0,99", "EUR", 99}, {"0.9", "EUR", 90}, {"€ 12.500,50", "EUR", 1250050},
		{"12 500,00 kr", "NOK", 1250000}, {"EUR 7", "EUR", 700},
		{"£1,000", "GBP", 100000}, {"12,500", "JPY", 12500}, {"12500", "JPY", 12500}, {"12.5", "KWD", 12500},
		{"1.234,567", "KWD", 1234567}, {" 5 ", "EUR", 500},
		{"12.5000", "EUR", no}, {"1,23,456", "EUR", no}, {"1.234,567", "EUR", no}, {"12,5", "JPY", no},
		{"12,500", "KWD", no}, {"", "EUR", no}, {"abc", "EUR", no},
		{"-5", "EUR", no}, {"1e5", "EUR", no}, {"NaN", "EUR", no}, {"12..5", "EUR", no}, {".5", "EUR", no},
		{"5.", "EUR", no}, {"1.234,567.89", "EUR", no}, {"1234,567", "EUR", no},
		{"99999999999999999999", "EUR", no}, {"10.000.000.001", "EUR", no}, {"10.000.000.000", "EUR", 1000000000000},
	} {
		got, err := ParseAmount(c.text, c.code)
		if err != nil {
			got = no
		}
		if got != c.want {
			t.Errorf("%q in %s is %d, %v; want %d", c.text, c.code, got, err, c.want)
		}
	}
}

// What is written comes back, with either mark for decimals.
func TestAmountsComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(26, 1))
	for range 5000 {
		code := []string{"EUR", "JPY", "KWD", "USD"}[r.IntN(4)]
		n := r.Int64N([]int64{10, 10_000, 100_000_000}[r.IntN(3)])
		s := Amount(n, code)
		swapped := strings.NewReplacer(",", ".", ".", ",").Replace(s)
		for _, text := range []string{s, swapped} {
			got, err := ParseAmount(text, code)
			if ambiguous := code == "KWD" && strings.Count(s, ",")+strings.Count(s, ".") == 1; err != nil && ambiguous {
				continue
			}
			if err != nil || got != n {
				t.Fatalf("%d %s is %q, and %q is read as %d, %v", n, code, s, text, got, err)
			}
		}
	}
}

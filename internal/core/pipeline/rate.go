package pipeline

import (
	"math/big"
	"slices"
	"strings"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Rate says what one unit of a currency is worth in another from a day on, as a decimal number.
type Rate struct {
	Currency string
	Base     string
	Day      calendar.Date
	Value    string
}

// MaxRates is how many rates are kept at most.
const MaxRates = 20_000

// Check tidies a rate and reports what of it cannot be, or nil. Today is the last day for which one can be given: a
// rate of tomorrow would change sums without anybody's doing.
func (r *Rate) Check(today calendar.Date) error {
	r.Currency, r.Value = strings.ToUpper(strings.TrimSpace(r.Currency)), strings.TrimSpace(r.Value)
	v, ok := ratio(r.Value)
	switch {
	case !KnownCurrency(r.Currency):
		return plainly.New("a currency is a code of three letters, such as NOK")
	case r.Currency == r.Base:
		return plainly.Errorf("%s is what everything is counted in: it needs no rate", r.Base)
	case !ok || v.Sign() <= 0 || v.Cmp(big.NewRat(1_000_000_000, 1)) > 0:
		return plainly.Errorf("“%s” is no rate: it is a number above zero, such as 0.0865", r.Value)
	case r.Day.Compare(today) > 0:
		return plainly.New("a rate is that of today or of a day before")
	case r.Day.Compare(calendar.Date{Year: 1990, Month: 1, Day: 1}) < 0:
		return plainly.New("a rate is of 1990 or later")
	}
	return nil
}

// ratio reads a decimal number of at most ten decimals, with a point or a comma.
func ratio(text string) (*big.Rat, bool) {
	text = strings.Replace(text, ",", ".", 1)
	whole, decimals, _ := strings.Cut(text, ".")
	if len(whole)+len(decimals) == 0 || len(whole) > 10 || len(decimals) > 10 ||
		strings.Trim(whole+decimals, "0123456789") != "" {
		return nil, false
	}
	return new(big.Rat).SetString(text)
}

// Scale is the power of ten between the minor units of two currencies: those of the second in one of the first at a
// rate of one, as a decimal number.
func Scale(from, to string) string {
	switch n := Digits(to) - Digits(from); {
	case n >= 0:
		return "1" + strings.Repeat("0", n)
	default:
		return "0." + strings.Repeat("0", -n-1) + "1"
	}
}

// Worth is an amount of a currency in the base, in minor units, by the rate of a day: the last one given on that day or
// before, else the first there is. Halves are rounded away from zero. It is not known where there is no rate.
func Worth(amount int64, currency, base string, rates []Rate, day calendar.Date) (int64, bool) {
	if currency == base {
		return amount, true
	}
	var list []Rate
	for _, r := range rates {
		if r.Currency == currency && r.Base == base {
			list = append(list, r)
		}
	}
	if len(list) == 0 {
		return 0, false
	}
	slices.SortFunc(list, func(a, b Rate) int { return a.Day.Compare(b.Day) })
	by := list[0]
	for _, r := range list {
		if r.Day.Compare(day) <= 0 {
			by = r
		}
	}
	value, ok := ratio(by.Value)
	if !ok {
		return 0, false
	}
	scale, _ := new(big.Rat).SetString(Scale(currency, base))
	exact := value.Mul(value, scale)
	exact.Mul(exact, new(big.Rat).SetInt64(amount))
	twice := new(big.Int).Add(new(big.Int).Mul(new(big.Int).Abs(exact.Num()), big.NewInt(2)), exact.Denom())
	rounded := twice.Quo(twice, new(big.Int).Mul(exact.Denom(), big.NewInt(2)))
	if exact.Sign() < 0 {
		rounded.Neg(rounded)
	}
	return rounded.Int64(), rounded.IsInt64()
}

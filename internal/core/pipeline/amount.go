package pipeline

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/currency"

	"ombak/internal/core/plainly"
)

// ErrAmount is answered for what is no amount.
var ErrAmount = plainly.New("an amount is a number, such as 12,500.50 or 12.500,50")

// maxAmount bounds an amount, in whole units.
const maxAmount = 10_000_000_000

// Digits is how many decimals a currency has: those of ISO 4217, save for a few whose
// minor unit nobody uses, which have none in CLDR; 2 for one that is not known.
func Digits(code string) int {
	u, err := currency.ParseISO(code)
	if err != nil {
		return 2
	}
	scale, _ := currency.Standard.Rounding(u)
	return scale
}

// KnownCurrency reports whether ISO 4217 has a currency of that code.
func KnownCurrency(code string) bool {
	_, err := currency.ParseISO(code)
	return err == nil && code == strings.ToUpper(code)
}

// ParseAmount reads an amount as people write it anywhere, in minor units of a
// currency: groups of three digits parted by commas, points, spaces or
// apostrophes, and decimals behind a comma or a point. A currency's sign or
// code before or behind it is passed over.
//
// A single mark with three digits behind it parts groups: 12.500 is twelve
// thousand five hundred, in every country. What could be read in two ways is
// ErrAmount: an amount is never guessed.
func ParseAmount(text, code string) (int64, error) {
	text = strings.TrimFunc(text, func(r rune) bool {
		return unicode.IsSpace(r) || unicode.IsLetter(r) || unicode.Is(unicode.Sc, r)
	})
	digits := Digits(code)
	var groups []string // of digits, with the mark before each
	var marks []rune
	last := 0
	for i, r := range text {
		switch {
		case r >= '0' && r <= '9':
		case r == ',' || r == '.' || r == '\'' || r == '’' || unicode.IsSpace(r):
			groups, marks = append(groups, text[last:i]), append(marks, r)
			last = i + len(string(r))
		default:
			return 0, ErrAmount
		}
	}
	groups = append(groups, text[last:])
	whole, decimals := groups, ""
	if n := len(marks); n > 0 && (marks[n-1] == ',' || marks[n-1] == '.') {
		end := groups[n]
		alone := n == 1
		other := n > 1 && marks[n-2] != marks[n-1]
		if len(end) != 3 || other {
			// It has to be decimals.
			if len(end) == 0 || len(end) > digits || !alone && !other {
				return 0, ErrAmount
			}
			whole, decimals, marks = groups[:n], end, marks[:n-1]
		} else if digits == 3 {
			return 0, ErrAmount // groups or decimals: both can be
		}
	}
	for i, g := range whole {
		if i == 0 && (len(g) == 0 || len(g) > 3 && len(whole) > 1) || i > 0 && len(g) != 3 || i > 1 &&
			marks[i-1] != marks[0] {
			return 0, ErrAmount
		}
	}
	number := strings.Join(whole, "") + decimals + strings.Repeat("0", digits-len(decimals))
	if len(number) > 18 {
		return 0, ErrAmount
	}
	n := int64(0)
	for _, r := range number {
		n = n*10 + int64(r-'0')
	}
	unit := int64(1)
	for range digits {
		unit *= 10
	}
	if n > maxAmount*unit {
		return 0, plainly.Errorf("an amount is at most %d", int64(maxAmount))
	}
	return n, nil
}

// Money writes minor units of a currency with its code before them: "EUR 12,500".
func Money(minor int64, code string) string { return code + "\u00a0" + Amount(minor, code) }

// Decimal writes minor units of a currency as a decimal number with all its digits, as files have it: "12500.00".
func Decimal(minor int64, code string) string {
	digits := Digits(code)
	sign := ""
	if minor < 0 {
		sign, minor = "-", -minor
	}
	s := fmt.Sprintf("%0*d", digits+1, minor)
	if digits == 0 {
		return sign + s
	}
	return sign + s[:len(s)-digits] + "." + s[len(s)-digits:]
}

// Amount writes minor units of a currency with commas between groups, and with
// decimals where there are some: "12,500" or "12,500.50".
func Amount(minor int64, code string) string {
	digits := Digits(code)
	sign := ""
	if minor < 0 {
		sign, minor = "-", -minor
	}
	s := fmt.Sprintf("%0*d", digits+1, minor)
	whole, decimals := s[:len(s)-digits], s[len(s)-digits:]
	for i := len(whole) - 3; i > 0; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if strings.Trim(decimals, "0") == "" {
		return sign + whole
	}
	return sign + whole + "." + decimals
}

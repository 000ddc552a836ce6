// Package away reads from an automatic answer on which day somebody is back.
//
// There is no standard for what such answers say. What is read: the words with
// which people say that they are away until, or back on, a day, in English,
// German, Spanish, French, Norwegian, Swedish and Danish, and dates as they are
// written there (common practice, no source). A date whose day and month cannot
// be told apart is not taken, nor one that is past or more than a year away:
// wrong by a month is worse than not known.
package away

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// months are names of months, in lower case, by their first letters.
var months = map[string]time.Month{
	"jan": 1, "ene": 1, "jän": 1, "feb": 2, "fév": 2, "mar": 3, "mär": 3, "apr": 4, "avr": 4, "abr": 4, "may": 5, "mai": 5, "maj": 5, "jun": 6, "juin": 6, "jul": 7, "juil": 7,
	"aug": 8, "aoû": 8, "ago": 8, "sep": 9, "oct": 10, "okt": 10, "nov": 11, "dec": 12, "dez": 12, "déc": 12, "des": 12, "dic": 12,
}

var weekdays = map[string]time.Weekday{
	"monday": 1, "tuesday": 2, "wednesday": 3, "thursday": 4, "friday": 5, "montag": 1, "dienstag": 2, "mittwoch": 3, "donnerstag": 4, "freitag": 5,
	"lunes": 1, "martes": 2, "miércoles": 3, "jueves": 4, "viernes": 5, "lundi": 1, "mardi": 2, "mercredi": 3, "jeudi": 4, "vendredi": 5, "mandag": 1, "tirsdag": 2, "onsdag": 3, "torsdag": 4, "fredag": 5, "måndag": 1, "tisdag": 2,
}

// The last day away comes behind the first kind of words, the first day back
// behind the second.
const (
	lastWords = `until and including|up to and including|until|till|through|bis einschließlich|bis einschliesslich|bis zum|bis|hasta el|hasta|jusqu[’']au|til og med|t\.o\.m\.|till och med|fram til|til`
	backWords = `back in the office on|back in office on|back at work on|back at my desk on|back on|back|return to the office on|returning on|returning|return on|return|available again on|available again from|again on|again from|as of|wieder am|wieder ab dem|wieder ab|ab dem|zurück am|zurück|zurueck am|regreso el|regresaré el|vuelvo el|volveré el|a partir del|de retour le|de retour|à partir du|tilbake|åter|tilbage`
	between   = `[\s:,]*(?:(?:am|on|the|el|le|den|d\.|am:|from)\s+)?(?:(?:mon|tues|wednes|thurs|fri|satur|sun)day,?\s+|(?:mon|diens|donners|frei|sams|sonn)tag,?\s+(?:den\s+)?|mittwoch,?\s+(?:den\s+)?)?(?:the\s+|den\s+|el\s+|le\s+)?`
	date      = `(\d{4}-\d{2}-\d{2}|\d{1,2}[./]\d{1,2}[./](?:\d{4}|\d{2})|\d{1,2}\.\d{1,2}\.?|\d{1,2}(?:st|nd|rd|th|er|º)?\.?\s+(?:of\s+|de\s+)?\p{L}{3,10}\.?(?:,?\s+(?:de\s+)?\d{4})?|\p{L}{3,10}\.?\s+\d{1,2}(?:st|nd|rd|th)?(?:,?\s+\d{4})?|\p{L}{5,10})`
)

var (
	last = regexp.MustCompile(`(?i)(?:^|[^\p{L}])(?:` + lastWords + `)` + between + date)
	back = regexp.MustCompile(`(?i)(?:^|[^\p{L}])(?:` + backWords + `)` + between + date)
	tail = regexp.MustCompile(`(?i)^(\d{1,2})(?:st|nd|rd|th|er|º)?\.?\s+(?:of\s+|de\s+)?(\p{L}{3,10})\.?(?:,?\s+(?:de\s+)?(\d{4}))?$`)
	head = regexp.MustCompile(`(?i)^(\p{L}{3,10})\.?\s+(\d{1,2})(?:st|nd|rd|th)?(?:,?\s+(\d{4}))?$`)
	nums = regexp.MustCompile(`^(\d{1,2})([./])(\d{1,2})(?:[./](\d{4}|\d{2}))?\.?$`)
)

// Until reads the first day on which somebody is back, as midnight in the zone
// of now. false: the text names none that could be meant.
func Until(text string, now time.Time) (time.Time, bool) {
	if len(text) > 20_000 {
		text = text[:20_000]
	}
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, " ")), " ")
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	look := func(re *regexp.Regexp, more int) (time.Time, bool) {
		for _, m := range re.FindAllStringSubmatch(text, 8) {
			if d, ok := read(m[1], today); ok {
				if d = d.AddDate(0, 0, more); d.After(today) && d.Before(today.AddDate(1, 0, 0)) {
					return d, true
				}
			}
		}
		return time.Time{}, false
	}
	// Who says both means the day back: "away until 11 May, back on 12 May".
	if d, ok := look(back, 0); ok {
		return d, true
	}
	return look(last, 1)
}

// read reads a date; without a year it is the next one from today.
func read(s string, today time.Time) (time.Time, bool) {
	s = strings.TrimSpace(s)
	if t, err := time.ParseInLocation(time.DateOnly, s, today.Location()); err == nil {
		return t, true
	}
	if m := tail.FindStringSubmatch(s); m != nil {
		return made(m[3], month(m[2]), m[1], today)
	}
	if m := head.FindStringSubmatch(s); m != nil {
		return made(m[3], month(m[1]), m[2], today)
	}
	if m := nums.FindStringSubmatch(s); m != nil {
		a, _ := strconv.Atoi(m[1]) // the expression lets figures alone through
		b, _ := strconv.Atoi(m[3])
		switch {
		case m[2] == "." || a > 12: // dots are of places where the day comes first
			return made(m[4], time.Month(b), m[1], today)
		case b > 12:
			return made(m[4], time.Month(a), m[3], today)
		}
		return time.Time{}, false
	}
	if w, ok := weekdays[strings.ToLower(s)]; ok {
		d := today.AddDate(0, 0, 1)
		for d.Weekday() != w {
			d = d.AddDate(0, 0, 1)
		}
		return d, true
	}
	return time.Time{}, false
}

func month(s string) time.Month {
	s = strings.ToLower(s)
	for _, n := range []int{4, 3} {
		if r := []rune(s); len(r) >= n {
			if m, ok := months[string(r[:n])]; ok {
				return m
			}
		}
	}
	return 0
}

func made(year string, m time.Month, day string, today time.Time) (time.Time, bool) {
	d, err := strconv.Atoi(day)
	if err != nil || m < 1 || m > 12 || d < 1 || d > 31 {
		return time.Time{}, false
	}
	y, err := strconv.Atoi(year)
	switch {
	case err != nil:
		y = today.Year()
	case y < 100:
		y += 2000
	}
	t := time.Date(y, m, d, 0, 0, 0, 0, today.Location())
	if err != nil && t.Before(today) {
		t = time.Date(y+1, m, d, 0, 0, 0, 0, today.Location())
	}
	return t, t.Day() == d // 31 June is no day
}

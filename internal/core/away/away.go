// Package away reads from an automatic answer on which day somebody is back.
//
// There is no standard for what such answers say. What is read: the words with
// which people say that they are away until, or back on, a day, in English,
// German, French, Spanish, Portuguese, Italian, Dutch, Norwegian, Danish, Swedish,
// Finnish, Polish and Japanese, and dates as they are written there, with or
// without the day of the week (common practice, no source). A date whose day and
// month cannot be told apart is not taken, nor one that is past or more than a
// year away: wrong by a month is worse than not known.
package away

import (
	"regexp"
	"sort"
	"strconv"
	"strings"
	"time"
)

// months are names of months, in lower case, by their first letters: by four
// where three would not tell them apart.
var months = map[string]time.Month{
	"jan": 1, "ene": 1, "jän": 1, "gen": 1, "sty": 1, "tam": 1,
	"feb": 2, "fév": 2, "fev": 2, "lut": 2, "hel": 2,
	"mar": 3, "mär": 3, "maa": 3, "mrt": 3,
	"apr": 4, "avr": 4, "abr": 4, "kwi": 4, "huh": 4,
	"may": 5, "mai": 5, "maj": 5, "mei": 5, "mag": 5, "tou": 5,
	"jun": 6, "juin": 6, "giu": 6, "cze": 6, "kes": 6,
	"jul": 7, "juil": 7, "lug": 7, "lip": 7, "hei": 7,
	"aug": 8, "aoû": 8, "aou": 8, "ago": 8, "sie": 8, "elo": 8,
	"sep": 9, "set": 9, "wrz": 9, "syy": 9,
	"oct": 10, "okt": 10, "ott": 10, "out": 10, "paź": 10, "lok": 10,
	"nov": 11, "lis": 11, "marr": 11,
	"dec": 12, "dez": 12, "déc": 12, "des": 12, "dic": 12, "gru": 12, "jou": 12,
}

// weekdays are their names, in all forms in which they follow the words below.
var weekdays = map[string]time.Weekday{}

func init() {
	for day, names := range map[time.Weekday]string{
		time.Monday: "monday mon montag lundi lunes segunda segunda-feira lunedì lunedi maandag mandag måndag " +
			"maanantai maanantaina maanantaihin maanantaista poniedziałek poniedziałku",
		time.Tuesday: "tuesday tue dienstag mardi martes terça terça-feira martedì martedi dinsdag tirsdag tisdag " +
			"tiistai tiistaina tiistaihin tiistaista wtorek wtorku",
		time.Wednesday: "wednesday wed mittwoch mercredi miércoles miercoles quarta quarta-feira mercoledì mercoledi " +
			"woensdag onsdag keskiviikko keskiviikkona keskiviikkoon keskiviikosta środa środę środy środzie",
		time.Thursday: "thursday thu donnerstag jeudi jueves quinta quinta-feira giovedì giovedi donderdag torsdag " +
			"torstai torstaina torstaihin torstaista czwartek czwartku",
		time.Friday: "friday fri freitag vendredi viernes sexta sexta-feira venerdì venerdi vrijdag fredag " +
			"perjantai perjantaina perjantaihin perjantaista piątek piątku",
		time.Saturday: "saturday sat samstag sonnabend samedi sábado sabado sabato zaterdag lørdag lördag lauantai " +
			"lauantaina sobota sobotę soboty",
		time.Sunday: "sunday sun sonntag dimanche domingo domenica zondag søndag söndag sunnuntai sunnuntaina " +
			"niedziela niedzielę niedzieli",
	} {
		for _, name := range strings.Fields(names) {
			weekdays[name] = day
		}
	}
	names := make([]string, 0, len(weekdays))
	for name := range weekdays {
		names = append(names, regexp.QuoteMeta(name))
	}
	// The longest first, so that none ends within another.
	sort.Slice(names, func(i, j int) bool {
		return len(names[i]) > len(names[j]) || len(names[i]) == len(names[j]) && names[i] < names[j]
	})
	weekday := strings.Join(names, "|")
	between := `[\s:,]*(?:(?:am|on|the|el|día|le|den|d\.|am:|from|il|giorno|op|em|no|na|a|o|dia|ao|à|w|we|dnia|på|` +
		`kontoret|om)\s+){0,3}` +
		`(?:\(?(?:` + weekday + `)(?:[,.)]\s*|\s+|$)(?:(?:the|den|el|le|dem|the|il|dia|dnia|d\.)\s+)?)?`
	last = regexp.MustCompile(`(?i)(?:^|[^\p{L}])(?:` + lastWords + `)` + between + date)
	back = regexp.MustCompile(`(?i)(?:^|[^\p{L}])(?:` + backWords + `)` + between + date)
	day = regexp.MustCompile(`(?i)(?:^|[^\p{L}])(?:` + backWords + `|` + lastWords +
		`)[\s:,]*(?:(?:on|am|le|el|op|na|em|il|w|we|den|den|på)\s+)?(` + weekday + `)(?:[^\p{L}\d-]|$)`)
	lastDay = regexp.MustCompile(`(?i)^(?:` + lastWords + `)(?:[^\p{L}]|$)`)
}

// The last day away comes behind the first kind of words, the first day back
// behind the second.
const (
	lastWords = `until and including|up to and including|until|till|through|from \d[^.;]{0,25}? to|bis ` +
		`einschließlich|bis einschliesslich|` +
		`bis inklusive|bis inkl\.|bis zum|bis|hasta el|hasta|del \d[^.;]{0,25}? al|jusqu[’']au|jusqu[’']à|du \d[^.;` +
		`]{0,25}? au|` +
		`fino a|fino al|sino al|dal \d[^.;]{0,25}? al|tot en met|t/m|t\.e\.m\.|tot|até ao|até o|até|de \d[^.;]{0,` +
		`25}? a|` +
		`til og med|t\.o\.m\.|till och med|fram til|fram till|til|till|do|włącznie do`
	backWords = `back in the office on|back in the office|back in office on|back at work on|back at my desk on|back ` +
		`on|back|` +
		`return to the office on|return to work on|returning on|returning|return on|return|available again on|` +
		`available again from|` +
		`again on|again from|as of|` +
		`wieder am|wieder ab dem|wieder ab|ab dem|ab|zurück am|zurück ab|zurück|zurueck am|zurueck|` +
		`regreso el|regresaré el|regreso|regresaré|vuelvo el|volveré el|vuelvo|volveré|a partir del|de vuelta el|` +
		`de retour au bureau|de retour le|de retour|à partir du|à compter du|reviens le|serai de retour|` +
		`torno al lavoro|torno|tornerò|rientro|rientrerò|rientro in ufficio|di nuovo disponibile dal|nuovamente ` +
		`disponibile dal|` +
		`di nuovo in ufficio dal|di nuovo in ufficio|a partire dal|` +
		`terug op kantoor|terug vanaf|terug op|terug|weer bereikbaar vanaf|weer bereikbaar op|weer bereikbaar|weer ` +
		`aanwezig vanaf|` +
		`weer aanwezig op|weer aanwezig|weer op kantoor|vanaf|` +
		`volto ao trabalho|volto|voltarei|regresso|regressarei|retorno|retornarei|de volta ao escritório|de volta|a ` +
		`partir de|` +
		`tilbake på jobb|tilbake på kontoret|tilbake|på jobb igjen|på kontoret igjen|` +
		`tillbaka på jobbet|tillbaka på kontoret|tillbaka|åter i tjänst|åter på kontoret|åter|på plats igen|` +
		`tilbage på kontoret|tilbage på arbejde|tilbage|på kontoret igen|træffes igen|` +
		`palaan töihin|palaan toimistolle|palaan lomalta|palaan|takaisin töissä|takaisin|paikalla jälleen|` +
		`tavoitettavissa jälleen|` +
		`wracam do biura|wracam do pracy|wracam|wrócę|będę z powrotem|z powrotem|ponownie dostępny od|ponownie ` +
		`dostępna od|` +
		`dostępny od|dostępna od`
	date = `(\d{4}-\d{2}-\d{2}|\d{1,2}[./]\d{1,2}[./](?:\d{4}|\d{2})|\d{1,2}\.\d{1,2}\.?|\d{1,2}-\d{1,2}-\d{4}|` +
		`\d{1,2}(?:st|nd|rd|th|er|º|°)?\.?\s+(?:of\s+|de\s+)?\p{L}{3,12}\.?(?:,?\s+(?:de\s+)?\d{4})?|` +
		`\p{L}{3,10}\.?\s+\d{1,2}(?:st|nd|rd|th)?(?:,?\s+\d{4})?)`
)

// Words that can begin an absence as well ("ab 4. Mai im Urlaub"): they are taken
// for its end only where no word of absence follows.
var (
	either = regexp.MustCompile(
		`(?i)(?:^|[^\p{L}])(?:ab dem|ab|as of|a partir del|à partir du|à compter du|a partire dal|vanaf|a partir de)\s`)
	absent = regexp.MustCompile(
		`(?i)urlaub|abwesend|nicht|away|leave|holiday|vacation|out of|vacaciones|ausente|fuera|congé|absent|vacances|` +
			`ferie|assente|fuori|vakantie|afwezig|férias|fora`)
)

// What follows the date, in Finnish and Japanese.
var (
	finnish  = regexp.MustCompile(`(?i)` + date + `\s+(asti|saakka|alkaen|lähtien)`)
	japanese = regexp.MustCompile(
		`(?:(\d{4})年)?(\d{1,2})月(\d{1,2})日(?:\s?[((][^))]{1,3}[))])?\s?(まで|(?:から|より|以降|に)[^。]{0,15}?(?:出社|復帰|戻|勤務|業務|` +
			`対応|再開))`)
)

var (
	last, back, day, lastDay *regexp.Regexp

	tail = regexp.MustCompile(`(?i)^(\d{1,2})(?:st|nd|rd|th|er|º|°)?\.?\s+(?:of\s+|de\s+)?(\p{L}{3,12})\.?(?:,` +
		`?\s+(?:de\s+)?(\d{4}))?$`)
	head = regexp.MustCompile(`(?i)^(\p{L}{3,10})\.?\s+(\d{1,2})(?:st|nd|rd|th)?(?:,?\s+(\d{4}))?$`)
	nums = regexp.MustCompile(`^(\d{1,2})([./-])(\d{1,2})(?:[./-](\d{4}|\d{2}))?\.?$`)
)

// Until reads the first day on which somebody is back, as midnight in the zone
// of now. false: the text names none that could be meant.
func Until(text string, now time.Time) (time.Time, bool) {
	if len(text) > 20_000 {
		text = text[:20_000]
	}
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, " ")), " ")
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	// Who says both means the day back: "away until 11 May, back on 12 May".
	var ends time.Time
	for _, m := range back.FindAllStringSubmatchIndex(text, 8) {
		if d, ok := coming(text[m[2]:m[3]], today, 0); ok && !begins(text, m[0], m[1]) {
			return d, true
		}
	}
	for _, m := range finnish.FindAllStringSubmatch(text, 8) {
		more, isLast := 0, strings.EqualFold(m[2], "asti") || strings.EqualFold(m[2], "saakka")
		if isLast {
			more = 1
		}
		if d, ok := coming(m[1], today, more); ok && !isLast {
			return d, true
		} else if ok && ends.IsZero() {
			ends = d
		}
	}
	for _, m := range japanese.FindAllStringSubmatch(text, 8) {
		month, _ := strconv.Atoi(m[2]) // figures alone
		d, ok := made(m[1], time.Month(month), m[3], today)
		if m[4] == "まで" {
			d = d.AddDate(0, 0, 1)
		}
		if ok = ok && soon(d, today); ok && m[4] != "まで" {
			return d, true
		} else if ok && ends.IsZero() {
			ends = d
		}
	}
	for _, m := range last.FindAllStringSubmatch(text, 8) {
		if d, ok := coming(m[1], today, 1); ok && ends.IsZero() {
			ends = d
		}
	}
	if !ends.IsZero() {
		return ends, true
	}
	// Only a day of the week: the next of its name.
	for _, m := range day.FindAllStringSubmatch(text, 8) {
		w, ok := weekdays[strings.ToLower(m[1])]
		if !ok {
			continue
		}
		d := today.AddDate(0, 0, 1)
		for d.Weekday() != w {
			d = d.AddDate(0, 0, 1)
		}
		if lastDay.MatchString(strings.TrimLeft(m[0], " ,.:;(")) {
			d = d.AddDate(0, 0, 1)
		}
		return d, true
	}
	return time.Time{}, false
}

// coming reads a date that is still to come, and so many days more.
func coming(s string, today time.Time, more int) (time.Time, bool) {
	d, ok := read(s, today)
	d = d.AddDate(0, 0, more)
	return d, ok && soon(d, today)
}

func soon(d, today time.Time) bool { return d.After(today) && d.Before(today.AddDate(1, 0, 0)) }

// begins reports whether what is said from one place to another is from when
// somebody is away, and not from when they are back.
func begins(text string, from, to int) bool {
	if !either.MatchString(text[from:to]) {
		return false
	}
	next := text[to:min(len(text), to+40)]
	if end := strings.IndexAny(next, ".;!?"); end >= 0 {
		next = next[:end]
	}
	return absent.MatchString(next)
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
		case m[2] != "/" || a > 12: // dots and dashes are of places where the day comes first
			return made(m[4], time.Month(b), m[1], today)
		case b > 12:
			return made(m[4], time.Month(a), m[3], today)
		}
		return time.Time{}, false
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

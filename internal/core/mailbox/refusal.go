package mailbox

import (
	"regexp"
	"strings"
)

// Fault is what a refusal for good is about. Only the reader's fault is a
// bounce: everything else would make a list of people unreachable for what one
// wrong setting did.
type Fault int

// The faults. Unclear: the answer does not say. Reader: there is no such
// address. Passing: the address is there and takes nothing now, or not so large
// a letter. Ours: our server, our address, or what we sent.
const (
	Unclear Fault = iota
	Reader
	Passing
	Ours
)

// String says it in words.
func (f Fault) String() string {
	return [...]string{
		"it does not say why", "there is no such address", "the reader’s mailbox takes nothing now",
		"it does not take mail from this account",
	}[f]
}

// faults are the codes of RFC 3463 and its registry (7505 for 5.1.10, 8616 and
// 7372 for those of authentication), of the fifth class; a subject alone stands
// for all its details.
var faults = map[string]Fault{
	"1.1": Reader, "1.2": Reader, "1.3": Reader, "1.4": Reader, "1.6": Reader, "1.10": Reader,
	"1.7": Ours, "1.8": Ours, "1.9": Ours,
	"2": Passing, "3": Passing, "4": Passing, "5": Ours, "6": Ours, "7": Ours,
}

// What servers write where no such code is given, in this order. Common
// practice, no source.
var said = []struct {
	words *regexp.Regexp
	fault Fault
}{
	{regexp.MustCompile(`relay|spam|block|black ?list|deny ?list|policy|polic|\bspf\b|dkim|dmarc|authenticat|not ` +
		`permitted|` +
		`not allowed|access denied|reputation|sender|reverse dns|\bptr\b|helo|too many|rate limit|listed|refused by|` +
		`prohibited|greylist|suspicious|virus|content rejected`), Ours},
	{regexp.MustCompile(`\bfull\b|quota|storage|too (?:big|large|long)|inactive|disabled|suspended|temporar`), Passing},
	{regexp.MustCompile(`unknown|no such|not exist|n[o']t exist|invalid (?:recipient|address|mailbox|user)|not found|` +
		`no mailbox|unroutable|unrouteable|bad destination|no longer|recipient.*rejected|address rejected|not our ` +
		`customer|` +
		`not a (?:registered|known|valid)|mailbox unavailable|user .* not|undeliverable address|does not accept mail|` +
		`doesn't accept mail|null mx`), Reader},
}

// FaultOf tells what a refusal is about: by its code of RFC 3463 ("5.1.1"),
// which a server gives for that alone; else by its words; else by its code of
// RFC 5321. A code of 0 and an empty status are none.
func FaultOf(code int, status, text string) Fault {
	if class, detail, ok := strings.Cut(strings.TrimSpace(status), "."); ok && class == "5" {
		subject, _, _ := strings.Cut(detail, ".")
		if f, ok := faults[detail]; ok {
			return f
		}
		if f, ok := faults[subject]; ok {
			return f
		}
	}
	text = strings.ToLower(text)
	if len(text) > 2000 {
		text = text[:2000]
	}
	for _, s := range said {
		if s.words.MatchString(text) {
			return s.fault
		}
	}
	switch code {
	case 551, 556: // the reader is elsewhere; the domain takes no mail (RFC 7504)
		return Reader
	case 552:
		return Passing
	case 521, 554, 530, 535, 538, 500, 501, 502, 503, 504, 555:
		return Ours
	}
	return Unclear
}

// Record is how an account's letters have fared: on a day, and in a row.
type Record struct {
	Day     string // date
	Taken   int    // on that day
	Refused int    // for good, on that day
	Row     int    // refused in a row without fault of the readers
}

// An account is stopped after so many refusals in a row that are not the
// readers' fault, or where on a day at least so many, and at least a fifth, are
// refused for whatever reason: going on would cost it what name it has. Common
// practice, no source.
const (
	stopRow     = 3
	stopRefused = 10
	stopShare   = 5
)

// Took notes that a letter was taken on a day.
func (r Record) Took(day string) Record {
	r = r.on(day)
	r.Taken++
	r.Row = 0
	return r
}

// Refuses notes that one was refused for good. stop: nothing more should go out
// by this account until somebody has looked.
func (r Record) Refuses(day string, f Fault) (_ Record, stop bool) {
	r = r.on(day)
	r.Refused++
	if f == Ours || f == Unclear {
		r.Row++
	}
	return r, r.Row >= stopRow || r.Refused >= stopRefused && r.Refused*stopShare >= r.Refused+r.Taken
}

func (r Record) on(day string) Record {
	if r.Day != day {
		r.Day, r.Taken, r.Refused = day, 0, 0
	}
	return r
}

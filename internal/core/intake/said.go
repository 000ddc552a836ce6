package intake

import (
	"strings"
	"time"
	"unicode"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Consent is what a cell says of one purpose: agreed to or not, and when, how
// and on what ground where it says so.
//
// The cell is a yes or a no; behind it, after commas, may stand the day or the
// instant and the way, and after a colon the ground:
//
//	yes, 2026-03-01T09:30:00Z, by form: ticked at the harbour fair
type Consent struct {
	Purpose int64     `json:"purpose"`
	Given   bool      `json:"given"`
	At      time.Time `json:"at,omitzero"` // zero: not said
	How     string    `json:"how,omitempty"`
	Ground  string    `json:"ground,omitempty"`
}

// ConsentText writes a consent as a cell has it.
func ConsentText(c Consent) string {
	s := "no"
	if c.Given {
		s = "yes"
	}
	if !c.At.IsZero() {
		s += ", " + c.At.UTC().Format(time.RFC3339Nano)
	}
	if c.How != "" {
		s += ", " + c.How
	}
	if c.Ground != "" {
		s += ": " + c.Ground
	}
	return s
}

// ErrConsent is answered for a cell that says neither yes nor no.
var ErrConsent = plainly.New("say yes or no; behind it may stand when, how, and after a colon the ground: yes, " +
	"2026-03-01, by form: ticked at the fair")

// ParseConsent reads a cell.
func ParseConsent(text string) (Consent, error) {
	var c Consent
	text = strings.Join(strings.FieldsFunc(strings.ToValidUTF8(text, ""), func(r rune) bool {
		return unicode.IsSpace(r) || unicode.IsControl(r)
	}), " ")
	head, ground, _ := strings.Cut(text, ": ")
	parts := strings.Split(head, ",")
	d := person.Definition{Type: person.YesNo}
	said, err := d.Tidy(parts[0], "")
	if err != nil || said == "" {
		return c, ErrConsent
	}
	c.Given, c.Ground = said == "yes", ground
	for i, p := range parts[1:] {
		p = strings.TrimSpace(p)
		if i == 0 {
			if t, ok := sayWhen(p); ok {
				c.At = t
				continue
			}
		}
		if c.How != "" {
			c.How += ", "
		}
		c.How += p
	}
	c.How = strings.Trim(c.How, ", ")
	if len(c.How) > 200 || len(c.Ground) > 1000 {
		return c, plainly.New("how and on what ground they agreed are at most 200 and 1,000 letters")
	}
	return c, nil
}

func sayWhen(s string) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339Nano, time.DateOnly} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}

// Noted is a note with who wrote it and when, where that is known.
type Noted struct {
	At   time.Time `json:"at,omitzero"`
	By   string    `json:"by,omitempty"`
	Text string    `json:"text"`
}

// noteHead begins the line above a note that says when and by whom.
const noteHead = "— "

// NotesText writes notes as one cell has them, the oldest first: above each
// stands a line "— 2026-03-01T09:30:00Z, Ines Radu". Lines of a note that
// begin like one have a backslash before them.
func NotesText(list []Noted) string {
	var b strings.Builder
	for _, n := range list {
		if b.Len() > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(noteHead + n.At.UTC().Format(time.RFC3339Nano) + ", " + strings.ReplaceAll(n.By, "\n", " "))
		for _, line := range strings.Split(n.Text, "\n") {
			if strings.HasPrefix(line, noteHead) || strings.HasPrefix(line, `\`) {
				line = `\` + line
			}
			b.WriteString("\n" + line)
		}
	}
	return b.String()
}

// ParseNotes reads a cell of notes. Text above which nothing says when and by
// whom is a note of its own, as it stands.
func ParseNotes(text string) []Noted {
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	var out []Noted
	var lines []string
	begun, headed := false, false
	end := func() {
		if t := strings.TrimSpace(strings.Join(lines, "\n")); begun && t != "" {
			out[len(out)-1].Text = t
		} else if begun {
			out = out[:len(out)-1]
		}
		lines = nil
	}
	for _, line := range strings.Split(text, "\n") {
		if rest, ok := strings.CutPrefix(line, noteHead); ok {
			when, by, _ := strings.Cut(rest, ", ")
			if t, ok := sayWhen(when); ok {
				end()
				out = append(out, Noted{At: t, By: by})
				begun, headed = true, true
				continue
			}
		}
		if !begun {
			out, begun = append(out, Noted{}), true
		}
		if headed {
			line = strings.TrimPrefix(line, `\`)
		}
		lines = append(lines, line)
	}
	end()
	return out
}

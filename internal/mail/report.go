package mail

import (
	"bufio"
	"net/textproto"
	"strings"
)

// Recipient is what a delivery report says of one address (RFC 3464, 2.3).
type Recipient struct {
	Address    string // the final one, in lower case
	Original   string // the one it was sent to, where the report says it
	Action     string // failed, delayed, delivered, relayed or expanded
	Status     string // class.subject.detail (RFC 3463)
	Diagnostic string
}

// groups reads the groups of fields that a machine's part of a report consists
// of: blocks as headers are written, with empty lines between them.
func groups(text string) []textproto.MIMEHeader {
	var out []textproto.MIMEHeader
	r := textproto.NewReader(bufio.NewReader(strings.NewReader(strings.ReplaceAll(text, "\r\n", "\n") + "\n\n")))
	for {
		h, err := r.ReadMIMEHeader()
		if len(h) > 0 {
			out = append(out, h)
		}
		if err != nil || len(out) > 200 {
			return out
		}
		if len(h) == 0 { // another empty line, or the end
			if _, err := r.R.Peek(1); err != nil {
				return out
			}
		}
	}
}

// typed takes the type of an address or a diagnostic off: "rfc822;a@b.example".
func typed(s string) string {
	if _, rest, ok := strings.Cut(s, ";"); ok {
		s = rest
	}
	return strings.TrimSpace(s)
}

// deliveryReport reads a message/delivery-status part.
func deliveryReport(text string) []Recipient {
	var out []Recipient
	for _, g := range groups(text) {
		if g.Get("Action") == "" && g.Get("Final-Recipient") == "" {
			continue // the group about the message
		}
		status, _, _ := strings.Cut(strings.TrimSpace(g.Get("Status")), " ") // a comment may follow
		out = append(out, Recipient{
			Address: strings.ToLower(typed(g.Get("Final-Recipient"))), Original: strings.ToLower(typed(g.Get("Original-Recipient"))),
			Action: strings.ToLower(strings.TrimSpace(g.Get("Action"))), Status: status, Diagnostic: typed(g.Get("Diagnostic-Code")),
		})
	}
	return out
}

// verdict is what a delivery report means for the address: it fails for good
// where the status says so (class 5 of RFC 3463) and is not about a full
// mailbox or a policy, which pass. A letter that was given up after waiting
// (class 4) says nothing about the address.
func verdict(list []Recipient) Kind {
	kind := Notice
	for _, r := range list {
		switch {
		case r.Action == "failed" && strings.HasPrefix(r.Status, "5.") && !passing(r.Status):
			return Bounce
		case r.Action == "failed", r.Action == "delayed":
			kind = NotNow
		}
	}
	if len(list) == 0 {
		return Bounce // a report that names nobody: it came about this letter
	}
	return kind
}

// passing reports whether a failure for good is about something that passes:
// a full mailbox (x.2.2), one that is switched off for now (x.2.1), a message
// that is too long (x.2.3, x.3.4), the network (x.4.x), or a policy about the
// message and not the address (x.7.x).
func passing(status string) bool {
	for _, p := range []string{"5.2.1", "5.2.2", "5.2.3", "5.3.4", "5.4.", "5.7."} {
		if status == p || strings.HasSuffix(p, ".") && strings.HasPrefix(status, p) {
			return true
		}
	}
	return false
}

// complaint reads a message/feedback-report part (RFC 5965): whether it
// complains, and about whom it is.
func complaint(text string) (yes bool, about []string) {
	for _, g := range groups(text) {
		switch strings.ToLower(strings.TrimSpace(g.Get("Feedback-Type"))) {
		case "abuse", "fraud", "virus", "other":
			yes = true
		}
		for _, r := range g.Values("Original-Rcpt-To") {
			about = append(about, strings.ToLower(strings.Trim(strings.TrimSpace(r), "<>")))
		}
	}
	return yes, about
}

// automaticSubjects begin the subjects of answers by programs that say so no
// other way. Common practice, no source.
var automaticSubjects = []string{"automatic reply", "auto reply", "autoreply", "auto-reply", "out of office", "out of the office", "automatische antwort", "abwesenheitsnotiz", "abwesend", "respuesta automática", "réponse automatique", "automatisk svar", "automatiskt svar", "fraværsmelding", "fuera de la oficina", "absence du bureau"}

// automatic reports whether a letter is a program's answer: it says so by
// RFC 3834, or in one of the ways that came before it (common practice, no
// source).
func automatic(get func(string) string) bool {
	// RFC 3834, 5: "no" and its absence are a person's; anything else a machine's.
	word, _, _ := strings.Cut(get("Auto-Submitted"), ";")
	if word = strings.ToLower(strings.TrimSpace(word)); word != "" {
		return word != "no"
	}
	switch strings.ToLower(strings.TrimSpace(get("Precedence"))) {
	case "bulk", "junk", "list", "auto_reply":
		return true
	}
	if get("X-Autoreply") != "" || get("X-Autorespond") != "" || get("X-Auto-Reply") != "" {
		return true
	}
	subject := strings.ToLower(strings.TrimSpace(get("Subject")))
	for _, s := range automaticSubjects {
		if strings.HasPrefix(subject, s) {
			return true
		}
	}
	return false
}

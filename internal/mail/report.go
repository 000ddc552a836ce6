package mail

import (
	"bufio"
	"maps"
	"net/textproto"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ombak/internal/core/mailbox"
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
			Address:  strings.ToLower(typed(g.Get("Final-Recipient"))),
			Original: strings.ToLower(typed(g.Get("Original-Recipient"))),
			Action:   strings.ToLower(strings.TrimSpace(g.Get("Action"))), Status: status,
			Diagnostic: typed(g.Get("Diagnostic-Code")),
		})
	}
	return out
}

// verdict is what a delivery report means for the address: it fails for good
// where the report is of a failure that is the address's own (core/mailbox). A
// letter that was given up after waiting (class 4) says nothing about it.
func verdict(list []Recipient) Kind {
	kind := Notice
	for _, r := range list {
		switch {
		case r.Action == "failed" && !strings.HasPrefix(r.Status, "4.") && r.fault() == mailbox.Reader:
			return Bounce
		case r.Action == "failed", r.Action == "delayed":
			kind = NotNow
		}
	}
	if len(list) == 0 {
		return NotNow // it names nobody, and says nothing of any address
	}
	return kind
}

// fault is what a failure is about, by the report's own status, and where that
// says nothing ("5.0.0") by the other server's answer.
func (r Recipient) fault() mailbox.Fault {
	code, status := codes(r.Diagnostic)
	if r.Status != "" && r.Status != "5.0.0" {
		status = r.Status
	}
	return mailbox.FaultOf(code, status, r.Diagnostic)
}

var (
	basicCode    = regexp.MustCompile(`(?:^|[\s:;#(<>])([45]\d\d)(?:[\s:;,)\-]|$)`)
	enhancedCode = regexp.MustCompile(`(?:^|[\s:;#(\-])([45]\.\d{1,3}\.\d{1,3})(?:[\s:;,.)]|$)`)
)

// codes finds the codes of an answer within words.
func codes(text string) (code int, status string) {
	if m := basicCode.FindStringSubmatch(text); m != nil {
		code, _ = strconv.Atoi(m[1]) // three digits
	}
	if m := enhancedCode.FindStringSubmatch(text); m != nil {
		status = m[1]
	}
	return code, status
}

// Reports as they were written before RFC 3464, and still are: by programs that
// say so in a header, and in words ("Hi. This is the … program", after D. J.
// Bernstein's qmail-send Bounce Message Format, 1997). The letter that came back
// follows after a line of its own.
var (
	bernstein = regexp.MustCompile(`(?m)^Hi\. This is the `)
	failures  = regexp.MustCompile(`(?m)^<([^<>\s]+@[^<>\s]+)>:[ \t]*\n((?:.+\n?)*)`)
	failed    = regexp.MustCompile(`(?m)^[ \t]+<?([^<>\s]+@[^<>\s:]+)>?:?[ \t]*\n((?:[ \t]+.+\n?)*)`)
	returned  = regexp.MustCompile(
		`(?im)^(?:---+ ?(?:below this line is a copy|this is a copy of|original message|returned message|unsent ` +
			`message).*|.*copy of the message.*:?)$`)
	copyID = regexp.MustCompile(`(?im)^message-id:\s*(<[^<>]+>)`)
	late   = regexp.MustCompile(
		`(?i)\bdelayed\b|not yet (?:been )?delivered|still trying|will be retried|no action is required|temporar`)
	gaveUp = regexp.MustCompile(
		`(?i)permanent|could not be delivered|undeliver|returned|failed|failure|wasn.t able to deliver|unable to ` +
			`deliver`)
)

// judge tells what a letter is that is no report by RFC 3464.
func (m *Received) judge(get func(string) string) {
	daemon := strings.HasPrefix(m.From, "mailer-daemon")
	nobody := strings.TrimSpace(get("Return-Path")) == "<>"
	names := get("X-Failed-Recipients")
	if names != "" || bernstein.MatchString(m.Text) && (daemon || nobody || m.From == "") || daemon {
		m.oldReport(names)
		return
	}
	if automatic(func(key string) string {
		if key == "Subject" {
			return m.Subject
		}
		return get(key)
	}) || nobody {
		m.Kind = Automatic
	}
}

// oldReport reads one: whom it is about, and what each failed by.
func (m *Received) oldReport(names string) {
	text, copied := m.Text, ""
	if at := returned.FindStringIndex(text); at != nil {
		text, copied = text[:at[0]], text[at[1]:]
	}
	for _, id := range copyID.FindAllStringSubmatch(copied, 5) {
		m.References = append(m.References, messageIDs(id[1])...)
	}
	why := map[string]string{}
	for _, re := range []*regexp.Regexp{failures, failed} {
		for _, f := range re.FindAllStringSubmatch(text+"\n", 50) {
			if a := strings.ToLower(f[1]); why[a] == "" {
				why[a] = strings.Join(strings.Fields(f[2]), " ")
			}
		}
	}
	list := strings.FieldsFunc(strings.ToLower(names), func(r rune) bool { return r == ',' || r == ' ' })
	if names == "" {
		list = slices.Sorted(maps.Keys(why))
	}
	action := "failed"
	if late.MatchString(m.Subject) || late.MatchString(text) && !gaveUp.MatchString(m.Subject) {
		action = "delayed"
	}
	for _, a := range list[:min(len(list), 50)] {
		_, status := codes(why[a])
		m.About = append(m.About,
			Recipient{Address: strings.Trim(a, "<>"), Action: action, Status: status, Diagnostic: why[a]})
	}
	if m.Kind = verdict(m.About); len(list) == 0 && !gaveUp.MatchString(m.Subject) {
		m.Kind = Notice
	}
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
var automaticSubjects = []string{
	"automatic reply", "automatic response", "auto reply", "autoreply", "auto-reply", "auto response", "autoresponse",
	"auto:",
	"out of office", "out of the office", "out-of-office", "i am out of", "on vacation", "vacation reply",
	"automatische antwort", "automatische rückantwort", "abwesenheitsnotiz", "abwesenheitsassistent", "abwesend",
	"abwesenheit",
	"respuesta automática", "respuesta automatica", "fuera de la oficina", "fuera de oficina",
	"réponse automatique", "reponse automatique", "absence du bureau", "absent du bureau", "message d'absence",
	"risposta automatica", "fuori sede", "fuori ufficio", "assente dall'ufficio",
	"automatisch antwoord", "automatische reactie", "afwezig", "afwezigheid", "niet aanwezig",
	"resposta automática", "resposta automatica", "ausência", "fora do escritório", "ausente do escritório",
	"automatyczna odpowiedź", "odpowiedź automatyczna", "autoodpowiedź", "nieobecność", "poza biurem",
	"automaattinen vastaus", "poissaolo", "poissa toimistolta", "olen poissa",
	"autosvar", "automatisk svar", "automatiskt svar", "automatisk besvarelse", "fraværsmelding", "fravær",
	"fraværende",
	"frånvaro", "frånvarande", "ikke til stede", "ikke på kontoret", "inte på kontoret",
	"automatická odpověď", "automatikus válasz", "otomatik yanıt", "автоответ", "автоматический ответ",
	"автоматична відповідь",
	"自動応答", "自動返信", "【自動", "不在", "自动回复", "自動回覆", "자동 회신",
}

// automaticHeaders are those with which programs said so before RFC 3834.
// Common practice, no source.
var automaticHeaders = []string{
	"X-Autoreply", "X-Autorespond", "X-Auto-Reply", "X-Autoresponse", "X-Autoresponder", "X-Auto-Response",
	"X-Vacation", "X-Autogenerated",
	"X-Auto-Generated", "X-Mail-Autoreply", "X-Autoreply-From",
}

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
	for _, key := range automaticHeaders {
		if v := strings.ToLower(strings.TrimSpace(get(key))); v != "" && v != "no" && v != "false" {
			return true
		}
	}
	subject := strings.ToLower(strings.TrimSpace(get("Subject")))
	for _, s := range automaticSubjects {
		if strings.HasPrefix(subject, s) {
			return true
		}
	}
	return false
}

package mail

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // letters come in many
	gomsg "github.com/emersion/go-message/mail"
	"github.com/gogs/chardet"
	"github.com/smallstep/pkcs7"
	"golang.org/x/net/html/charset"

	"ombak/internal/core/answer"
)

// Kind is what an incoming letter is.
type Kind int

// The kinds. Automatic is an automatic answer (RFC 3834), Bounce a report that
// an address takes no letters (RFC 3464), NotNow one that a letter is late or
// was given up without fault of the address, Complaint a reader's complaint
// (RFC 5965), Notice any other report.
const (
	FromPerson Kind = iota
	Automatic
	Bounce
	NotNow
	Complaint
	Notice
)

// String names a kind.
func (k Kind) String() string {
	return [...]string{"from a person", "automatic", "bounce", "not now", "complaint", "notice"}[k]
}

// Received is a letter that came in.
type Received struct {
	ID         string   // Message-ID without brackets
	From       string   // address, in lower case
	To         []string // of the envelope
	Whom       []string // of the header: whom it is to, and who gets a copy; in lower case
	Subject    string
	Text       string   // the whole of it
	Said       string   // without what it quotes, and without signatures for machines
	References []string // Message-IDs it answers to, the nearest first
	Kind       Kind
	About      []Recipient // what a delivery report says
	Against    []string    // whom a complaint is from: the addresses it was sent to
}

// Limits of what is taken in.
const (
	MaxLetter = 10 << 20
	maxText   = 200_000
	maxWhom   = 100
)

// Limits of what is read of a letter. Each level costs a walk through all that lies within it, so that a small letter
// of many levels could keep a core busy for minutes; no program that people write with comes near any of them.
const (
	maxLevels = 10
	maxParts  = 200
	maxHeader = 256 << 10 // bytes of one part's header
)

// Read reads a letter's source. Whatever it is, something is read: where the
// form of RFC 5322 is broken, the lines that are no header are passed over, and
// where there is none at all, all of it is text. A part in an unknown encoding is
// passed over, and so are the parts below the tenth level and after the two
// hundredth.
func Read(source []byte) Received {
	e, err := open(source)
	if err != nil {
		e, err = open(mended(source))
	}
	if err != nil {
		text := legible(source[:min(len(source), maxText)], "")
		return Received{Text: text, Said: answer.Said(text)}
	}
	h := gomsg.Header{Header: e.Header}
	var m Received
	if ids := messageIDs(h.Get("Message-Id")); len(ids) > 0 {
		m.ID = ids[0]
	}
	m.Subject = headerText(h, "Subject")
	m.From = sender(h)
	for _, name := range []string{"To", "Cc"} {
		list, err := h.AddressList(name)
		if err != nil {
			continue // whom it is to is asked of nobody whose letter is not in form
		}
		for _, a := range list[:min(len(list), maxWhom)] {
			m.Whom = append(m.Whom, strings.ToLower(a.Address))
		}
	}
	// The nearest first: what it answers, then what came before that.
	m.References = messageIDs(h.Get("In-Reply-To"))
	refs := messageIDs(h.Get("References"))
	for i := len(refs) - 1; i >= 0; i-- {
		m.References = append(m.References, refs[i])
	}
	kind, params, _ := h.ContentType()
	report := ""
	if strings.EqualFold(kind, "multipart/report") {
		report, m.Kind = strings.ToLower(params["report-type"]), Notice
	}
	r := partReader{m: &m}
	m.Text, m.Said = joined(r.walk(e, 0))
	switch {
	case report == "delivery-status":
		m.Text = strings.TrimSpace(m.Text + "\n\n" + r.reportText)
		m.Said = m.Text
		m.Kind = verdict(m.About)
	case report == "" && m.Kind == FromPerson:
		m.judge(h.Get)
	}
	if m.Said == "" && r.sealed {
		m.Said = "(encrypted: it cannot be read here)"
	}
	// What answers to very much answers to nothing in particular: the nearest are enough.
	m.References = m.References[:min(len(m.References), 100)]
	return m
}

// Envelope adds what the other server said of a letter before it: from whom it
// comes and to whom. What has nobody to send it back to (RFC 5321, 4.5.5) was
// written by a program, and no person ever.
func (m *Received) Envelope(from string, to []string) {
	m.To = to
	if from == "" && m.Kind == FromPerson {
		m.Kind = Automatic
	}
}

// open reads a letter's head. An error is one of its form.
func open(source []byte) (*message.Entity, error) {
	e, err := message.ReadWithOptions(bytes.NewReader(source), &message.ReadOptions{MaxHeaderBytes: maxHeader})
	if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return nil, fmt.Errorf("this is no letter: %w", err)
	}
	return e, nil
}

var field = regexp.MustCompile(`^[!-9;-~]+[ \t]*:`)

// mended is a letter without the lines of its header that are none (RFC 5322,
// 2.2); one that begins with no header is all body.
func mended(source []byte) []byte {
	head, body, some := bytes.Cut(bytes.ReplaceAll(source, []byte("\r\n"), []byte("\n")), []byte("\n\n"))
	if len(head) > maxHeader {
		head = head[:maxHeader]
	}
	var out bytes.Buffer
	kept := false
	for l := range bytes.SplitSeq(head, []byte("\n")) {
		folded := kept && len(l) > 0 && (l[0] == ' ' || l[0] == '\t') && len(bytes.TrimSpace(l)) > 0
		if kept = folded || field.Match(l); kept {
			out.Write(append(bytes.ReplaceAll(l, []byte("\r"), nil), '\r', '\n'))
		}
	}
	if out.Len() == 0 {
		body, some = source, true
	}
	out.WriteString("\r\n")
	if some {
		out.Write(body)
	}
	return out.Bytes()
}

// headerText is a header in words, whatever character set it was written in.
func headerText(h gomsg.Header, name string) string {
	s, err := h.Text(name)
	if err != nil {
		s = h.Get(name)
	}
	return strings.TrimSpace(legible([]byte(s), ""))
}

// address finds one where a From cannot be read as the standard has it.
var address = regexp.MustCompile(`[^\s<>"(),:;]+@[^\s<>"(),:;]+`)

func sender(h gomsg.Header) string {
	for _, name := range []string{"From", "Sender", "Reply-To"} {
		if list, err := h.AddressList(name); err == nil && len(list) > 0 {
			return strings.ToLower(list[0].Address)
		}
		if a := address.FindString(h.Get(name)); a != "" {
			return strings.ToLower(a)
		}
	}
	if strings.Contains(strings.ToLower(h.Get("From")), "mailer-daemon") {
		return "mailer-daemon"
	}
	return ""
}

// messageIDs reads the Message-IDs in a header, without their brackets: also
// in the obsolete forms, which have phrases and comments between and white space
// within them (RFC 5322, 4.5.4).
func messageIDs(header string) []string {
	var out []string
	var id []byte
	in, comment, quoted := false, 0, false
	for i := 0; i < len(header) && len(out) < 200; i++ {
		c := header[i]
		switch {
		case c == '\\' && (quoted || comment > 0):
			i++
		case comment > 0:
			comment += map[byte]int{'(': 1, ')': -1}[c]
		case c == '(' && !quoted:
			comment++
		case c == '"':
			quoted = !quoted
			if in {
				id = append(id, c)
			}
		case in && c == '>' && !quoted:
			if s := string(id); strings.Contains(s, "@") && len(s) <= 998 {
				out = append(out, s)
			}
			in = false
		case in && (c == ' ' || c == '\t' || c == '\r' || c == '\n') && !quoted:
		case in:
			id = append(id, c)
		case c == '<' && !quoted:
			in, id = true, id[:0]
		}
	}
	if len(out) == 0 && header != "" { // without brackets, or with a quotation mark too few
		for _, s := range bareID.FindAllString(header, 20) {
			out = append(out, s)
		}
	}
	return out
}

var bareID = regexp.MustCompile(`[^\s<>"(),;]+@[^\s<>"(),;]+`)

// partReader goes through the parts of a letter.
type partReader struct {
	m          *Received
	parts      int
	sealed     bool // something in it is encrypted
	reportText string
}

// words are what one part has of text.
type words struct {
	text     string // as it stands
	said     string // without quotations
	attached bool   // it is a file
}

func (w words) blank() bool {
	return strings.TrimFunc(w.text, func(r rune) bool {
		return unicode.IsSpace(r) || r == '\u200b' || r == '\ufeff'
	}) == ""
}

// joined is the text of a letter: all parts that are not files, one below the
// other; where there are none, the files.
func joined(list []words) (text, said string) {
	for _, files := range []bool{false, true} {
		for _, w := range list {
			if w.attached != files || w.blank() || len(text) > maxText {
				continue
			}
			text += "\n\n" + strings.TrimSpace(w.text)
			said += "\n\n" + strings.TrimSpace(w.said)
		}
		if text = strings.TrimSpace(text); text != "" {
			return text, answer.Said(strings.TrimSpace(said))
		}
	}
	return "", ""
}

// walk reads a part and those within it. A letter that was cut off keeps what
// came before.
func (r *partReader) walk(e *message.Entity, level int) []words {
	if r.parts++; r.parts > maxParts {
		return nil
	}
	parts := e.MultipartReader()
	if parts == nil {
		return r.part(e, level)
	}
	kind, _, _ := e.Header.ContentType()
	if kind == "multipart/encrypted" { // RFC 1847, 2.2
		r.sealed = true
	}
	var all []words
	var best []words
	for level < maxLevels && r.parts <= maxParts {
		p, err := parts.NextPart()
		if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
			break // the end, as a rule
		}
		if err != nil && p == nil {
			continue
		}
		inner := r.walk(p, level+1)
		all = append(all, inner...)
		if ct, _, _ := p.Header.ContentType(); some(inner) && (best == nil || ct == "text/plain") {
			best = inner
		}
	}
	if kind == "multipart/alternative" && best != nil {
		return best // the same in several forms: plain words where there are any
	}
	return all
}

func some(list []words) bool {
	for _, w := range list {
		if !w.blank() {
			return true
		}
	}
	return false
}

// part reads what has no parts of its own.
func (r *partReader) part(e *message.Entity, level int) []words {
	m := r.m
	ct, params, err := e.Header.ContentType()
	if err != nil && ct == "" {
		ct = "text/plain" // RFC 2045, 5.2: what cannot be read is taken for that
	}
	limit := int64(maxText)
	if strings.HasSuffix(ct, "pkcs7-mime") {
		limit = MaxLetter
	}
	body, err := io.ReadAll(io.LimitReader(e.Body, limit))
	if err != nil && len(body) == 0 {
		return nil
	}
	disposition, _, _ := e.Header.ContentDisposition()
	file := strings.EqualFold(disposition, "attachment")
	switch ct {
	case "text/plain", "text", "":
		w := plain(legible(body, "text/plain"), params)
		w.attached = file
		return []words{w}
	case "text/html", "application/xhtml+xml":
		w := marked(legible(body, "text/html"))
		w.attached = file
		return []words{w}
	case "application/pkcs7-mime", "application/x-pkcs7-mime": // RFC 8551, 3.5.2: signed, with what is signed within
		if r.sealed = true; !tame(body) {
			return nil
		}
		inner, err := pkcs7.Parse(body)
		if err != nil || len(inner.Content) == 0 {
			return nil
		}
		r.sealed = false
		if e, err := open(inner.Content); err == nil && level < maxLevels {
			return r.walk(e, level+1)
		}
	case "message/delivery-status", "message/global-delivery-status":
		text := legible(body, "")
		if len(r.reportText) < maxText {
			r.reportText += text
		}
		m.About = append(m.About, deliveryReport(text)...)
	case "message/feedback-report":
		yes, about := complaint(legible(body, ""))
		m.Against = append(m.Against, about...)
		if yes {
			m.Kind = Complaint
		}
	case "message/rfc822", "message/global", "text/rfc822-headers", "message/global-headers":
		inner, err := open(body)
		if err != nil {
			return nil
		}
		ih := gomsg.Header{Header: inner.Header}
		if to, err := ih.AddressList("To"); err == nil && m.Kind == Complaint && len(m.Against) == 0 {
			for _, a := range to {
				m.Against = append(m.Against, strings.ToLower(a.Address))
			}
		}
		m.References = append(m.References, messageIDs(ih.Get("Message-Id"))...)
	}
	return nil
}

// legible is text in UTF-8 without signs that nothing can show, whatever
// character set it came in: one that was said has been taken off before.
func legible(b []byte, kind string) string {
	switch {
	case utf8.Valid(b) && !bytes.Contains(b, []byte("\x1b$")):
	case kind == "text/html" && bytes.Contains(bytes.ToLower(b[:min(len(b), 1024)]), []byte("charset")):
		enc, _, _ := charset.DetermineEncoding(b, kind) // it says so within
		if text, err := enc.NewDecoder().Bytes(b); err == nil {
			b = text
		}
	default:
		// What is mostly UTF-8 was only cut off or is broken in one place.
		if valid := bytes.ToValidUTF8(b, nil); len(b)-len(valid) <= 3 && len(valid) > len(b)/2 && many(valid) {
			break
		}
		name := "windows-1252"
		if guess, err := chardet.NewTextDetector().DetectBest(b); err == nil && guess.Confidence > 30 {
			name = guess.Charset
		}
		enc, _ := charset.Lookup(name)
		if enc == nil {
			enc, _ = charset.Lookup("windows-1252")
		}
		if text, err := enc.NewDecoder().Bytes(b); err == nil {
			b = text
		}
	}
	text := strings.ToValidUTF8(strings.ReplaceAll(string(b), "\x00", ""), "�")
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' {
			return -1
		}
		return r
	}, text)
}

// many reports whether letters beyond ASCII stand in a text as UTF-8.
func many(b []byte) bool { return utf8.RuneCount(b) < len(b) }

// plain is a text/plain part: its lines put together where it says that they
// flow (RFC 3676), and without what only machines read.
func plain(text string, params map[string]string) words {
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	if strings.EqualFold(params["format"], "flowed") {
		text = flowed(text, strings.EqualFold(params["delsp"], "yes"))
	}
	return words{text: text, said: answer.Said(unarmoured(withoutFiles(text)))}
}

// flowed joins the lines of a paragraph (RFC 3676, 4).
func flowed(text string, delsp bool) string {
	var out []string
	open, depth := false, 0 // the last line goes on, at that depth of quoting
	for l := range strings.SplitSeq(text, "\n") {
		d := len(l) - len(strings.TrimLeft(l, ">"))
		l = strings.TrimPrefix(l[d:], " ") // stuffed
		goesOn := strings.HasSuffix(l, " ") && l != "-- "
		if goesOn && delsp {
			l = strings.TrimSuffix(l, " ")
		}
		if open && d == depth && l != "-- " {
			out[len(out)-1] += l
		} else {
			mark := strings.Repeat(">", d)
			if d > 0 {
				mark += " "
			}
			out = append(out, mark+l)
		}
		open, depth = goesOn, d
	}
	return strings.Join(out, "\n")
}

// A file within the text, as it was sent before there were parts (POSIX,
// uuencode), and the armour of RFC 9580, 6.2 and 7.
var (
	uufile = regexp.MustCompile(
		`(?m)^begin(?:-base64)? [0-7]{3,4} (.{1,200})\n(?:[!-~ ]{1,100}\n)*?(?:end|====)\s*$`)
	armour    = regexp.MustCompile(`(?s)-----BEGIN PGP (SIGNATURE|PUBLIC KEY BLOCK)-----.*?-----END PGP [A-Z ]+-----`)
	encrypted = regexp.MustCompile(`(?s)-----BEGIN PGP MESSAGE-----.*?-----END PGP MESSAGE-----`)
	signed    = regexp.MustCompile(`-----BEGIN PGP SIGNED MESSAGE-----\n(?:[A-Za-z-]+: .*\n)*\n?`)
)

func withoutFiles(text string) string { return uufile.ReplaceAllString(text, "(file: $1)") }

// unarmoured is a text without its signature for machines.
func unarmoured(text string) string {
	all := text
	if !strings.Contains(text, "-----BEGIN PGP ") {
		return text
	}
	if signed.MatchString(text) {
		text = strings.ReplaceAll(signed.ReplaceAllString(text, ""), "\n- ", "\n") // 7.1: dashes are escaped so
	}
	text = encrypted.ReplaceAllString(armour.ReplaceAllString(text, ""), "(encrypted: it cannot be read here)")
	if strings.TrimSpace(text) == "" {
		return all
	}
	return strings.TrimSpace(text)
}

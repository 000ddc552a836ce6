// Package mail carries letters out and in over SMTP (RFC 5321) in the form of
// RFC 5322.
//
// Out, it is told apart what became of a letter: taken, refused for now,
// refused for good, or not known. The last is the one that matters: between
// the end of a letter and the server's answer a broken connection leaves open
// whether it was taken, and such a letter must never be sent again by itself.
package mail

import (
	"bytes"
	"io"
	"mime"
	netmail "net/mail"
	"strings"
	"time"
	"unicode"

	gomail "github.com/wneessen/go-mail"

	"ombak/internal/core/plainly"
)

// Letter is an email to one reader.
type Letter struct {
	ID         string // Message-ID without its brackets
	FromName   string
	From       string
	To         string
	ReturnPath string // where bounces go; empty: From
	Subject    string
	Text       string
	HTML       string
	OptOut     string   // address of the page and, by POST, of the one-click opt-out (RFC 8058); empty: none
	InReplyTo  string   // Message-ID without its brackets; empty: it answers nothing
	References []string // those before it in the thread, the first first; InReplyTo is added
	ReplyTo    string
	Cc, Bcc    []string
	Files      []File
	Invite     []byte // a calendar invitation (RFC 5545), or nil
	Automatic  bool   // says so, as RFC 3834 asks of automatic answers
	Date       time.Time
}

// File is an attachment.
type File struct {
	Name string
	Type string
	Data []byte
}

// Fate is what became of a letter.
type Fate int

// The fates. Taken: the server has it. Later: not taken, and worth another
// try. Refused: not taken, for good. Unknown: perhaps taken.
const (
	Taken Fate = iota
	Later
	Refused
	Unknown
)

// String says it in words.
func (f Fate) String() string {
	return [...]string{"taken", "not taken now", "refused", "unknown"}[f]
}

// Compose writes a letter as a MIME message (RFC 2045) with a plain text and,
// where there is one, an HTML part.
func Compose(l Letter) (*gomail.Msg, error) {
	m := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	from := netmail.Address{Name: l.FromName, Address: l.From}
	m.FromMailAddress(&from)
	if err := m.To(l.To); err != nil {
		return nil, plainly.Errorf("the address %q: %w", l.To, err)
	}
	if l.ReturnPath != "" {
		if err := m.EnvelopeFrom(l.ReturnPath); err != nil {
			return nil, plainly.Errorf("the return path %q: %w", l.ReturnPath, err)
		}
	}
	m.Subject(l.Subject)
	m.SetMessageIDWithValue(l.ID)
	m.SetDateWithValue(l.Date)
	if l.OptOut != "" {
		m.SetGenHeader(gomail.HeaderListUnsubscribe, "<"+l.OptOut+">")                 // RFC 2369
		m.SetGenHeader(gomail.HeaderListUnsubscribePost, "List-Unsubscribe=One-Click") // RFC 8058
	}
	if l.InReplyTo != "" {
		m.SetGenHeader(gomail.HeaderInReplyTo, "<"+l.InReplyTo+">")
		var thread []string // RFC 5322, 3.6.4
		for _, id := range l.References {
			if id != l.InReplyTo {
				thread = append(thread, "<"+id+">")
			}
		}
		m.SetGenHeader(gomail.HeaderReferences, strings.Join(append(thread, "<"+l.InReplyTo+">"), " "))
	}
	if l.Automatic {
		m.SetGenHeader("Auto-Submitted", "auto-replied") // RFC 3834
	}
	if l.ReplyTo != "" {
		if err := m.ReplyTo(l.ReplyTo); err != nil {
			return nil, plainly.Errorf("the address for answers %q: %w", l.ReplyTo, err)
		}
	}
	if len(l.Cc) > 0 {
		if err := m.Cc(l.Cc...); err != nil {
			return nil, plainly.Errorf("who gets a copy: %w", err)
		}
	}
	if len(l.Bcc) > 0 {
		if err := m.Bcc(l.Bcc...); err != nil {
			return nil, plainly.Errorf("who gets a hidden copy: %w", err)
		}
	}
	m.SetBodyString(gomail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		m.AddAlternativeString(gomail.TypeTextHTML, l.HTML)
	}
	if l.Invite != nil {
		m.AddAlternativeString(gomail.ContentType("text/calendar; method="+MethodOf(l.Invite)), string(l.Invite))
		if err := m.AttachReader("invite.ics", bytes.NewReader(l.Invite),
			gomail.WithFileContentType("application/ics")); err != nil {
			return nil, plainly.Errorf("the invitation: %w", err)
		}
	}
	for _, f := range l.Files {
		if err := m.AttachReader(f.Name, bytes.NewReader(f.Data), named(f)); err != nil {
			return nil, plainly.Errorf("the file %q: %w", f.Name, err)
		}
	}
	return m, nil
}

// named gives a file its type and its name, whatever letters that has (RFC 2183,
// 2.3, by RFC 2231): the library would write it in a form that is not for there
// (RFC 2047, 5).
func named(f File) gomail.FileOption {
	name := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '/' || r == '\\' {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(f.Name, "_"))
	return func(g *gomail.File) {
		kind, params, err := mime.ParseMediaType(f.Type)
		if err != nil {
			kind, params = "application/octet-stream", map[string]string{}
		}
		params["name"] = name
		if t := mime.FormatMediaType(kind, params); t != "" {
			g.Header.Set("Content-Type", t)
		}
		if d := mime.FormatMediaType("attachment", map[string]string{"filename": name}); d != "" {
			g.Header.Set("Content-Disposition", d)
		}
	}
}

// Write writes a letter's source to w.
func Write(w io.Writer, l Letter) error {
	m, err := Compose(l)
	if err != nil {
		return err
	}
	_, err = m.WriteTo(w)
	return err
}

// Package message turns what a marketer wrote into what one reader gets:
// merge fields filled in, links found and replaced, HTML cleaned and a text
// alternative made from it.
//
// Merge fields use the Liquid language. A field that has no value for a reader
// and no fallback (| default: "…") stops that one email: Render answers a
// *Missing, and nobody gets "Dear ,".
package message

import (
	"errors"
	"fmt"
	"html"
	"regexp"
	"strings"

	"github.com/k3a/html2text"
	"github.com/microcosm-cc/bluemonday"
	"github.com/osteele/liquid"
	"github.com/osteele/liquid/expressions"
	nethtml "golang.org/x/net/html"
)

// Message is what a marketer writes.
type Message struct {
	Subject string
	Body    string // HTML as the editor makes it, with merge fields
}

// Limits in bytes, and the line length that RFC 5322, 2.1.1 sets for what a
// subject becomes once folded.
const (
	MaxSubject = 250
	MaxBody    = 200_000
)

// Field is a merge field that a message can use.
type Field struct {
	Name  string // "person.first_name"
	Label string
}

// Fields lists the merge fields there are.
func Fields() []Field {
	return []Field{
		{"person.first_name", "First name"}, {"person.last_name", "Last name"}, {"person.title", "Title"},
		{"person.email", "Email"}, {"person.country", "Country"}, {"person.city", "City"},
		{"company.name", "Company"}, {"company.industry", "Industry"},
		{"sender.name", "Sender’s name"}, {"sender.first_name", "Sender’s first name"}, {"sender.email", "Sender’s email"}, {"sender.phone", "Sender’s phone"},
	}
}

// Values are what the fields are for one reader, by full name. A field that is
// absent, or empty but for spaces, has no value.
type Values map[string]string

// Missing says which field kept a message from one reader.
type Missing struct{ Field string }

func (m *Missing) Error() string {
	return fmt.Sprintf("the merge field %s has no value and no fallback", m.Field)
}

// Unknown says that a message uses a field that does not exist.
type Unknown struct{ Field string }

func (u *Unknown) Error() string { return fmt.Sprintf("there is no merge field %s", u.Field) }

var policy = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("p", "div", "br", "strong", "b", "em", "i", "del", "u", "ul", "ol", "li", "blockquote", "h1", "h2", "pre")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("http", "https", "mailto")
	p.AllowRelativeURLs(true)
	p.RequireParseableURLs(true)
	return p
}()

// Clean keeps of a body what a message may hold: no script, no style, no
// handler, no form; links to the web, to addresses and to Ombak's own pages.
func Clean(body string) string { return policy.Sanitize(body) }

var engine = func() *liquid.Engine {
	e := liquid.NewEngine()
	e.RegisterFilter("required_by_reader", func(v any, name string) (any, error) {
		if s, ok := v.(string); v == nil || (ok && strings.TrimSpace(s) == "") {
			return nil, &Missing{name}
		}
		return v, nil
	})
	return e
}()

var tag = regexp.MustCompile(`\{\{-?\s*(.*?)\s*-?\}\}`)
var name = regexp.MustCompile(`^[a-z_]+(\.[a-z_]+)*`)

// prepare makes each merge field refuse to be empty and, for HTML, escape
// itself. Fields are written as text, so an editor may have escaped them.
func prepare(src string, escape bool) (string, error) {
	var err error
	out := tag.ReplaceAllStringFunc(src, func(s string) string {
		body := tag.FindStringSubmatch(s)[1]
		if escape {
			body = html.UnescapeString(body)
			body = strings.ReplaceAll(body, "\u00a0", " ")
		}
		field := name.FindString(body)
		if !known(field) && err == nil && !strings.HasPrefix(body, `"`) && !strings.HasPrefix(body, "'") {
			err = &Unknown{firstWord(body)}
		}
		body += fmt.Sprintf(` | required_by_reader: "%s"`, field)
		if escape {
			body += " | escape"
		}
		return "{{ " + body + " }}"
	})
	return out, err
}

func firstWord(s string) string {
	if f := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == '|' }); len(f) > 0 {
		return f[0]
	}
	return "{{ }}"
}

func known(field string) bool {
	for _, f := range Fields() {
		if f.Name == field {
			return true
		}
	}
	return false
}

func (v Values) bindings() liquid.Bindings {
	b := liquid.Bindings{}
	for k, s := range v {
		group, field, ok := strings.Cut(k, ".")
		if !ok || strings.TrimSpace(s) == "" {
			continue
		}
		m, _ := b[group].(map[string]any)
		if m == nil {
			m = map[string]any{}
			b[group] = m
		}
		m[field] = s
	}
	return b
}

func fill(src string, v Values, escape bool) (string, error) {
	src, err := prepare(src, escape)
	if err != nil {
		return "", err
	}
	out, serr := engine.ParseAndRenderString(src, v.bindings())
	if serr != nil {
		// Liquid's errors know a Cause, not Unwrap, and a filter's holds its own.
		for cause := error(serr); cause != nil; {
			if f, ok := cause.(expressions.FilterError); ok {
				cause = f.Err
			}
			if m, ok := cause.(*Missing); ok {
				return "", m
			}
			c, ok := cause.(interface{ Cause() error })
			if !ok {
				break
			}
			cause = c.Cause()
		}
		return "", fmt.Errorf("the merge fields cannot be read: %v", serr)
	}
	return out, nil
}

// Check reports what would keep the message from every reader: a limit passed,
// nothing written, an unknown field or Liquid that cannot be read.
func (m *Message) Check() error {
	switch {
	case strings.TrimSpace(m.Subject) == "":
		return errors.New("the message has no subject")
	case len(m.Subject) > MaxSubject:
		return fmt.Errorf("the subject is longer than %d bytes", MaxSubject)
	case strings.ContainsAny(m.Subject, "\r\n"):
		return errors.New("the subject is more than one line")
	case strings.TrimSpace(html2text.HTML2Text(m.Body)) == "":
		return errors.New("the message has no text")
	case len(m.Body) > MaxBody:
		return fmt.Errorf("the message is longer than %d bytes", MaxBody)
	}
	all := Values{}
	for _, f := range Fields() {
		all[f.Name] = "x"
	}
	_, err := m.Render(all, nil)
	return err
}

// Rendered is a message for one reader.
type Rendered struct {
	Subject string
	HTML    string
	Text    string
}

// Render fills the message in for one reader. link, where given, replaces the
// target of each web link; n counts the links from 1, as Links does.
func (m *Message) Render(v Values, link func(n int, target string) string) (Rendered, error) {
	subject, err := fill(m.Subject, v, false)
	if err != nil {
		return Rendered{}, err
	}
	subject = strings.Join(strings.Fields(subject), " ") // a value with a line break must not start a header
	body, err := fill(Clean(m.Body), v, true)
	if err != nil {
		return Rendered{}, err
	}
	if link != nil {
		body = relink(body, link)
	}
	text := html2text.HTML2TextWithOptions(body, html2text.WithUnixLineBreaks())
	return Rendered{subject, body, strings.TrimSpace(text) + "\n"}, nil
}

// Links lists the targets of the message's web links, in order.
func (m *Message) Links() []string {
	var out []string
	relink(Clean(m.Body), func(_ int, target string) string { out = append(out, target); return target })
	return out
}

func relink(body string, link func(n int, target string) string) string {
	z := nethtml.NewTokenizer(strings.NewReader(body))
	var b strings.Builder
	n := 0
	for {
		if z.Next() == nethtml.ErrorToken {
			return b.String()
		}
		t := z.Token()
		if t.Type == nethtml.StartTagToken && t.Data == "a" {
			for i, a := range t.Attr {
				if a.Key == "href" && !strings.HasPrefix(a.Val, "mailto:") {
					n++
					t.Attr[i].Val = link(n, a.Val)
				}
			}
		}
		b.WriteString(t.String())
	}
}

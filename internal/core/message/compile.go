package message

import (
	"errors"
	"fmt"
	"html"
	"maps"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/k3a/html2text"

	"ombak/internal/core/rule"
)

// Link is a link of a document whose presses are counted. Its number stays the
// same for all readers of a version, whatever their group.
type Link struct {
	N       int
	Target  string
	Section int
	Group   int64
	Words   string // what the reader presses
}

// ownLinks is the first number of a link in words written for one reader alone.
const ownLinks = 1001

// Links lists the links of a document, in the order of their numbers.
func (d *Document) Links() []Link {
	var out []Link
	n := 1
	d.each(func(s *Section, group int64, c Content) {
		src := s.Kind.entry().html(c)
		_, n = dress(src, d.Style, n, func(n int, target string) string {
			out = append(out,
				Link{N: n, Target: target, Section: s.ID, Group: group, Words: linkWords(s.Kind, c, src, target)})
			return target
		})
	})
	n = ownLinks
	for i := range d.Sections {
		s := &d.Sections[i]
		if c, ok := s.For[Own]; ok {
			src := s.Kind.entry().html(c)
			_, n = dress(src, d.Style, n, func(n int, target string) string {
				out = append(out,
					Link{N: n, Target: target, Section: s.ID, Group: Own, Words: linkWords(s.Kind, c, src, target)})
				return target
			})
		}
	}
	return out
}

// linkWords are the words under a link.
func linkWords(k Kind, c Content, src, target string) string {
	switch k {
	case Button, ShelfItem:
		return c.Label
	case Picture:
		return c.Alt
	}
	_, rest, _ := strings.Cut(src, html.EscapeString(target)+`"`)
	_, rest, _ = strings.Cut(rest, ">")
	words, _, _ := strings.Cut(rest, "</a>")
	return strings.TrimSpace(html2text.HTML2Text(words))
}

// Target is where the link with a number leads; false where there is none.
func (d *Document) Target(n int) (Link, bool) {
	for _, l := range d.Links() {
		if l.N == n {
			return l, true
		}
	}
	return Link{}, false
}

// Program is a document ready to be filled in. It is safe for use by several
// goroutines.
type Program struct {
	doc   *Document
	parts map[int64]*letter // by group
	links []Link
	shelf bool // some words name an item of the shelf
	names []Field

	signatures sync.Map // as written → [2]string, HTML that is safe and text: many letters have few senders
}

// letter is what the readers of one group get.
type letter struct {
	subject, html, text *template
	links               []Link
	shelf               bool
	src                 strings.Builder // of all three
}

// textOf is what a text alternative has of some HTML: a link's words, then where
// it leads.
func textOf(src string) string {
	return strings.TrimSpace(html2text.HTML2TextWithOptions(src, html2text.WithUnixLineBreaks(),
		html2text.WithLinksInnerText(), html2text.WithListSupport()))
}

func placeholder(n int) string { return "ombak-link-" + strconv.Itoa(n) + "-" }

// Compile readies a document for its readers. It fails with an *Unknown where a
// merge field does not exist, and where Liquid cannot be read.
func Compile(d *Document, fields []Field) (*Program, error) {
	known := map[string]bool{}
	for _, f := range fields {
		known[f.Name] = true
	}
	links := d.Links()
	p := &Program{doc: d, parts: map[int64]*letter{}, links: links}
	groups := []int64{Else}
	for i := range d.Groups {
		groups = append(groups, d.Groups[i].ID)
	}
	for _, g := range groups {
		l, err := d.compile(g, links, known)
		if err != nil {
			return nil, err
		}
		p.parts[g] = l
		p.shelf = p.shelf || l.shelf
	}
	for _, f := range fields {
		for _, l := range p.parts {
			if strings.Contains(l.src.String(), f.Name) {
				p.names = append(p.names, f)
				break
			}
		}
	}
	for _, l := range p.parts {
		l.src.Reset() // it is kept no longer than that
	}
	return p, nil
}

// Names lists the merge fields that it names, of those it was compiled with: no
// other has to be read for its readers.
func (p *Program) Names() []Field { return p.names }

func (d *Document) compile(group int64, links []Link, known map[string]bool) (*letter, error) {
	l := &letter{}
	var body, text strings.Builder
	for i := range d.Sections {
		s := &d.Sections[i]
		if s.Absent(group) {
			continue
		}
		c, g := s.Of(group), Else
		if _, own := s.For[Own]; own {
			g = Own
		} else if _, has := s.For[group]; has {
			g = group
		}
		var mine []Link
		for _, x := range links {
			if x.Section == s.ID && x.Group == g {
				mine = append(mine, x)
			}
		}
		l.links = append(l.links, mine...)
		k := 0
		relink := func(_ int, target string) string {
			k++
			return placeholder(mine[k-1].N)
		}
		src := s.Kind.entry().html(c)
		dressed, _ := dress(src, d.Style, 1, relink)
		if s.Kind == Text { // its lines have no space between them, and so none below
			dressed = `<div style="margin:0 0 18px">` + dressed + `</div>`
		}
		body.WriteString(dressed)
		k = 0
		plain, _ := dress(src, "", 1, relink)
		words := textOf(plain)
		switch s.Kind {
		case Divider:
			words = strings.Repeat("-", 40)
		case Quote:
			words = strings.TrimSuffix(words, c.By)
			words = "> " + strings.ReplaceAll(strings.TrimSpace(words)+either(c.By != "", "\n"+c.By), "\n", "\n> ")
		case Picture:
			words = strings.TrimSpace(c.Alt)
			if len(mine) > 0 {
				words += " <" + placeholder(mine[0].N) + ">"
			}
		case Signature:
			words = "{{ sender.signature }}"
		}
		if words != "" {
			text.WriteString(words + "\n\n")
		}
	}
	written := strings.TrimSpace(text.String())
	if w := d.Written.For(group); strings.TrimSpace(w) != "" {
		written = strings.TrimSpace(strings.ReplaceAll(w, "\r\n", "\n"))
	}
	written += "\n" + below + "No more mail from us, or less of it: ombak-opt-out-\nombak-sender-"
	ready := func(place, src string, escape, framed bool) (*template, error) {
		l.shelf = l.shelf || strings.Contains(src, shelfField)
		src, err := prepare(src, escape, known)
		if err != nil {
			return nil, at(place, err)
		}
		l.src.WriteString(src)
		if framed {
			pre, err := prepare(html.EscapeString(d.Preheader.For(group)), true, known)
			if err != nil {
				return nil, at("the line behind the subject", err)
			}
			l.src.WriteString(pre)
			src = frame(d.Style, pre, src, d.Bare)
		}
		for _, x := range l.links {
			src = strings.ReplaceAll(src, placeholder(x.N), fmt.Sprintf("{{ ombak.link_%d }}", x.N))
		}
		src = strings.ReplaceAll(src, `href="`+OptOutLink+`"`, `href="{{ ombak.opt_out }}"`)
		src = strings.ReplaceAll(strings.ReplaceAll(src, "ombak-opt-out-", "{{ ombak.opt_out }}"),
			"<"+OptOutLink+">", "<{{ ombak.opt_out }}>")
		src = strings.ReplaceAll(src, "ombak-sender-", "{% if ombak.sender %}{{ ombak.sender }}\n{% endif %}")
		t, err := parse(src)
		return t, at(place, err)
	}
	var err error
	if l.subject, err = ready("the subject", d.Subject.For(group), false, false); err != nil {
		return nil, err
	}
	if l.html, err = ready("", body.String(), true, true); err != nil {
		return nil, at(d.placeOf(err, group, known), err)
	}
	l.text, err = ready("the text for readers without pictures", written, false, false)
	return l, err
}

// placeOf names the section in which a fault of the whole text lies.
func (d *Document) placeOf(err error, group int64, known map[string]bool) string {
	f, ok := errors.AsType[*Fault](err)
	for i := range d.Sections {
		s := &d.Sections[i]
		if s.Absent(group) || !ok {
			continue
		}
		_, serr := prepare(s.Kind.entry().html(s.Of(group)), true, known)
		if x, ok := errors.AsType[*Fault](serr); ok && x.Why == f.Why && x.Mark == f.Mark {
			return fmt.Sprintf("section %d (%s)", i+1, strings.ToLower(s.Kind.Words()))
		}
	}
	return "the text"
}

// Addresses are what differs between two emails of one message: where its
// links lead, the page to opt out and the picture that tells of an open (empty:
// none).
type Addresses struct {
	Link   func(n int, target string) string // nil: straight to the target
	OptOut string
	Pixel  string
	Trap   string // a link that no reader sees; empty: none
	Sender string // who writes and where they are, in one line, for under the email; empty: nothing
}

// Rendered is a message for one reader.
type Rendered struct {
	Subject string
	HTML    string
	Text    string
}

// GroupOf is the reader's group: the first whose rule holds, or Else.
func (p *Program) GroupOf(f rule.Facts, at time.Time) int64 { return p.doc.GroupOf(f, at) }

// Groups reports whether the words depend on the reader's group.
func (p *Program) Groups() bool { return len(p.doc.Groups) > 0 }

// AsksSignals reports whether what readers did decides whose words they get.
func (p *Program) AsksSignals() (yes bool) {
	for i := range p.doc.Groups {
		p.doc.Groups[i].Rule.Each(func(c *rule.Condition) { yes = yes || c.Signal != nil })
	}
	return yes
}

// NamesShelf reports whether some words name an item of the shelf, so that
// their titles are wanted.
func (p *Program) NamesShelf() bool { return p.shelf }

// Links lists the links of the document that it was compiled from.
func (p *Program) Links() []Link { return p.links }

// Document is what the program was compiled from.
func (p *Program) Document() *Document { return p.doc }

// Render fills the message in for one reader of a group.
func (p *Program) Render(group int64, v Values, a Addresses) (Rendered, error) {
	l := p.parts[group]
	if l == nil {
		l = p.parts[Else]
	}
	own := make(map[string]any, len(l.links)+2)
	for _, x := range l.links {
		target := x.Target
		if a.Link != nil {
			target = a.Link(x.N, x.Target)
		}
		own["link_"+strconv.Itoa(x.N)] = html.EscapeString(target)
	}
	own["opt_out"] = html.EscapeString(a.OptOut)
	if a.Sender != "" {
		own["sender"] = html.EscapeString(a.Sender)
	}
	if a.Trap != "" {
		own["trap"] = html.EscapeString(a.Trap)
	}
	b := p.bindings(v)
	b["ombak"] = own
	var out Rendered
	subject, err := l.subject.fill(b)
	if err != nil {
		return out, err
	}
	out.Subject = strings.Join(strings.Fields(subject), " ") // a value with a line break must not start a header
	escaped := maps.Clone(own)
	for k, x := range own { // in text, addresses stand as they are
		own[k] = html.UnescapeString(x.(string))
	}
	if out.Text, err = l.text.fill(b); err != nil {
		return out, err
	}
	if b["ombak"] = escaped; a.Pixel != "" {
		if escaped["pixel"] = html.EscapeString(a.Pixel); len(out.Text) < fewWords {
			escaped["backdrop"], escaped["pixel"] = escaped["pixel"], nil
		}
	}
	out.HTML, err = l.html.fill(b)
	return out, err
}

// fewWords is how long a letter's text is to which filters hold against it that it
// has an image (common practice, no source): its pixel lies behind it.
const fewWords = 3300

func (p *Program) bindings(v Values) map[string]any {
	b := map[string]any{}
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
		if k == signatureField {
			both, ok := p.signatures.Load(s)
			if !ok {
				clean := Clean(s)
				both = [2]string{clean,
					strings.TrimSpace(html2text.HTML2TextWithOptions(clean, html2text.WithUnixLineBreaks()))}
				p.signatures.Store(s, both)
			}
			m["signature_html"], m["signature_text"] = both.([2]string)[0], both.([2]string)[1]
			continue
		}
		m[field] = s
	}
	return b
}

// Sketch is a section as the writer shows it: plain HTML, its merge fields as
// they were typed.
func Sketch(k Kind, c Content) string { return k.entry().html(c) }

// below parts a letter's text from what stands below every letter.
const below = "\n--\n"

// Above is a letter's text without what stands below every letter.
func Above(text string) string {
	if i := strings.LastIndex(text, below); i >= 0 {
		text = text[:i]
	}
	return strings.TrimSpace(text)
}

package message

import (
	"fmt"
	"html"
	"slices"
	"strings"
	"unicode/utf8"
)

// Finding is something that would go wrong, or could be better, and where.
type Finding struct {
	Section int   // 0: the message as a whole
	Group   int64 // whose words
	Text    string
	Grave   bool // readers would get something broken
}

// What mail programs do with too much. Common practice, no source: several
// cut a letter off beyond about 100 kB, and a phone shows some 40 letters of a
// subject.
const (
	CutSize    = 100_000
	CutSubject = 45
	// Attachments grow by a third on their way, and many servers take no letter
	// beyond 10 MB, few one beyond 25.
	HeavyFiles = 7_000_000
	MostFiles  = 18_000_000
)

// Proof lists what would go wrong with the document, whoever reads it. page
// tells whether a target within Ombak leads anywhere.
func (d *Document) Proof(page func(target string) bool) []Finding {
	var out []Finding
	add := func(section int, group int64, grave bool, format string, args ...any) {
		out = append(out, Finding{section, group, fmt.Sprintf(format, args...), grave})
	}
	groups := []int64{Else}
	for i := range d.Groups {
		groups = append(groups, d.Groups[i].ID)
	}
	for _, g := range groups {
		if s := d.Subject[g]; g == Else && blank(s) {
			add(0, g, true, "there is no subject")
		} else if n := utf8.RuneCountInString(tag.ReplaceAllString(s, "Abcdefgh")); n > CutSubject {
			add(0, g, false, "the subject has about %d letters; a phone shows some %d", n, CutSubject-5)
		}
	}
	if blank(d.Preheader[Else]) {
		add(0, Else, false, "there is no preheader: lists of mail show the first words instead")
	}
	if len(d.Sections) == 0 {
		add(0, Else, true, "there is nothing in it yet")
	}
	d.each(func(s *Section, g int64, c Content) {
		if g == Else && s.Absent(Else) {
			add(s.ID, g, false, "only some groups read it: for everyone else there is nothing")
		} else if lacks := s.Kind.Lacks(c); lacks != "" {
			add(s.ID, g, true, "%s", lacks)
		}
		for _, target := range []string{c.Link, c.Picture} {
			if !blank(target) && Address(target) == "" {
				add(s.ID, g, true, "“%s” is no address that a reader could follow", target)
			}
		}
		if strings.HasPrefix(c.Picture, "/") && !page(c.Picture) {
			add(s.ID, g, true, "the picture is not there any more")
		}
		if strings.Contains(s.Kind.entry().html(c), `<a>`) || strings.Contains(s.Kind.entry().html(c), `<a href="">`) &&
			s.Kind != Button {
			add(s.ID, g, true, "a link leads nowhere")
		}
	})
	files := int64(0)
	for _, f := range d.Files {
		files += f.Size
	}
	if files > HeavyFiles {
		add(0, Else, files > MostFiles,
			"the attachments have %d MB; many mail servers take no letter of more than 10: put a link to the shelf "+
				"in instead", files/1_000_000)
	}
	for _, l := range d.Links() {
		words := l.Words
		if words == "" {
			words = l.Target
		}
		switch {
		case strings.Contains(l.Target, "{{") || strings.Contains(l.Target, "%7B%7B"):
			add(l.Section, l.Group, true, "the link “%s” has a merge field in its address; links cannot have any",
				words)
		case strings.HasPrefix(l.Target, "/") && !page(l.Target):
			add(l.Section, l.Group, true, "the link “%s” leads to %s, and there is no such page", words, l.Target)
		case Address(l.Target) == "":
			add(l.Section, l.Group, true, "the link “%s” leads nowhere", words)
		}
	}
	for _, g := range groups[1:] {
		missing := func(w Words) bool { return !blank(w[Else]) && len(w) > 1 && blank(w[g]) }
		if missing(d.Subject) {
			add(0, g, false, "no subject of their own: %s read everyone else’s", d.GroupName(g))
		}
		for i := range d.Sections {
			s := &d.Sections[i]
			if _, own := s.For[g]; len(s.For) > 1 && !own && !s.Absent(g) {
				add(s.ID, g, false, "no version for %s: they read everyone else’s", d.GroupName(g))
			}
		}
	}
	for _, g := range groups {
		if d.Bare && !d.optsOut(g) {
			add(0, g, true,
				"there is no way to opt out: put a link to %s into a section, or let the line at the end stay",
				OptOutLink)
		}
		if n := d.weight(g); n > CutSize {
			add(0, g, false, "it has about %d kB; mail programs cut off what is beyond some %d kB", n/1000,
				CutSize/1000)
		}
	}
	return out
}

func (d *Document) optsOut(group int64) bool {
	for i := range d.Sections {
		s := &d.Sections[i]
		if !s.Absent(group) && strings.Contains(s.Kind.entry().html(s.Of(group)), `href="`+OptOutLink+`"`) {
			return true
		}
	}
	return false
}

// weight is about how many bytes of HTML a reader of a group gets.
func (d *Document) weight(group int64) int {
	n := len(frame(d.Style, "", "", d.Bare))
	for i := range d.Sections {
		s := &d.Sections[i]
		dressed, _ := dress(s.Kind.entry().html(s.Of(group)), d.Style, 1, nil)
		n += len(dressed)
	}
	return n
}

// NeededBy lists the merge fields without which a reader of a group does not
// get the message.
func (d *Document) NeededBy(group int64) []string {
	var out []string
	add := func(src string) {
		for _, f := range Needed(src) {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	add(d.Subject.For(group))
	add(d.Preheader.For(group))
	add(d.Written.For(group))
	for i := range d.Sections {
		s := &d.Sections[i]
		if s.Kind != Signature && !s.Absent(group) {
			add(html.UnescapeString(s.Kind.entry().html(s.Of(group))))
		}
	}
	return out
}

// GridRow tells, for one section, which groups have a version of their own.
type GridRow struct {
	Section int
	Kind    Kind
	Words   string
	Has     []bool // by group, in the document's order
}

// Grid is the table of versions: a row for the subject (section 0) and one for
// each section.
func (d *Document) Grid() []GridRow {
	row := func(id int, k Kind, words string, has func(g int64) bool) GridRow {
		r := GridRow{Section: id, Kind: k, Words: words}
		for i := range d.Groups {
			r.Has = append(r.Has, has(d.Groups[i].ID))
		}
		return r
	}
	out := []GridRow{row(0, "subject", d.Subject[Else], func(g int64) bool { return !blank(d.Subject[g]) })}
	for i := range d.Sections {
		s := &d.Sections[i]
		c := s.For[Else]
		out = append(out, row(s.ID, s.Kind, c.words(s.Kind), func(g int64) bool { _, ok := s.For[g]; return ok }))
	}
	return out
}

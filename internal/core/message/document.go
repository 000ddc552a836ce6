// Package message turns what a marketer wrote into what one reader gets.
//
// A message is a Document: sections in an order, each with a version for every
// group of readers that needs its own words. Compile readies it once; Render
// then fills it in for one reader: merge fields in the Liquid language, tracked
// links, HTML that mail programs show, and a text alternative.
//
// A merge field that has no value for a reader and no fallback
// (| default: "…") stops that one email: Render answers a *Missing, and nobody
// gets "Dear ,".
package message

import (
	"html"
	"regexp"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/arrange"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Limits in bytes.
const (
	MaxSubject  = 250
	MaxBody     = 200_000
	MaxSections = 60
	MaxGroups   = 12
)

// Else is the group of everyone who is in none of a document's groups.
const Else int64 = 0

// Own stands for the words written for one reader alone.
const Own int64 = -1

// Style is how a message looks.
type Style string

// The styles: Plain reads like a letter that somebody typed, Designed has a
// frame, colours and buttons.
const (
	Plain    Style = "plain"
	Designed Style = "designed"
)

// Group is a group of readers as a document keeps it: with the rule that it had
// when the document was written.
type Group struct {
	ID   int64     `json:"id"`
	Name string    `json:"name"`
	Rule rule.Rule `json:"rule"`
}

// Words are a line of text by group of readers; Else is everyone else's.
type Words map[int64]string

// For is the line that a group reads: its own, or everyone else's.
func (w Words) For(group int64) string {
	if s, ok := w[Own]; ok {
		return s
	}
	if s := w[group]; strings.TrimSpace(s) != "" {
		return s
	}
	return w[Else]
}

// Document is a message as it is written.
type Document struct {
	Style     Style     `json:"style"`
	Subject   Words     `json:"subject"`
	Preheader Words     `json:"preheader,omitempty"` // what lists of mail show behind the subject
	Groups    []Group   `json:"groups,omitempty"`    // the first whose rule holds is the reader's
	Sections  []Section `json:"sections"`
	Written   Words     `json:"written,omitempty"` // text alternative by hand; empty: made from the sections
	Bare      bool      `json:"bare,omitempty"`    // no line at the end by which to opt out: the sections have one
	ReplyTo   string    `json:"reply_to,omitempty"`
	Cc        []string  `json:"cc,omitempty"`
	Bcc       []string  `json:"bcc,omitempty"`
	Invite    *Invite   `json:"invite,omitempty"`
	Event     int64     `json:"event,omitempty"` // that it is about: its merge fields are this event's; 0: none
	Files     []File    `json:"files,omitempty"`
	Last      int       `json:"last"` // the highest section id given
}

// Invite is an invitation that goes with a message into the reader's calendar.
type Invite struct {
	Title   string    `json:"title"`
	Start   time.Time `json:"start"`
	Minutes int       `json:"minutes"`
	Place   string    `json:"place,omitempty"`
	Note    string    `json:"note,omitempty"`
}

// File is an attachment: a version of an item of the shelf, so that what was
// proved is what goes out.
type File struct {
	Item    int64  `json:"item"`
	Version int    `json:"version"`
	Name    string `json:"name"`
	Size    int64  `json:"size"` // bytes
}

// MaxFiles is how many attachments a message has at most.
const MaxFiles = 10

// Section is a part of a message.
type Section struct {
	ID   int               `json:"id"`
	Kind Kind              `json:"kind"`
	For  map[int64]Content `json:"for"` // by group; Else is everyone else's
}

// Content is what a section holds for one group of readers. Which fields are
// used depends on the kind.
type Content struct {
	Text    string   `json:"text,omitempty"` // HTML of a text and a quote; plain words of a heading
	Label   string   `json:"label,omitempty"`
	Link    string   `json:"link,omitempty"`
	Picture string   `json:"picture,omitempty"` // address
	Alt     string   `json:"alt,omitempty"`     // what the picture shows, in words
	By      string   `json:"by,omitempty"`
	Items   []string `json:"items,omitempty"`
	Ordered bool     `json:"ordered,omitempty"`
	Small   bool     `json:"small,omitempty"`
	Shelf   int64    `json:"shelf,omitempty"` // item of the shelf
}

// Of is what a group reads in the section: its own version, or everyone else's.
func (s *Section) Of(group int64) Content {
	if c, ok := s.For[Own]; ok {
		return c
	}
	if c, ok := s.For[group]; ok {
		return c
	}
	return s.For[Else]
}

// Absent reports whether a group does not read the section: it is written for
// other groups alone.
func (s *Section) Absent(group int64) bool {
	if _, own := s.For[Own]; own || len(s.For) < 2 || s.Kind.Lacks(s.Of(group)) == "" {
		return false
	}
	_, has := s.For[group]
	return group == Else || !has
}

// Simple is a message of one text for everybody.
func Simple(subject, body string) Document {
	return Document{Style: Plain, Subject: Words{Else: subject}, Last: 1,
		Sections: []Section{{ID: 1, Kind: Text, For: map[int64]Content{Else: {Text: body}}}}}
}

// Paragraphs is typed text as HTML: a blank line parts paragraphs.
func Paragraphs(text string) string {
	var b strings.Builder
	for _, p := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n\n") {
		if p = strings.TrimSpace(p); p != "" {
			b.WriteString("<p>" + strings.ReplaceAll(html.EscapeString(p), "\n", "<br>") + "</p>")
		}
	}
	return b.String()
}

// Number is the section's id.
func (s Section) Number() int { return s.ID }

// Section finds a section by its id; −1 where it is not there.
func (d *Document) Section(id int) int { return arrange.Find(d.Sections, id) }

// Insert puts a new, empty section of a kind behind another (0: before all) and
// answers its id.
func (d *Document) Insert(k Kind, behind int) (int, error) {
	if !k.Known() {
		return 0, plainly.Errorf("there is no kind of section %q", k)
	}
	if len(d.Sections) >= MaxSections {
		return 0, plainly.Errorf("a message has at most %d sections", MaxSections)
	}
	d.Last++
	d.Sections = arrange.Insert(d.Sections, Section{ID: d.Last, Kind: k, For: map[int64]Content{Else: {}}}, behind)
	return d.Last, nil
}

// Copy puts a copy of a section behind it and answers the copy's id.
func (d *Document) Copy(id int) (int, error) {
	i := d.Section(id)
	if i < 0 {
		return 0, ErrNoSection
	}
	made, err := d.Insert(d.Sections[i].Kind, id)
	if err != nil {
		return 0, err
	}
	for g, c := range d.Sections[i].For {
		c.Items = slices.Clone(c.Items)
		d.Sections[i+1].For[g] = c
	}
	return made, nil
}

// ErrNoSection is answered for a section that is not there.
var ErrNoSection = arrange.ErrGone

// Remove takes a section out.
func (d *Document) Remove(id int) (err error) {
	d.Sections, err = arrange.Remove(d.Sections, id)
	return err
}

// Move moves a section by some places, as far as there are any.
func (d *Document) Move(id, by int) (err error) {
	d.Sections, err = arrange.Move(d.Sections, id, by)
	return err
}

// Order puts the sections into the order of some ids.
func (d *Document) Order(ids []int) { arrange.Order(d.Sections, ids) }

// Set keeps what a section holds for a group. For a group that reads everyone
// else's words so far, that begins a version of its own.
func (d *Document) Set(id int, group int64, c Content) error {
	i := d.Section(id)
	if i < 0 {
		return ErrNoSection
	}
	if group != Else && d.group(group) < 0 {
		return errNoGroup
	}
	d.Sections[i].For[group] = d.Sections[i].Kind.Tidy(c)
	return nil
}

// Unset gives up a group's own version of a section.
func (d *Document) Unset(id int, group int64) error {
	i := d.Section(id)
	if i < 0 || group == Else {
		return ErrNoSection
	}
	delete(d.Sections[i].For, group)
	return nil
}

func (d *Document) group(id int64) int {
	return slices.IndexFunc(d.Groups, func(g Group) bool { return g.ID == id })
}

// Use has the document use these groups, in this order. Versions for a group
// that goes, go with it.
func (d *Document) Use(groups []Group) {
	d.Groups = groups
	keep := func(g int64) bool { return g == Else || d.group(g) >= 0 }
	for i := range d.Sections {
		for g := range d.Sections[i].For {
			if !keep(g) {
				delete(d.Sections[i].For, g)
			}
		}
	}
	for _, w := range []Words{d.Subject, d.Preheader, d.Written} {
		for g := range w {
			if !keep(g) {
				delete(w, g)
			}
		}
	}
}

var errNoGroup = plainly.New("the message does not use this group of readers")

// Prefer has a group asked before the one above it: who fits both then reads
// its words.
func (d *Document) Prefer(id int64) error {
	i := d.group(id)
	if i < 0 {
		return errNoGroup
	}
	if i > 0 {
		d.Groups = slices.Clone(d.Groups)
		d.Groups[i-1], d.Groups[i] = d.Groups[i], d.Groups[i-1]
	}
	return nil
}

// GroupOf is the reader's group: the first whose rule holds, or Else.
func (d *Document) GroupOf(f rule.Facts, at time.Time) int64 {
	for i := range d.Groups {
		if d.Groups[i].Rule.Holds(f, at) {
			return d.Groups[i].ID
		}
	}
	return Else
}

// GroupName is the name of a group of the document.
func (d *Document) GroupName(id int64) string {
	if i := d.group(id); i >= 0 {
		return d.Groups[i].Name
	}
	return "everyone else"
}

// Each calls f with every version of the subject, the preheader and the
// sections that exists, in an order that does not change: that of the document,
// and for each part everyone else's first, then those of the groups.
func (d *Document) each(f func(s *Section, group int64, c Content)) {
	order := []int64{Else}
	for i := range d.Groups {
		order = append(order, d.Groups[i].ID)
	}
	for i := range d.Sections {
		s := &d.Sections[i]
		for _, g := range order {
			if c, ok := s.For[g]; ok {
				f(s, g, c)
			}
		}
	}
}

// mergeField is what stands for each reader's own words.
var mergeField = regexp.MustCompile(`\{\{[^}]*\}\}|\{%[^%]*%\}`)

// maxPlain bounds what Plain answers, in bytes.
const maxPlain = 100_000

// Plain is all that a document says, to any group, in plain words, with three points for each reader's
// own: what it is found by.
func (d *Document) Plain() string {
	var out strings.Builder
	for _, w := range d.Subject {
		out.WriteString(w + "\n")
	}
	d.each(func(_ *Section, _ int64, c Content) {
		for _, s := range append([]string{textOf(c.Text), c.Label, c.Alt, c.By}, c.Items...) {
			if s != "" {
				out.WriteString(s + "\n")
			}
		}
	})
	text := mergeField.ReplaceAllString(out.String(), "…")
	return strings.ToValidUTF8(text[:min(len(text), maxPlain)], "")
}

// Edit is what is changed in a message for one reader.
type Edit struct {
	Subject  string          `json:"subject,omitempty"`
	Sections map[int]Content `json:"sections,omitempty"`
}

// With is the document with an edit for one reader in it. What the edit does
// not touch stays shared with d.
func (d *Document) With(e *Edit) *Document {
	if e == nil || e.Subject == "" && len(e.Sections) == 0 {
		return d
	}
	out := *d
	if e.Subject != "" {
		out.Subject = Words{Own: e.Subject}
	}
	out.Sections = slices.Clone(d.Sections)
	for i := range out.Sections {
		if c, ok := e.Sections[out.Sections[i].ID]; ok {
			out.Sections[i].For = map[int64]Content{Own: c}
		}
	}
	return &out
}

// Check reports what would keep the message from every reader, or nil: a limit
// passed, nothing written, an unknown field, or Liquid that cannot be read.
func (d *Document) Check(fields []Field) error {
	switch {
	case d.Style != Plain && d.Style != Designed:
		return plainly.Errorf("a message is plain or designed, not %q", d.Style)
	case strings.TrimSpace(d.Subject.For(Else)) == "":
		return plainly.New("the message has no subject")
	case len(d.Sections) > MaxSections:
		return plainly.Errorf("a message has at most %d sections", MaxSections)
	case len(d.Files) > MaxFiles:
		return plainly.Errorf("a message has at most %d attachments", MaxFiles)
	case len(d.Groups) > MaxGroups:
		return plainly.Errorf("a message has at most %d groups of readers", MaxGroups)
	}
	for _, s := range d.Subject {
		if len(s) > MaxSubject {
			return plainly.Errorf("the subject is longer than %d bytes", MaxSubject)
		}
		if strings.ContainsAny(s, "\r\n") {
			return plainly.New("the subject is more than one line")
		}
	}
	size, said := 0, false
	seen := map[int]bool{}
	for i := range d.Sections {
		s := &d.Sections[i]
		if !s.Kind.Known() {
			return plainly.Errorf("there is no kind of section %q", s.Kind)
		}
		if seen[s.ID] || s.ID < 1 || s.ID > d.Last {
			return plainly.New("two sections have one number")
		}
		seen[s.ID] = true
		for _, c := range s.For {
			size += c.size()
			said = said || strings.TrimSpace(c.words(s.Kind)) != ""
		}
	}
	switch {
	case !said:
		return plainly.New("the message has no text")
	case size > MaxBody:
		return plainly.Errorf("the message is longer than %d bytes", MaxBody)
	}
	_, err := Compile(d, fields)
	return err
}

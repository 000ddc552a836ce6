package web

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Two tabs, or two people, can have the same draft open. Each form says which
// state it was drawn from; whoever saves later is told, sees both, and chooses.

// errChanged is answered where a draft is no longer in the state that a form
// was drawn from.
var errChanged = plainly.New("this draft was changed in another place meanwhile")

// stateOf names a state of something by what it says.
func stateOf(parts ...any) string {
	b, err := json.Marshal(parts)
	if err != nil {
		return "" // what is kept as JSON can be written as JSON
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// conflictData is both sides of what two have changed.
type conflictData struct {
	Name   string
	Target string // what of the page the answer goes into
	Back   string // where theirs is, as it stands
	Action string // where the form was sent
	Base   string // the name of the field that says the state, and the state now
	State  string
	Typed  []typedField
	Lines  []conflictLine
}

// typedField is what a field of the form held.
type typedField struct{ Name, Value string }

// conflictLine is a part that differs.
type conflictLine struct {
	What         string
	Theirs, Mine template.HTML
}

func (d *conflictData) words(what, theirs, mine string) {
	if theirs != mine {
		d.Lines = append(d.Lines, conflictLine{what, template.HTML(template.HTMLEscapeString(theirs)), template.HTML(template.HTMLEscapeString(mine))})
	}
}

func (d *conflictData) shown(what, theirs, mine string) {
	if theirs != mine {
		d.Lines = append(d.Lines, conflictLine{what, template.HTML(theirs), template.HTML(mine)}) // Sketch's, which are cleaned
	}
}

// conflict shows both sides. What was typed goes along, so that choosing it
// needs no typing again.
func (s *Server) conflict(c *echo.Context, place string, d conflictData, v url.Values) error {
	for name, list := range v {
		if slices.Contains([]string{"_csrf", "do", "quiet", d.Base}, name) {
			continue
		}
		for _, x := range list {
			d.Typed = append(d.Typed, typedField{name, x})
		}
	}
	slices.SortStableFunc(d.Typed, func(a, b typedField) int { return strings.Compare(a.Name, b.Name) })
	return s.pageCode(c, http.StatusConflict, "conflict.html", "conflict", place, d.Name, d)
}

// messageState names a state of a message's draft.
func messageState(d *store.MessageDraft) string { return stateOf(d.Doc.V, d.FromOwner, d.SenderID) }

// messageConflict is what of a message differs between a draft as it stands and
// as it would be with what was typed.
func messageConflict(theirs, mine *store.MessageDraft, group int64) (out conflictData) {
	a, b := &theirs.Doc.V, &mine.Doc.V
	out.words("Subject", a.Subject[group], b.Subject[group])
	out.words("Preheader", a.Preheader[group], b.Preheader[group])
	out.words("Text alternative", a.Written[group], b.Written[group])
	for _, x := range b.Sections {
		if i := a.Section(x.ID); i >= 0 {
			out.shown(x.Kind.Words(), message.Sketch(x.Kind, a.Sections[i].Of(group)), message.Sketch(x.Kind, x.Of(group)))
		}
	}
	say := func(d *store.MessageDraft) string {
		doc := &d.Doc.V
		words := []string{string(doc.Style), "answers to " + doc.ReplyTo, strings.Join(doc.Cc, ", "), strings.Join(doc.Bcc, ", ")}
		if d.FromOwner {
			words = append(words, "from the reader’s owner")
		}
		if doc.Invite != nil {
			words = append(words, "invites to "+doc.Invite.Title)
		}
		return strings.Join(words, "; ")
	}
	out.words("Who writes, and how", say(theirs), say(mine))
	if len(out.Lines) == 0 {
		out.words("Settings", "as they stand", "as you set them")
	}
	return out
}

// pageConflict is messageConflict for a page.
func pageConflict(a, b *page.Document) (out conflictData) {
	out.words("Title", a.Title, b.Title)
	for _, x := range b.Blocks {
		if i := a.Block(x.ID); i >= 0 {
			out.shown(x.Kind.Words(), message.Sketch(x.Kind, a.Blocks[i].Content), message.Sketch(x.Kind, x.Content))
		}
	}
	f, g := &a.Form, &b.Form
	out.words("Form, title", f.Title, g.Title)
	out.words("Form, button", f.Button, g.Button)
	out.shown("Form, thanks", f.Thanks, g.Thanks)
	asks := func(f *page.Form) string {
		var words []string
		for _, q := range f.Questions {
			words = append(words, string(q.Field)+" “"+q.Label+"”")
		}
		return strings.Join(words, ", ")
	}
	out.words("Questions", asks(f), asks(g))
	if stateOf(*f) != stateOf(*g) && len(out.Lines) == 0 {
		out.words("What the form does", "as it stands", "as you set it")
	}
	return out
}

// stepConflict is messageConflict for a step of a sequence.
func stepConflict(a, b sequence.Step, n sequence.Names) (out conflictData) {
	out.words("Title", a.About().Title, b.About().Title)
	out.words("What it does", a.Says(n), b.Says(n))
	mine := b.Settings(n)
	for i, x := range a.Settings(n) {
		if a.Kind() == b.Kind() && i < len(mine) {
			out.words(x.Name, x.Is, mine[i].Is)
		}
	}
	if len(out.Lines) == 0 && stateOf(a) != stateOf(b) {
		out.words("Settings", "as they stand", "as you set them")
	}
	return out
}

package content

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// messageState names a state of a message's draft.
func messageState(d *store.MessageDraft) string {
	return shell.StateOf(d.Doc.V, d.FromOwner, d.SenderID)
}

// messageConflict is what of a message differs between a draft as it stands and
// as it would be with what was typed.
func messageConflict(theirs, mine *store.MessageDraft, group int64) (out shell.ConflictData) {
	a, b := &theirs.Doc.V, &mine.Doc.V
	out.Words("Subject", a.Subject[group], b.Subject[group])
	out.Words("Preheader", a.Preheader[group], b.Preheader[group])
	out.Words("Text alternative", a.Written[group], b.Written[group])
	for _, x := range b.Sections {
		if i := a.Section(x.ID); i >= 0 {
			out.Shown(x.Kind.Words(), message.Sketch(x.Kind, a.Sections[i].Of(group)),
				message.Sketch(x.Kind, x.Of(group)))
		}
	}
	say := func(d *store.MessageDraft) string {
		doc := &d.Doc.V
		words := []string{string(doc.Style), "answers to " + doc.ReplyTo, strings.Join(doc.Cc, ", "),
			strings.Join(doc.Bcc, ", ")}
		if d.FromOwner {
			words = append(words, "from the reader’s owner")
		}
		if doc.Invite != nil {
			words = append(words, "invites to "+doc.Invite.Title)
		}
		return strings.Join(words, "; ")
	}
	out.Words("Who writes, and how", say(theirs), say(mine))
	if len(out.Lines) == 0 {
		out.Words("Settings", "as they stand", "as you set them")
	}
	return out
}

// pageConflict is messageConflict for a page.
func pageConflict(a, b *page.Document) (out shell.ConflictData) {
	out.Words("Title", a.Title, b.Title)
	for _, x := range b.Blocks {
		if i := a.Block(x.ID); i >= 0 {
			out.Shown(x.Kind.Words(), message.Sketch(x.Kind, a.Blocks[i].Content), message.Sketch(x.Kind, x.Content))
		}
	}
	f, g := &a.Form, &b.Form
	out.Words("Form, title", f.Title, g.Title)
	out.Words("Form, button", f.Button, g.Button)
	out.Shown("Form, thanks", f.Thanks, g.Thanks)
	asks := func(f *page.Form) string {
		var words []string
		for _, q := range f.Questions {
			words = append(words, string(q.Field)+" “"+q.Label+"”")
		}
		return strings.Join(words, ", ")
	}
	out.Words("Questions", asks(f), asks(g))
	if shell.StateOf(*f) != shell.StateOf(*g) && len(out.Lines) == 0 {
		out.Words("What the form does", "as it stands", "as you set it")
	}
	return out
}

// mailingState names a state of a one-off email's draft.
func mailingState(m *store.Mailing) string {
	return shell.StateOf(m.Name, m.Message, m.Purpose, m.Audience, append([]int64{}, m.Excluded.V...), m.Plan.V,
		append([]mailing.LinkAct{}, m.Acts.V...))
}

// mailingConflicts shows the draft of a one-off email as it stands beside what was typed.
func (s *Place) mailingConflicts(c *echo.Context, theirs, mine *store.Mailing, v url.Values) error {
	ctx := c.Request().Context()
	choices, err := s.ActChoices(ctx)
	if err != nil {
		return err
	}
	messages, err := s.Store.MessageNames(ctx)
	if err != nil {
		return err
	}
	audiences, err := s.Store.Audiences(ctx)
	if err != nil {
		return err
	}
	names := map[string]string{}
	for _, m := range messages {
		names[fmt.Sprint("message ", m.ID)] = m.Name
	}
	for _, a := range audiences {
		names[fmt.Sprint("audience ", a.ID)] = a.Name
	}
	for _, p := range choices.Purposes {
		names[fmt.Sprint("purpose ", p.ID)] = p.Name
	}
	name := func(what string, id *int64) string {
		if id == nil {
			return "none"
		}
		return cmp.Or(names[fmt.Sprint(what, " ", *id)], "one that is not there any more")
	}
	excluded := func(m *store.Mailing) string {
		var out []string
		for _, id := range m.Excluded.V {
			out = append(out, name("audience", &id))
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	when := func(m *store.Mailing) string {
		p := &m.Plan.V
		at := "at once"
		if !p.At.IsZero() {
			at = "not before " + p.At.In(s.Engine.Zone()).Format("2 January 2006, 15:04")
		}
		hours := ""
		for _, list := range p.Hours.Days {
			if len(list) > 0 {
				hours = ", from " + clockOf(list[0].From) + " to " + clockOf(list[0].To)
			}
		}
		return at + hours
	}
	who := func(m *store.Mailing) string {
		return fmt.Sprintf("nobody who had an email within %d days%s", m.Plan.V.Rest,
			shell.Either(m.Plan.V.WithDeals, "; also people with an open deal", ""))
	}
	tags := func(m *store.Mailing) string {
		t := &m.Plan.V.Tags
		return strings.Join(slices.DeleteFunc([]string{t.Source, t.Medium, t.Campaign, t.Content},
			func(s string) bool { return s == "" }), ", ")
	}
	acts := func(m *store.Mailing) string {
		var out []string
		for _, a := range m.Acts.V {
			out = append(out, fmt.Sprintf("link %d: %s", a.Link, a.Says(choices)))
		}
		return strings.Join(out, "; ")
	}
	d := shell.ConflictData{Name: theirs.Name, Target: "mailing", Base: "base", State: mailingState(theirs),
		Action: fmt.Sprintf("/content/emails/%d", theirs.ID), ForGood: true}
	d.Back = d.Action
	d.Words("Name", theirs.Name, mine.Name)
	d.Words("Message", name("message", theirs.Message), name("message", mine.Message))
	d.Words("Audience", name("audience", theirs.Audience), name("audience", mine.Audience))
	d.Words("What they agreed to", name("purpose", theirs.Purpose), name("purpose", mine.Purpose))
	d.Words("Left out", excluded(theirs), excluded(mine))
	d.Words("Who gets it", who(theirs), who(mine))
	d.Words("When", when(theirs), when(mine))
	d.Words("Campaign tags", tags(theirs), tags(mine))
	d.Words("What links do besides", acts(theirs), acts(mine))
	return s.Conflict(c, "Content", d, v)
}

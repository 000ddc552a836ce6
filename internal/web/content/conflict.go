package content

import (
	"strings"

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

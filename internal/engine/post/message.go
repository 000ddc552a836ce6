package post

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/people"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// Errors of messages.
var (
	ErrNameMessage = plainly.New("give the message a name, so that you find it again")
	ErrSignature   = plainly.New("a signature has at most 5,000 letters")
)

// NewMessage begins a message, from a starter or a copy of another.
func (e *Post) NewMessage(
	ctx context.Context, name string, doc message.Document, fromOwner bool, user int64,
) (id int64, err error) {
	if name = person.Name(name); name == "" {
		return 0, people.ErrNoName
	}
	m := store.Message{Name: name, Doc: store.JSON[message.Document]{V: doc}, FromOwner: fromOwner, SenderID: &user}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.AddMessage(ctx, m, user, e.Now())
		return err
	})
	return id, err
}

// CopyMessage begins a message that says what another's draft says.
func (e *Post) CopyMessage(ctx context.Context, id, user int64) (int64, error) {
	m, err := e.Store.MessageText(ctx, id)
	if err != nil {
		return 0, err
	}
	d, err := e.Store.MessageDraft(ctx, id)
	if err != nil {
		return 0, err
	}
	return e.NewMessage(ctx, "Copy of "+m.Name, d.Doc.V, d.FromOwner, user)
}

// EditMessage changes the draft of a message, as one step that can be undone.
func (e *Post) EditMessage(ctx context.Context, id, user int64, what string, f func(*store.MessageDraft) error) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		return tx.EditMessage(ctx, id, user, what, e.Now(), f)
	})
}

// MoveMessageDraft undoes (−1) or redoes (1) a step of a draft; false where
// there is none.
func (e *Post) MoveMessageDraft(ctx context.Context, id int64, by int) (ok bool, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err = tx.MoveMessageDraft(ctx, id, by)
		return err
	})
	return ok, err
}

// KeepMessage makes the draft the message's next version. Sequences that run
// keep the version they were launched with.
func (e *Post) KeepMessage(ctx context.Context, id, user int64) error {
	fields, err := e.Fields(ctx)
	if err != nil {
		return err
	}
	m, err := e.Store.MessageText(ctx, id)
	if err != nil {
		return err
	}
	d, err := e.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	if err := d.Doc.V.Check(fields); err != nil {
		return err
	}
	if d.SenderID == nil {
		return plainly.New("choose who sends it to readers without an owner")
	}
	m.Doc, m.FromOwner, m.SenderID = d.Doc, d.FromOwner, d.SenderID
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.SaveMessage(ctx, m, user, e.Now())
		return err
	})
}

// RemoveMessage takes a message that nothing sends off the lists; back puts it
// back.
func (e *Post) RemoveMessage(ctx context.Context, id int64, back bool) error {
	use, err := e.Store.MessageUse(ctx, id)
	if err != nil {
		return err
	}
	if err := people.InUse(use); err != nil && !back {
		return err
	}
	now := e.Now()
	at := &now
	if back {
		at = nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveMessage(ctx, id, at) })
}

// UseGroups has the draft of a message use some groups of readers, in this
// order, with the rules they have now.
func (e *Post) UseGroups(ctx context.Context, id, user int64, groups []int64) error {
	all, err := e.Store.ReaderGroups(ctx)
	if err != nil {
		return err
	}
	return e.EditMessage(ctx, id, user, "groups of readers", func(d *store.MessageDraft) error {
		var use []message.Group
		for _, g := range groups {
			found := false
			for _, x := range all {
				if x.ID == g {
					use, found = append(use, message.Group{ID: x.ID, Name: x.Name, Rule: x.Rule.V}), true
				}
			}
			for _, x := range d.Doc.V.Groups { // one that is gone by now stays as the message has it
				if x.ID == g && !found {
					use = append(use, x)
				}
			}
		}
		if len(use) > message.MaxGroups {
			return plainly.Errorf("a message has at most %d groups of readers", message.MaxGroups)
		}
		d.Doc.V.Use(use)
		return nil
	})
}

// SaveReaderGroup keeps a group of readers.
func (e *Post) SaveReaderGroup(ctx context.Context, g store.ReaderGroup) (id int64, err error) {
	if g.Name = person.Name(g.Name); g.Name == "" {
		return 0, people.ErrNoName
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		cat, err := tx.Catalogue(ctx)
		if err != nil {
			return err
		}
		if !g.Rule.V.Asks() {
			return plainly.New("a group of readers needs at least one condition; everyone else is always there")
		}
		if err := g.Rule.V.Check(cat); err != nil {
			return err
		}
		id, err = tx.SaveReaderGroup(ctx, g)
		return err
	})
	return id, err
}

// TestSend sends the draft of a message, as one reader would get it, to a user.
// It counts nowhere, and its links lead straight to their targets.
func (e *Post) TestSend(ctx context.Context, id, reader, to int64, group int64) error {
	d, err := e.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	u, err := e.Store.User(ctx, to)
	if err != nil {
		return err
	}
	r, err := e.WriteFor(ctx, &d.Doc.V, id, reader, d.FromOwner, d.SenderID, group)
	if err != nil {
		return err
	}
	invite, err := e.invitation(d.Doc.V.Invite, r.Sender, u.Email, fmt.Sprintf("test.%d.%d", id, e.Now().Unix()))
	if err != nil {
		return err
	}
	links := func(s, attr string) string { return strings.ReplaceAll(s, attr+`="/`, attr+`="`+e.URL+`/`) }
	files, err := e.attachments(ctx, &d.Doc.V)
	if err != nil {
		return err
	}
	ways, err := e.mailers(ctx, []int64{r.Sender.ID})
	if err != nil {
		return err
	}
	way := ways[r.Sender.ID]
	if way == nil {
		way = e.Mail
	}
	_, err = way.Send(ctx, mail.Letter{
		ID: fmt.Sprintf("test.%d.%d.%d@%s", id, to, e.Now().UnixNano(), e.Domain), FromName: r.Sender.Name,
		From: r.Sender.Email, To: u.Email, Date: e.Now(),
		Subject: "[test] " + r.Subject, Text: r.Text, HTML: links(links(r.HTML, "href"), "src"),
		ReplyTo: d.Doc.V.ReplyTo, Invite: invite, Files: files,
	})
	return err
}

// EditForOne keeps what is changed in a message for one reader; nil takes it
// back. What has gone out already stays as it was.
func (e *Post) EditForOne(ctx context.Context, id, reader, user int64, edit *message.Edit) error {
	m, err := e.Store.MessageText(ctx, id)
	if err != nil {
		return err
	}
	if _, err := e.Store.Person(ctx, reader); err != nil {
		return err
	}
	if edit != nil {
		fields, err := e.Fields(ctx)
		if err != nil {
			return err
		}
		for n, c := range edit.Sections {
			i := m.Doc.V.Section(n)
			if i < 0 {
				return message.ErrNoSection
			}
			edit.Sections[n] = m.Doc.V.Sections[i].Kind.Tidy(c)
		}
		if len(edit.Subject) > message.MaxSubject {
			return plainly.Errorf("the subject is longer than %d bytes", message.MaxSubject)
		}
		if _, err := message.Compile(m.Doc.V.With(edit), fields); err != nil {
			return err
		}
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		return tx.SetPersonalEdit(ctx, id, reader, user, edit, e.Now())
	})
}

// invitation is the calendar invitation of a message, nil where it has none.
func (e *Post) invitation(i *message.Invite, from store.User, to, uid string) ([]byte, error) {
	if i == nil || i.Start.IsZero() {
		return nil, nil
	}
	return mail.Invitation(mail.Event{UID: uid + "@" + e.Domain, Title: i.Title, Start: i.Start,
		End: i.Start.Add(time.Duration(i.Minutes) * time.Minute), Place: i.Place, Note: i.Note,
		OrganiserName: from.Name, Organiser: from.Email, Attendee: to, Stamp: e.Now()})
}

// MaxSignature is how many bytes a signature has at most.
const MaxSignature = 5_000

// SetSignature keeps what stands below a user's letters.
func (e *Post) SetSignature(ctx context.Context, user int64, text string) error {
	if len(text) > MaxSignature {
		return ErrSignature
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetSignature(ctx, user, text) })
}

// RenameMessage gives a message another name.
func (e *Post) RenameMessage(ctx context.Context, id int64, name string) error {
	if name = person.Name(name); name == "" {
		return ErrNameMessage
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RenameMessage(ctx, id, name) })
}

// RemoveReaderGroup removes a group of readers; messages keep their words for it.
func (e *Post) RemoveReaderGroup(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveReaderGroup(ctx, id) })
}

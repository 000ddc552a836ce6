package post

import (
	"context"
	"fmt"
	"strings"

	"ombak/internal/core/contact"
	"ombak/internal/core/message"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// ByHand is an email that a user writes to one person about something on the
// shelf.
type ByHand struct {
	Person  int64
	Item    int64 // of the shelf; 0: none
	Subject string
	Text    string // as typed, a blank line parts paragraphs
	Once    string // made with the form, so that it goes once however often it is pressed
}

// MayWrite reports why a person cannot be written to by hand, or nil.
func MayWrite(p *store.Person) error {
	switch contact.Why(p.Reach(), contact.Email, contact.Ground{Other: store.ByHandGround}) {
	case "":
		return nil
	case contact.DoNotContact:
		return plainly.New("this person must not be contacted")
	case contact.OptedOut:
		return plainly.New("this person opted out of email")
	case contact.Bounced:
		return plainly.New("their address bounces")
	}
	return plainly.New("no email address is known")
}

// document is what it says: a plain letter with the item and a signature.
func (b *ByHand) document(i store.ShelfItem) message.Document {
	d := message.Document{Style: message.Plain,
		Subject: message.Words{message.Else: strings.Join(strings.Fields(b.Subject), " ")}}
	put := func(k message.Kind, c message.Content) {
		d.Last++
		d.Sections = append(d.Sections,
			message.Section{ID: d.Last, Kind: k, For: map[int64]message.Content{message.Else: k.Tidy(c)}})
	}
	if text := message.Paragraphs(b.Text); text != "" {
		put(message.Text, message.Content{Text: text})
	}
	if i.ID != 0 {
		put(message.ShelfItem,
			message.Content{Shelf: i.ID, Label: i.Title, Link: fmt.Sprintf("/s/%d", i.ID), Text: i.About})
	}
	put(message.Signature, message.Content{})
	return d
}

// SendByHand sends an email that a user wrote to one person. It goes out at
// once, from the user's own account, and opens and presses are theirs as of any
// other. Pressing the same form again does nothing.
func (e *Post) SendByHand(ctx context.Context, b ByHand, user int64) error {
	p, err := e.Store.Person(ctx, b.Person)
	if err != nil {
		return err
	}
	if err := MayWrite(&p); err != nil {
		return err
	}
	var item store.ShelfItem
	if b.Item != 0 {
		if item, err = e.Store.ShelfItem(ctx, b.Item); store.IsNotFound(err) {
			return plainly.New("this is not on the shelf any more")
		} else if err != nil {
			return err
		}
	}
	if len(b.Once) < 16 || len(b.Once) > 64 {
		return plainly.New("the form is too old: open it anew")
	}
	doc := b.document(item)
	if strings.TrimSpace(b.Text) == "" {
		return plainly.New("write a few words")
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return err
	}
	if err := doc.Check(fields); err != nil {
		return err
	}
	// What would stop it is said now, and not on the list of what is stuck.
	if _, err := e.WriteFor(ctx, &doc, 0, b.Person, false, &user, message.Else); err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m := store.Message{Name: "By hand: " + doc.Subject[message.Else], Doc: store.JSON[message.Document]{V: doc},
			SenderID: &user}
		return tx.SendByHand(ctx, m, b.Person, user, b.Once, e.Now())
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

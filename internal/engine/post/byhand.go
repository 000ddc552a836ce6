package post

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"ombak/internal/core/contact"
	"ombak/internal/core/message"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
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
	Answers int64  // a letter of theirs that it answers, in its thread; 0: none
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

// ready is what it says, checked, and ready to be kept.
func (e *Post) ready(ctx context.Context, b *ByHand, user int64) (store.Message, error) {
	var m store.Message
	p, err := e.Store.Person(ctx, b.Person)
	if err != nil {
		return m, err
	}
	// Who wrote to us is answered whatever they have opted out of.
	if err := MayWrite(&p); err != nil && (b.Answers == 0 || p.Email == "") {
		return m, err
	}
	var item store.ShelfItem
	if b.Item != 0 {
		if item, err = e.Store.ShelfItem(ctx, b.Item); store.IsNotFound(err) {
			return m, plainly.New("this is not on the shelf any more")
		} else if err != nil {
			return m, err
		}
	}
	if len(b.Once) < 16 || len(b.Once) > 64 {
		return m, plainly.New("the form is too old: open it anew")
	}
	doc := b.document(item)
	if strings.TrimSpace(b.Text) == "" {
		return m, plainly.New("write a few words")
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return m, err
	}
	if err := doc.Check(fields); err != nil {
		return m, err
	}
	// What would stop it is said now, and not on the list of what is stuck.
	if _, err := e.WriteFor(ctx, &doc, 0, b.Person, false, &user, message.Else); err != nil {
		return m, err
	}
	return store.Message{Name: "By hand: " + doc.Subject[message.Else], Doc: store.JSON[message.Document]{V: doc},
		SenderID: &user}, nil
}

// SendByHand sends an email that a user wrote to one person. It goes out at
// once, from the user's own account, and opens and presses are theirs as of any
// other. Pressing the same form again does nothing.
func (e *Post) SendByHand(ctx context.Context, b ByHand, user int64) error {
	m, err := e.ready(ctx, &b, user)
	if err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error { return e.keepByHand(ctx, tx, m, &b, user) })
	if err == nil {
		e.Nudge()
	}
	return err
}

func (e *Post) keepByHand(ctx context.Context, tx store.Tx, m store.Message, b *ByHand, user int64) error {
	return tx.SendByHand(ctx, m, store.HandWritten{Person: b.Person, User: user, Once: b.Once, Answers: b.Answers},
		e.Now())
}

// WriteBack readies an answer to a letter of somebody, in its thread; send has it go out in a
// transaction.
func (e *Post) WriteBack(ctx context.Context, b ByHand, user int64) (send func(store.Tx) error, err error) {
	in, err := e.Store.Incoming(ctx, b.Answers)
	if err != nil {
		return nil, err
	}
	if in.Person == nil || *in.Person != b.Person {
		return nil, store.ErrNotFound
	}
	if b.Subject = in.Subject; strings.TrimSpace(b.Subject) == "" {
		b.Subject = "Your letter"
	}
	if !strings.HasPrefix(strings.ToLower(b.Subject), "re:") {
		b.Subject = "Re: " + b.Subject
	}
	b.Subject = base.Cut(literal(b.Subject), 250)
	m, err := e.ready(ctx, &b, user)
	if err != nil {
		return nil, err
	}
	return func(tx store.Tx) error { return e.keepByHand(ctx, tx, m, &b, user) }, nil
}

// literal is a text without what would be read as a merge field: somebody else wrote it.
func literal(s string) string {
	return strings.NewReplacer("{{", "{ {", "{%", "{ %").Replace(s)
}

// CheckText reports what is wrong with a text that is written to people, with its merge fields.
func (e *Post) CheckText(ctx context.Context, text string) error {
	fields, err := e.Fields(ctx)
	if err != nil {
		return err
	}
	_, err = message.CompileNote(text, fields)
	return err
}

// WriteBackNow sends an answer to a letter of somebody, in its thread.
func (e *Post) WriteBackNow(ctx context.Context, b ByHand, user int64) error {
	send, err := e.WriteBack(ctx, b, user)
	if err != nil {
		return err
	}
	if err := e.Store.InTx(ctx, send); err != nil {
		return err
	}
	e.Nudge()
	return nil
}

// Written is a letter to or from somebody, with its text where it is known.
type Written struct {
	store.Wrote
	Text string
}

// shownWhole is of how many letters that went out a thread has the text.
const shownWhole = 3

// Thread is the last letters to and from somebody, the newest first. The text of the last that went
// out is written anew, by the words that were sent; what has changed of the reader since shows in it.
func (e *Post) Thread(ctx context.Context, who int64, n int) ([]Written, error) {
	list, err := e.Store.Thread(ctx, who, n)
	if err != nil {
		return nil, err
	}
	out := make([]Written, len(list))
	whole := 0
	for i, w := range list {
		out[i] = Written{Wrote: w, Text: w.Said}
		if w.In || w.Message == 0 || whole == shownWhole {
			continue
		}
		whole++
		doc, err := e.Store.VersionDoc(ctx, w.Message, w.Version)
		if store.IsNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		d, err := e.WriteFor(ctx, &doc, w.Message, who, false, &w.Sender, -1)
		if _, plain := plainly.Says(err); plain {
			continue // the reader has no value any more for what it says
		}
		if err != nil {
			return nil, err
		}
		out[i].Text = atHome.ReplaceAllStringFunc(message.Above(d.Text),
			func(s string) string { return "<" + e.URL + s[1:] })
	}
	return out, nil
}

// atHome is the address of a page of one's own in the text of a letter, as it was typed.
var atHome = regexp.MustCompile(`<(/[a-z][^>\s]*)>`)

// Notice is a letter about something that somebody has asked for themselves.
type Notice struct {
	Person, User  int64
	Subject, Text string // as they are: nothing in them is a merge field
	Invite        []byte // to a meeting; empty: none
	Once          string
}

// Notice has a notice go out from a user, once.
func (e *Post) Notice(ctx context.Context, tx store.Tx, n Notice) error {
	b := ByHand{Subject: base.Cut(literal(n.Subject), 250), Text: literal(n.Text)}
	doc := b.document(store.ShelfItem{})
	m := store.Message{Name: "Notice: " + b.Subject, Doc: store.JSON[message.Document]{V: doc}, SenderID: &n.User}
	if n.Invite == nil {
		n.Invite = []byte{}
	}
	return tx.SendByHand(ctx, m,
		store.HandWritten{Person: n.Person, User: n.User, Once: n.Once, Invite: n.Invite}, e.Now())
}

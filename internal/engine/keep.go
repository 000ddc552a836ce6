package engine

import (
	"context"
	"slices"
	"strings"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// What people make and name themselves: tags, fields, purposes, notes, drafts. Each
// is one use case, whoever calls it.

// MaxNote is how many bytes a note has at most.
const MaxNote = 10_000

// MaxSignature is how many bytes a signature has at most.
const MaxSignature = 5_000

// Errors of what people make.
var (
	ErrNameTag      = plainly.New("a tag needs a name")
	ErrNameField    = plainly.New("a field needs a name")
	ErrNamePurpose  = plainly.New("a purpose needs a name")
	ErrNameMessage  = plainly.New("give the message a name, so that you find it again")
	ErrNameSequence = plainly.New("give the sequence a name first")
	ErrNote         = plainly.New("a note has between one letter and 10,000")
	ErrSignature    = plainly.New("a signature has at most 5,000 letters")
	ErrFieldThere   = plainly.New("every record has a field of this name already")
	ErrNoType       = plainly.New("there is no such type of field")
	ErrNoOptions    = plainly.New("name the values to choose from, with commas between them")
	ErrAskedFor     = plainly.New("it is asked for")
	ErrSameTag      = plainly.New("choose another tag to merge this one into")
)

// TagNamed is the number of the tag with a name, which is made where there is
// none, and is then a user's.
func (e *Engine) TagNamed(ctx context.Context, name string, user int64) (id int64, err error) {
	if name = person.Name(name); name == "" {
		return 0, ErrNameTag
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.TagNamed(ctx, name, user, e.Now())
		return err
	})
	return id, err
}

// SaveTag keeps a tag; one without a number is made, and is a user's where it
// names no owner.
func (e *Engine) SaveTag(ctx context.Context, t store.Tag, user int64) error {
	if t.Name, t.Note = person.Name(t.Name), person.Name(t.Note); t.Name == "" {
		return ErrNameTag
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if t.ID == 0 {
			var err error
			if t.ID, err = tx.TagNamed(ctx, t.Name, user, e.Now()); err != nil {
				return err
			}
			if t.OwnerID == nil {
				t.OwnerID = &user
			}
		}
		if err := tx.SaveTag(ctx, t); err != nil {
			return err
		}
		return tx.Notify(ctx, "person")
	})
}

// MergeTags makes one tag of two: who has the one has the other.
func (e *Engine) MergeTags(ctx context.Context, from, into int64) error {
	names, err := e.Store.TagNames(ctx)
	if err != nil {
		return err
	}
	if from == into || !slices.ContainsFunc(names, func(t store.Tag) bool { return t.ID == into }) {
		return ErrSameTag
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.MergeTags(ctx, from, into, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, "person")
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// RemoveTags removes tags, but for those that an audience asks for. It answers how
// many went and how many stay for that.
func (e *Engine) RemoveTags(ctx context.Context, ids []int64) (gone, kept int, err error) {
	list, err := e.Store.Tags(ctx)
	if err != nil {
		return 0, 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		gone, kept = 0, 0
		for _, t := range list {
			switch {
			case !slices.Contains(ids, t.ID):
			case t.Asked > 0:
				kept++
			default:
				if err := tx.RemoveTag(ctx, t.ID); err != nil {
					return err
				}
				gone++
			}
		}
		return tx.Notify(ctx, "person")
	})
	if err == nil && gone > 0 {
		e.Nudge()
	}
	return gone, kept, err
}

// AddField adds a field of one's own. What is to be chosen from values has some.
func (e *Engine) AddField(ctx context.Context, f store.OwnField) (id int64, err error) {
	f.Name = person.Name(f.Name)
	choices := f.Type == person.OneOf || f.Type == person.SeveralOf
	if _, there := person.Define(person.Field(strings.ToLower(f.Name))); there {
		return 0, ErrFieldThere
	}
	switch {
	case f.Name == "":
		return 0, ErrNameField
	case !slices.Contains(person.OwnTypes(), f.Type):
		return 0, ErrNoType
	case choices && len(f.Options.V) == 0:
		return 0, ErrNoOptions
	case !choices:
		f.Options.V = []string{}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.AddOwnField(ctx, f)
		return err
	})
	return id, err
}

// ChangeField renames a field of one's own and gives it other options.
func (e *Engine) ChangeField(ctx context.Context, id int64, name string, options []string) error {
	if name = person.Name(name); name == "" {
		return ErrNameField
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.ChangeOwnField(ctx, id, name, options) })
}

// RemoveField removes a field of one's own, with its values, unless something asks
// for it.
func (e *Engine) RemoveField(ctx context.Context, id int64) error {
	use, err := e.Store.FieldUse(ctx, id)
	if err != nil {
		return err
	}
	if len(use) > 0 {
		return plainly.Errorf("%w by %s: take it out there first", ErrAskedFor, strings.Join(use, ", "))
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveOwnField(ctx, id) })
}

// AddPurpose adds something that people can agree to be written to for.
func (e *Engine) AddPurpose(ctx context.Context, name string) (id int64, err error) {
	if name = person.Name(name); name == "" {
		return 0, ErrNamePurpose
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.AddPurpose(ctx, name)
		return err
	})
	return id, err
}

// AddNote notes something about a person.
func (e *Engine) AddNote(ctx context.Context, id, user int64, text string) error {
	text = strings.TrimSpace(strings.ToValidUTF8(text, ""))
	if text == "" || len(text) > MaxNote {
		return ErrNote
	}
	if _, err := e.Store.Person(ctx, id); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.AddNote(ctx, id, user, text, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, "person")
	})
}

// RemoveNote removes a note about a person.
func (e *Engine) RemoveNote(ctx context.Context, id, note int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.RemoveNote(ctx, id, note); err != nil {
			return err
		}
		return tx.Notify(ctx, "person")
	})
}

// NotDuplicates keeps that two records are of two people.
func (e *Engine) NotDuplicates(ctx context.Context, a, b int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.NotDouble(ctx, a, b) })
}

// SetSignature keeps what stands below a user's letters.
func (e *Engine) SetSignature(ctx context.Context, user int64, text string) error {
	if len(text) > MaxSignature {
		return ErrSignature
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetSignature(ctx, user, text) })
}

// RenameMessage gives a message another name.
func (e *Engine) RenameMessage(ctx context.Context, id int64, name string) error {
	if name = person.Name(name); name == "" {
		return ErrNameMessage
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RenameMessage(ctx, id, name) })
}

// RemoveReaderGroup removes a group of readers; messages keep their words for it.
func (e *Engine) RemoveReaderGroup(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveReaderGroup(ctx, id) })
}

// RemoveMailing removes the draft of a one-off email; ErrOver: it was launched.
func (e *Engine) RemoveMailing(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveMailing(ctx, id) })
}

// RemoveShelfItem takes an item off the shelf, or puts it back.
func (e *Engine) RemoveShelfItem(ctx context.Context, id int64, back bool) error {
	now := e.Now()
	at := &now
	if back {
		at = nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveShelfItem(ctx, id, at) })
}

// RemoveSite ends what is recorded on a site of our own.
func (e *Engine) RemoveSite(ctx context.Context, origin string) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveSite(ctx, origin) })
}

// AddSequence begins a sequence, as a draft in the workspace's working hours.
func (e *Engine) AddSequence(ctx context.Context, name string) (id int64, err error) {
	if name = person.Name(name); name == "" {
		return 0, ErrNameSequence
	}
	plan, w := sequence.NewPlan(), e.Workspace()
	plan.Hours = calendar.OfficeHours(w.From, w.To)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.AddSequence(ctx, name, plan, e.Now())
		return err
	})
	return id, err
}

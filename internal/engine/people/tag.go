package people

import (
	"context"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// Errors of tags.
var (
	ErrNameTag = plainly.New("a tag needs a name")
	ErrSameTag = plainly.New("choose another tag to merge this one into")
)

// TagNamed is the number of the tag with a name, which is made where there is
// none, and is then a user's.
func (e *People) TagNamed(ctx context.Context, name string, user int64) (id int64, err error) {
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
func (e *People) SaveTag(ctx context.Context, t store.Tag, user int64) error {
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
		return tx.Notify(ctx, news.Person.AboutSomebody())
	})
}

// MergeTags makes one tag of two: who has the one has the other.
func (e *People) MergeTags(ctx context.Context, from, into int64) error {
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
		return tx.Notify(ctx, news.Person.AboutSomebody())
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// RemoveTags removes tags, but for those that an audience asks for. It answers how
// many went and how many stay for that.
func (e *People) RemoveTags(ctx context.Context, ids []int64) (gone, kept int, err error) {
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
		return tx.Notify(ctx, news.Person.AboutSomebody())
	})
	if err == nil && gone > 0 {
		e.Nudge()
	}
	return gone, kept, err
}

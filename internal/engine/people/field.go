package people

import (
	"context"
	"slices"
	"strings"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// Errors of fields.
var (
	ErrNameField  = plainly.New("a field needs a name")
	ErrFieldThere = plainly.New("every record has a field of this name already")
	ErrNoType     = plainly.New("there is no such type of field")
	ErrNoOptions  = plainly.New("name the values to choose from, with commas between them")
	ErrAskedFor   = plainly.New("it is asked for")
)

// AddField adds a field of one's own. What is to be chosen from values has some.
func (e *People) AddField(ctx context.Context, f store.OwnField) (id int64, err error) {
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
func (e *People) ChangeField(ctx context.Context, id int64, name string, options []string) error {
	if name = person.Name(name); name == "" {
		return ErrNameField
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.ChangeOwnField(ctx, id, name, options) })
}

// RemoveField removes a field of one's own, with its values, unless something asks
// for it.
func (e *People) RemoveField(ctx context.Context, id int64) error {
	use, err := e.Store.FieldUse(ctx, id)
	if err != nil {
		return err
	}
	if len(use) > 0 {
		return plainly.Errorf("%w by %s: take it out there first", ErrAskedFor, strings.Join(use, ", "))
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveOwnField(ctx, id) })
}

package engine

import (
	"errors"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/engine/post"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// What people make has a name, keeps within its bounds, is there once, and says
// plainly why not.
func TestWhatPeopleMake(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	tag, err := w.e.TagNamed(w.ctx, " Key  account ", w.rep1)
	w.must(err)
	other, err := w.e.TagNamed(w.ctx, "Port", w.rep1)
	w.must(err)
	if again, err := w.e.TagNamed(w.ctx, "key account", w.rep1); err != nil || again != tag {
		t.Errorf("a tag of the same name: %d, %v; want %d", again, err, tag)
	}
	field, err := w.e.AddField(w.ctx, store.OwnField{Name: "Cages", Type: person.Number})
	w.must(err)
	purpose, err := w.e.AddPurpose(w.ctx, "Clinics")
	w.must(err)
	w.must(w.e.AddNote(w.ctx, ana, w.rep1, "  called her  "))
	seq, err := w.e.AddSequence(w.ctx, "Spring")
	w.must(err)
	if n := w.count("select count(*) from note where text = 'called her'"); n != 1 || purpose == 0 {
		t.Errorf("%d notes", n)
	}
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"a tag without a name": {second(w.e.TagNamed(w.ctx, " ", w.rep1)), "a tag needs a name"},
		"a tag by another's name": {w.e.SaveTag(w.ctx, store.Tag{ID: other, Name: "Key account"}, w.rep1),
			`it is taken already: a tag is called "Key account"; merge them instead`},
		"a tag merged with itself": {w.e.MergeTags(w.ctx, tag, tag), "choose another tag to merge this one into"},
		"a tag merged with none":   {w.e.MergeTags(w.ctx, tag, 999), "choose another tag to merge this one into"},
		"a field that is there": {second(w.e.AddField(w.ctx, store.OwnField{Name: "cages", Type: person.Number})),
			`it is taken already: a field is called "cages"`},
		"a field of every record": {second(w.e.AddField(w.ctx, store.OwnField{Name: "City", Type: person.Number})),
			"every record has a field of this name already"},
		"a choice of nothing": {second(w.e.AddField(w.ctx, store.OwnField{Name: "Size", Type: person.OneOf})),
			"name the values to choose from, with commas between them"},
		"a field of no type": {second(w.e.AddField(w.ctx, store.OwnField{Name: "Size", Type: "x"})),
			"there is no such type of field"},
		"a field without a name": {w.e.ChangeField(w.ctx, field, "\t", nil), "a field needs a name"},
		"a purpose twice": {second(w.e.AddPurpose(w.ctx, "Clinics")),
			`it is taken already: a purpose is called "Clinics"`},
		"an empty note": {w.e.AddNote(w.ctx, ana, w.rep1, " \n"),
			"a note has between one letter and 10,000"},
		"a long note": {w.e.AddNote(w.ctx, ana, w.rep1, strings.Repeat("x", people.MaxNote+1)),
			"a note has between one letter and 10,000"},
		"a note about nobody": {w.e.AddNote(w.ctx, 999, w.rep1, "x"), "not found"},
		"another's note":      {w.e.RemoveNote(w.ctx, 999, 1), "not found"},
		"a long signature": {w.e.SetSignature(w.ctx, w.rep1, strings.Repeat("x", post.MaxSignature+1)),
			"a signature has at most 5,000 letters"},
		"a message without a name": {w.e.RenameMessage(w.ctx, 1, ""),
			"give the message a name, so that you find it again"},
		"a sequence without a name":   {second(w.e.AddSequence(w.ctx, "")), "give the sequence a name first"},
		"a tag that is not there":     {w.e.SaveTag(w.ctx, store.Tag{ID: 999, Name: "x"}, w.rep1), "not found"},
		"a mailing that is not there": {w.e.RemoveMailing(w.ctx, 999), "this has ended or begun in the meantime"},
	} {
		if c.err == nil || base.Told(c.err) != c.want {
			t.Errorf("%s: %v; want %s", name, c.err, c.want)
		}
	}
	draft, err := w.s.Draft(w.ctx, seq)
	w.must(err)
	edit := sequence.InsertStep{Kind: "pause"}
	for i, want := range []error{nil, flow.ErrChanged} { // the second comes from an old tab
		if step, err := w.e.EditPlan(w.ctx, seq, draft.N, edit); !errors.Is(err, want) || (step != 0) != (want == nil) {
			t.Errorf("edited the %d. time: step %d, %v", i+1, step, err)
		}
	}
	// What is wrong in part keeps nothing, the name neither.
	wrong := flow.SequenceSettings{Name: "Another name"}
	if err := w.e.SetSequence(w.ctx, seq, draft.N+1, wrong); err == nil {
		t.Error("no sending hours at all are kept")
	}
	wrong.Plan.Hours, wrong.Name = draft.Plan.V.Hours, " "
	if err := w.e.SetSequence(w.ctx, seq, draft.N+1, wrong); !errors.Is(err, flow.ErrNameSequence) {
		t.Errorf("without a name: %v", err)
	}
	if q, err := w.s.Sequence(w.ctx, seq); err != nil || q.Name == "Another name" {
		t.Errorf("it is called %q now, %v", q.Name, err)
	}
	w.must(w.e.MergeTags(w.ctx, other, tag))
	if gone, kept, err := w.e.RemoveTags(w.ctx, []int64{tag, other, 999}); gone != 1 || kept != 0 || err != nil {
		t.Errorf("removed %d, kept %d, %v", gone, kept, err)
	}
	w.must(w.e.RemoveField(w.ctx, field))
	if err := w.e.RemoveField(w.ctx, field); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
}

func second[T any](_ T, err error) error { return err }

package engine

import (
	"bytes"
	"strings"
	"testing"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Sequences that share people without a rest, or go on to one another in a circle, are
// warned of; neither keeps them from being launched.
func TestWarningsOfOthers(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	email := func() sequence.Step {
		return &sequence.Email{Common: sequence.Common{Title: "One"}, Message: w.first}
	}
	on := func(to int64) sequence.Step {
		return &sequence.GoOn{Common: sequence.Common{Title: "On"}, Sequence: to}
	}
	first := w.running("First", w.plan(email()))
	second := w.running("Second", w.plan(email(), on(first)))
	warned := func(q int64, p *sequence.Plan, change func(*store.Sequence)) string {
		t.Helper()
		s, err := w.s.Sequence(w.ctx, q)
		w.must(err)
		if change != nil {
			change(&s)
		}
		list, err := w.e.Warnings(w.ctx, s, p)
		w.must(err)
		var out []string
		for _, x := range list {
			out = append(out, x.Text)
		}
		return strings.Join(out, "; ")
	}
	if got := warned(first, w.plan(email()), nil); !strings.Contains(got, "at once, and get emails of both") ||
		!strings.Contains(got, "“Second”") {
		t.Errorf("shared: %q", got)
	}
	rests := w.plan(email())
	rests.Rest.Days = 2
	if got := warned(first, rests, nil); got != "" {
		t.Errorf("with a rest: %q", got)
	}
	if got := warned(first, w.plan(email()), func(s *store.Sequence) { s.Entry.V.NotOn = []int64{second} }); got != "" {
		t.Errorf("left out: %q", got)
	}
	circle := w.plan(email(), on(second))
	circle.Rest.Days = 1
	if got := warned(first, circle, nil); got != "goes on to “Second”, which leads back here" {
		t.Errorf("a circle: %q", got)
	}
	self := w.plan(email(), on(second))
	self.Rest.Days = 1
	if got := warned(second, self, nil); got != "goes on to this sequence itself" {
		t.Errorf("to itself: %q", got)
	}
}

// A sequence that is exported is imported as it was: into its own workspace with all that it
// refers to, into another with what is called so there; the rest is named.
func TestSequencesInFiles(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	audience, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Picked"})
	w.must(err)
	plan := w.plan(&sequence.Email{Common: sequence.Common{Title: "One"}, Message: w.first},
		&sequence.Check{Common: sequence.Common{Title: "In it?"}, Rule: rule.ThingIs(rule.Audience, audience)},
		&sequence.Task{Common: sequence.Common{Title: "Look"}, What: "look", For: w.rep2},
		&sequence.Change{Common: sequence.Common{Title: "Out"}, Acts: []act.Kept{{Act: act.Exclude{Audience: audience}}}})
	var id int64
	r := rule.FieldIs(person.Country, "NO")
	w.tx(func(tx store.Tx) (err error) {
		if id, err = tx.AddSequence(w.ctx, "Mine", plan, w.clock.Now()); err != nil {
			return err
		}
		return tx.SetSequence(w.ctx, id, "Mine", "Loans", store.Entry{Rule: &r, NotIn: []int64{audience}}, w.clock.Now())
	})
	f, err := w.e.SequenceFile(w.ctx, id)
	w.must(err)
	var b bytes.Buffer
	w.must(f.Write(&b))
	read, err := sequence.ReadFile(bytes.NewReader(b.Bytes()))
	w.must(err)
	again, unknown, err := w.e.BringSequence(w.ctx, read)
	w.must(err)
	back, err := w.e.SequenceFile(w.ctx, again)
	w.must(err)
	var c bytes.Buffer
	w.must(back.Write(&c))
	if len(unknown) > 0 || c.String() != b.String() {
		t.Errorf("unknown %v; it comes back as %s", unknown, c.String())
	}
	// In another workspace the audience is not there, and the rep has another number.
	x := newWorld(t, mailserver.Options{})
	read, err = sequence.ReadFile(strings.NewReader(strings.Replace(b.String(), `"Picked"`, `"Nowhere"`, 1)))
	x.must(err)
	there, unknown, err := x.e.BringSequence(x.ctx, read)
	x.must(err)
	d, err := x.s.Draft(x.ctx, there)
	x.must(err)
	q, err := x.s.Sequence(x.ctx, there)
	x.must(err)
	if strings.Join(unknown, ", ") != "audience “Nowhere”" || q.Note != "Loans" || len(q.Entry.V.NotIn) != 0 ||
		q.Entry.V.Rule == nil {
		t.Errorf("unknown %v; %+v", unknown, q)
	}
	problems, err := x.e.Problems(x.ctx, q, d.Plan.V)
	x.must(err)
	if text := problemsOf(problems); !strings.Contains(text, "choose the audience") {
		t.Errorf("the checks do not miss it: %s", text)
	}
}

func problemsOf(list []sequence.Problem) string {
	var out []string
	for _, p := range list {
		out = append(out, p.Text)
	}
	return strings.Join(out, "; ")
}

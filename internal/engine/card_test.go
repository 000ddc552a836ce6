package engine

import (
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Cards gather in the printer's list with their words and addresses, and their people go on
// once they are marked as sent; who has no postal address goes on at once, and a card whose
// words lack a value is not printed.
func TestCards(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	card := &sequence.Post{Common: sequence.Common{Title: "Thank you"},
		Card: "Dear {{ person.first_name }},\nthank you, {{ person.title }}."}
	q := w.running("Cards", w.plan(&sequence.Email{Common: sequence.Common{Title: "First"}, Message: w.first}, card, &sequence.Task{Common: sequence.Common{Title: "After"}, What: "look"}))
	var p [3]int64
	for i, name := range []string{"Ana", "Bo", "Cy"} {
		p[i] = w.norwegian(name)
	}
	set := func(id int64, v person.Values) {
		w.tx(func(tx store.Tx) error {
			who, err := tx.PeopleByID(w.ctx, []int64{id})
			if err != nil {
				return err
			}
			return tx.SetValues(w.ctx, *who[id], v, store.Author{How: "a test", At: w.clock.Now()})
		})
	}
	home := person.Values{person.Street: "Kaia 4", person.Postcode: "5003", person.City: "Bergen", person.Title: "quay master"}
	set(p[0], home)
	delete(home, person.Title)
	set(p[1], home)
	w.enters(q, p[:]...)
	w.settle()
	if n := w.count("select count(*) from work w join touch t on t.id = w.touch_id where w.open and t.kind = 'post'"); n != 2 {
		t.Fatalf("%d cards wait", n)
	}
	desk, err := w.s.DeskWork(w.ctx, 0)
	w.must(err)
	for _, d := range desk {
		if d.Kind == "post" {
			t.Error("a card is on a rep's desk")
		}
	}
	steps, err := w.s.CardSteps(w.ctx)
	w.must(err)
	if len(steps) != 1 || steps[0].N != 2 {
		t.Fatalf("steps with cards: %+v", steps)
	}
	list, err := w.e.Cards(w.ctx, q, sequence.StepID(steps[0].Step))
	w.must(err)
	if len(list) != 2 || list[0].Words != "Dear Ana,\nthank you, quay master." || list[0].Street != "Kaia 4" ||
		list[0].Country != "Norway" || list[1].Trouble == "" {
		t.Errorf("the list: %+v", list)
	}
	for i, want := range []int{1, 0} { // a second tab marks it again
		n, err := w.e.CardsSent(w.ctx, q, sequence.StepID(steps[0].Step), []int64{list[0].Touch}, sequence.DidIt, w.marketer)
		w.must(err)
		if n != want {
			t.Errorf("time %d: %d marked as sent", i, n)
		}
	}
	if _, err := w.e.CardsSent(w.ctx, q, sequence.StepID(steps[0].Step), []int64{list[1].Touch}, sequence.CouldNot,
		w.marketer); err != nil {
		t.Fatal(err)
	}
	w.settle()
	for i, want := range []string{"done", "not possible", "not possible"} {
		if n := w.count(`select count(*) from enrolment_log l join enrolment e on e.id = l.enrolment_id
			where e.person_id = $1 and l.exit = $2`, p[i], want); n != 1 {
			t.Errorf("%d did not go on by %q", i, want)
		}
	}
}

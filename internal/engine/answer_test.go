package engine

import (
	"bytes"
	"errors"
	netmail "net/mail"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/answer"
	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/engine/sales"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
)

// twoEmails is a plan of two emails with five days between them, at any hour.
func (w *world) twoEmails() *sequence.Plan {
	w.t.Helper()
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	p.Hours.Days = [7][]calendar.Interval{{anyHour}, {anyHour}, {anyHour}, {anyHour}, {anyHour}, {anyHour}, {anyHour}}
	mail1, err := p.Insert(&sequence.Email{Message: w.first}, 0, "")
	w.must(err)
	pause, err := p.Insert(&sequence.Pause{For: calendar.Span{N: 5, Unit: calendar.Days}}, mail1, sequence.Next)
	w.must(err)
	_, err = p.Insert(&sequence.Email{Message: w.second}, pause, sequence.Next)
	w.must(err)
	return p
}

// answered has somebody of rep1's, who got the first email of a sequence and waits for the second,
// answer it. It answers who, and the answer.
func (w *world) answered(first, said string) (person, answer int64) {
	w.t.Helper()
	q := w.running("For "+first, w.twoEmails())
	person = w.caller(first, "NO", w.rep1)
	w.enters(q, person)
	w.settle()
	return person, w.writes(first, said)
}

// writes has somebody answer the newest letter they got, and answers it.
func (w *world) writes(first, said string) int64 {
	w.t.Helper()
	to := strings.ToLower(first) + "@desk.example"
	got := w.letters(to)
	if len(got) == 0 {
		w.t.Fatalf("%s got no letter", to)
	}
	w.must(w.e.Receive(w.ctx, mail.Received{ID: "a" + first + "@desk.example", From: to, Subject: "Re: " + got[0].Subject,
		Said: said, Text: said, References: []string{got[0].MessageID}}))
	w.settle()
	return int64(w.count("select max(id) from incoming"))
}

func (w *world) did(person int64, k signal.Kind) int {
	w.t.Helper()
	return w.count("select count(*) from signal where person_id = $1 and kind = $2 and machine = ''", person, int(k))
}

func (w *world) open(person int64) int {
	w.t.Helper()
	return w.count("select count(*) from enrolment where person_id = $1 and ended_at is null", person)
}

// An answer lies on the desk of who has the person, to be answered within four working hours, with
// what it may come to; sorted, it lies on nobody's.
func TestAnAnswerOnTheDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, id := w.answered("Ana", "Sounds good, tell me more.")
	d := w.day(sales.Ask{User: w.rep1})
	if len(d.Items) != 1 || d.Items[0].Kind != desk.Answer || !d.Items[0].By.Equal(day0.Add(4*time.Hour)) {
		t.Fatalf("on the desk is %+v", d.Items)
	}
	if d := w.day(sales.Ask{User: w.rep2}); len(d.Items) != 0 {
		t.Errorf("another has %q", keys(d))
	}
	// Beside it stands what they answer, with the whole addresses of pages.
	said, err := w.e.Thread(w.ctx, ana, 8)
	if w.must(err); len(said) != 2 || said[1].Text != "Here it is <http://ombak.example/g/alarms>." {
		t.Errorf("what was said is %+v", said)
	}
	in, err := w.s.Incoming(w.ctx, id)
	w.must(err)
	s, _, ok, err := w.e.Suggest(w.ctx, &in)
	if w.must(err); !ok || s.Sort != answer.Interested || w.did(ana, signal.SaidInterested) != 0 {
		t.Errorf("it suggests %+v, and applies it", s)
	}
	if err := w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep2, As: answer.Interested}); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another sorts it: %v", err)
	}
	if err := w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: "fine"}); err == nil {
		t.Error("it comes to what is none")
	}
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.Interested}))
	if w.did(ana, signal.SaidInterested) != 1 || w.count("select count(*) from deal where person_id = $1", ana) != 1 {
		t.Error("it is no signal, or no deal")
	}
	if d := w.day(sales.Ask{}); len(d.Items) != 0 {
		t.Errorf("sorted, there is %q", keys(d))
	}
	if err := w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.Interested}); !errors.Is(err, base.ErrGone) {
		t.Errorf("it is sorted twice: %v", err)
	}
	// Taken back, there is no deal and no handoff, and it waits again.
	if err := w.e.UnsortAnswer(w.ctx, id, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another takes it back: %v", err)
	}
	w.must(w.e.UnsortAnswer(w.ctx, id, w.rep1))
	if w.did(ana, signal.SaidInterested) != 0 || w.count("select count(*) from deal") != 0 ||
		w.count("select count(*) from handoff") != 0 || len(w.day(sales.Ask{User: w.rep1}).Items) != 1 {
		t.Error("taken back, something of it is left")
	}
	if err := w.e.UnsortAnswer(w.ctx, id, w.rep1); !errors.Is(err, base.ErrNotYours) && !errors.Is(err, sales.ErrMovedOn) {
		t.Errorf("it is taken back twice: %v", err)
	}
	// By a handoff it goes to whoever is next, here its owner.
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.Interested, HandOver: true}))
	if d := w.day(sales.Ask{User: w.rep1}); len(d.Items) != 1 || d.Items[0].Kind != desk.Handoff {
		t.Errorf("handed over, there is %q", keys(d))
	}
	// What has gone on is not taken back.
	_, err = w.e.Accept(w.ctx, int64(w.count("select max(id) from handoff")), w.rep1)
	w.must(err)
	if err := w.e.UnsortAnswer(w.ctx, id, w.rep1); !errors.Is(err, sales.ErrMovedOn) {
		t.Errorf("accepted meanwhile, it is taken back: %v", err)
	}
}

// "Not now until" stops what it is on, lets nothing go out till then, and then has it go on where
// it stood: nobody gets an email twice.
func TestNotNow(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, id := w.answered("Ana", "Not now, try again in three weeks.")
	in, err := w.s.Incoming(w.ctx, id)
	w.must(err)
	if s, when, ok, err := w.e.Suggest(w.ctx, &in); err != nil || !ok || s.Sort != answer.NotNow || when != "2026-05-05" {
		t.Errorf("it suggests %+v until %q, %v", s, when, err)
	}
	way := w.way(ana)
	if way.Ended == nil || w.open(ana) != 0 {
		t.Fatalf("the answer did not end the way: %+v", way)
	}
	if err := w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.NotNow, Until: "some day"}); !errors.Is(err, desk.ErrLater) {
		t.Errorf("until some day: %v", err)
	}
	seq := way.Sequence
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.NotNow, Until: "2026-05-05", Back: seq}))
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.Away == nil || p.Away.Format("2 Jan 15:04") != "5 May 08:30" {
		t.Errorf("nothing goes out until %v, %v", p.Away, err)
	}
	list, err := w.s.PersonComebacks(w.ctx, ana)
	if w.must(err); len(list) != 1 || list[0].Way != way.ID {
		t.Fatalf("they come back by %+v", list)
	}
	w.to(20 * dayLong)
	if n := w.open(ana); n != 0 {
		t.Error("they came back too early")
	}
	w.to(21*dayLong + 12*time.Hour)
	if w.open(ana) != 1 || len(w.letters("ana@desk.example")) != 1 {
		t.Errorf("come back, %d ways are open and %d letters came", w.open(ana), len(w.letters("ana@desk.example")))
	}
	// It stood in a pause of five days: that begins anew.
	w.to(27 * dayLong)
	if n := len(w.letters("ana@desk.example")); n != 2 {
		t.Errorf("%d letters came in all, want 2", n)
	}
	if list, err = w.s.PersonComebacks(w.ctx, ana); err != nil || list[0].Outcome != "came back" {
		t.Errorf("it says %+v, %v", list, err)
	}
	// Another, taken back, comes not.
	ben, id := w.answered("Ben", "Next year perhaps.")
	back := w.way(ben).Sequence
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.NotNow, Until: "in 3 working days", Back: back}))
	w.must(w.e.UnsortAnswer(w.ctx, id, w.rep1))
	if n := w.count("select count(*) from comeback where person_id = $1", ben); n != 0 || w.did(ben, signal.SaidNotNow) != 0 {
		t.Error("taken back, they come back still")
	}
	if p, err := w.s.Person(w.ctx, ben); err != nil || p.Away != nil {
		t.Errorf("taken back, nothing goes out until %v, %v", p.Away, err)
	}
	// Where it does not run any more, it says so.
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.NotNow, Until: "in 2 days", Back: back}))
	_, err = w.s.DB().ExecContext(w.ctx, "update sequence set state = 'ended' where id = $1", back)
	w.must(err)
	w.to(31 * dayLong)
	if list, err := w.s.PersonComebacks(w.ctx, ben); err != nil || len(list) != 1 || list[0].Done == nil || !strings.Contains(list[0].Outcome, "does not run") {
		t.Errorf("it says %+v, %v", list, err)
	}
}

// An answer that is found to be automatic does not count: what it ended goes on, and nothing of it
// is left in the score; taken back, it is an answer again.
func TestSortedAsAutomatic(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, id := w.answered("Ana", "I am away until 24 April.")
	before := w.score(ana)
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.Automatic}))
	w.settle()
	if w.open(ana) != 1 || w.did(ana, signal.Reply) != 0 || w.did(ana, signal.AutomaticReply) != 1 {
		t.Errorf("%d ways are open, %d answers count", w.open(ana), w.did(ana, signal.Reply))
	}
	if got := w.score(ana); got != before-2 {
		t.Errorf("the score is %v, before it was %v", got, before)
	}
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.Away == nil || p.Away.Format("2 Jan") != "25 Apr" {
		t.Errorf("they are away until %v, %v", p.Away, err)
	}
	w.must(w.e.UnsortAnswer(w.ctx, id, w.rep1))
	w.settle()
	if w.open(ana) != 0 || w.did(ana, signal.Reply) != 1 || w.did(ana, signal.AutomaticReply) != 0 || w.score(ana) != before {
		t.Errorf("taken back, %d ways are open, %d answers count and the score is %v", w.open(ana), w.did(ana, signal.Reply), w.score(ana))
	}
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.Away != nil {
		t.Errorf("taken back, they are away until %v, %v", p.Away, err)
	}
}

// A plan can let people stay who answer; what the answer comes to ends it or not, as it says.
func TestSortingStopsAsThePlanSays(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.twoEmails()
	p.Stay = []sequence.Reason{sequence.Answered, sequence.SaidLater}
	q := w.running("They stay", p)
	ana, ben := w.caller("Ana", "NO", w.rep1), w.caller("Ben", "NO", w.rep1)
	w.enters(q, ana, ben)
	w.settle()
	a, b := w.writes("Ana", "Not now"), w.writes("Ben", "No interest")
	if w.open(ana) != 1 || w.open(ben) != 1 {
		t.Fatal("the answer ends it")
	}
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: a, User: w.rep1, As: answer.NotNow, Until: "in 10 days"}))
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: b, User: w.rep1, As: answer.NotInterested}))
	w.settle()
	if w.open(ana) != 1 || w.open(ben) != 0 || w.way(ben).Reason != string(sequence.SaidNo) {
		t.Errorf("sorted, %d and %d are on it; the one has left: %q", w.open(ana), w.open(ben), w.way(ben).Reason)
	}
	w.must(w.e.UnsortAnswer(w.ctx, b, w.rep1))
	if w.open(ben) != 1 {
		t.Error("taken back, they are not on it again")
	}
	// What would have gone out in five days waits until they said, and then goes out although they
	// have answered: their plan says so.
	w.to(9 * dayLong)
	if n := len(w.letters("ana@desk.example")); n != 1 {
		t.Errorf("%d letters came before they wanted to hear again", n)
	}
	w.to(11 * dayLong)
	if n := len(w.letters("ana@desk.example")); n != 2 {
		t.Errorf("%d letters came in all, want 2", n)
	}
}

// Somebody names who is the right person: that is a record at the same company, and both know.
func TestTheRightPerson(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, id := w.answered("Ana", "I am not the right person. Ben Ito is: ben@desk.example.")
	s := sales.Sorting{ID: id, User: w.rep1, As: answer.WrongPerson, Right: &sales.RightPerson{First: "Ben", Last: "Ito", Email: "no address"}}
	if err := w.e.SortAnswer(w.ctx, s); err == nil || w.did(ana, signal.SaidWrongPerson) != 0 {
		t.Errorf("what is no address is taken: %v", err)
	}
	s.Right.Email = "Ben@Desk.example"
	w.must(w.e.SortAnswer(w.ctx, s))
	ben := int64(w.count("select id from person where email = 'ben@desk.example'"))
	for _, who := range []int64{ana, ben} {
		if notes, err := w.s.Notes(w.ctx, who); err != nil || len(notes) != 1 || !strings.Contains(notes[0].Text, "right person") {
			t.Errorf("noted is %+v, %v", notes, err)
		}
	}
	if w.did(ana, signal.SaidWrongPerson) != 1 {
		t.Error("it is no signal")
	}
	// Who was erased is not kept again by it.
	ben2, id := w.answered("Cyn", "Write to Ben.")
	w.must(w.e.Erase(w.ctx, ben))
	s = sales.Sorting{ID: id, User: w.rep1, As: answer.WrongPerson, Right: &sales.RightPerson{Email: "ben@desk.example"}}
	if err := w.e.SortAnswer(w.ctx, s); err == nil || !strings.Contains(err.Error(), "forgotten") {
		t.Errorf("who was erased is kept again, named by %d: %v", ben2, err)
	}
}

// Opted out in words opts out; taken back, as it was before.
func TestOptedOutInWords(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, id := w.answered("Ana", "Please take me off your list.")
	w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: id, User: w.rep1, As: answer.OptedOut,
		Reply: &post.ByHand{Person: ana, Text: "You will not hear from us again.", Once: "0123456789abcdef", Answers: id}}))
	w.settle()
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.OptedOut == nil {
		t.Errorf("they have not opted out: %v", err)
	}
	// What goes with it answers their own letter: it goes out, in its thread.
	got := w.letters("ana@desk.example")
	if len(got) != 2 {
		t.Fatalf("%d letters came in all, want 2", len(got))
	}
	source, err := w.mail.Source(got[0])
	w.must(err)
	m, err := netmail.ReadMessage(bytes.NewReader(source))
	w.must(err)
	if h := m.Header; h.Get("In-Reply-To") != "<aAna@desk.example>" ||
		h.Get("References") != "<"+got[1].MessageID+"> <aAna@desk.example>" || h.Get("Subject") != "Re: "+got[1].Subject {
		t.Errorf("it is %q in the thread %q %q", h.Get("Subject"), h.Get("In-Reply-To"), h.Get("References"))
	}
	w.must(w.e.UnsortAnswer(w.ctx, id, w.rep1))
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.OptedOut != nil {
		t.Errorf("taken back, they have opted out: %v", err)
	}
}

// A letter that anybody can have written lies on the desk too; sorted, it is theirs from when it
// came, and what waited goes on; said to be not theirs, it is gone.
func TestAnUnsureAnswerOnTheDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	for i, id := range []string{"u1@desk.example", "u2@desk.example"} {
		w.must(w.e.Receive(w.ctx, mail.Received{ID: id, From: "ana@desk.example", Subject: "Hello", Said: "Call me", Text: "Call me"}))
		if d := w.day(sales.Ask{User: w.rep1}); len(d.Items) != 1 || d.Items[0].Kind != desk.Answer {
			t.Fatalf("letter %d: on the desk is %q", i, keys(d))
		}
		letter := int64(w.count("select max(id) from incoming"))
		if i == 0 {
			w.must(w.e.Sort(w.ctx, letter, w.rep1, false))
			if n := len(w.day(sales.Ask{}).Items); n != 0 || w.did(ana, signal.Reply) != 0 {
				t.Error("said to be somebody else’s, it is there still")
			}
			continue
		}
		w.must(w.e.SortAnswer(w.ctx, sales.Sorting{ID: letter, User: w.rep1, As: answer.NotInterested}))
		if w.did(ana, signal.Reply) != 1 || w.did(ana, signal.SaidNotInterested) != 1 ||
			w.count("select count(*) from person where held_at is not null") != 0 {
			t.Error("sorted, it is not theirs, or something waits still")
		}
		w.must(w.e.UnsortAnswer(w.ctx, letter, w.rep1))
		if w.did(ana, signal.Reply) != 0 || w.did(ana, signal.SaidNotInterested) != 0 ||
			w.count("select count(*) from person where held_at is not null") != 1 {
			t.Error("taken back, it counts, or nothing waits")
		}
	}
}

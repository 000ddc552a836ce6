package sales

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/answer"
	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/post"
	"ombak/internal/store"
)

// Sorting is how somebody sorts an answer, and what is to follow.
type Sorting struct {
	ID   int64
	User int64
	As   answer.Sort

	HandOver bool         // of somebody interested: to whoever is next; else it is a deal of the user's
	Until    string       // of not now: until when, in words
	Back     int64        // and then they come back into this sequence; 0: into none
	Right    *RightPerson // of the wrong person: who the right one is; nil: not known
	Reply    *post.ByHand // goes out with it; nil: nothing
}

// RightPerson is who somebody says is the right one to write to.
type RightPerson struct{ First, Last, Email string }

// NotTheirs is what an answer came to that somebody else wrote.
const NotTheirs = "not theirs"

// SortAnswer keeps what an answer came to, and does at once what follows: sequences stop or go on
// later, somebody interested becomes a deal or a handoff, who is the right person becomes a record.
// An answer of which it was not known whether it is theirs is theirs then.
func (e *Sales) SortAnswer(ctx context.Context, s Sorting) error {
	if !s.As.Known() {
		return plainly.Errorf("an answer does not come to %q", string(s.As))
	}
	now := e.Now()
	until, err := e.until(s.As, s.Until)
	if err != nil {
		return err
	}
	send := func(store.Tx) error { return nil }
	if s.Reply != nil {
		if send, err = e.post.WriteBack(ctx, *s.Reply, s.User); err != nil {
			return err
		}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, s.User, store.AnswerWork, s.ID); err != nil {
			return err
		}
		in, err := tx.Incoming(ctx, s.ID)
		if err != nil {
			return err
		}
		did, err := tx.Stood(ctx, *in.Person)
		if err != nil {
			return err
		}
		did.At, did.Kind = now, s.As.Signal()
		if did.Ways, err = tx.OpenWays(ctx, *in.Person); err != nil {
			return err
		}
		if did.Theirs = in.Unsure && in.Sorted == ""; did.Theirs {
			if err := e.theirs(ctx, tx, s.ID, s.User); err != nil {
				return err
			}
		}
		if err := e.follow(ctx, tx, &s, &in, until, &did); err != nil {
			return err
		}
		if err := send(tx); err != nil {
			return err
		}
		if err := tx.SortAnswer(ctx, s.ID, s.User, s.As, did); err != nil {
			return err
		}
		if err := tx.ForgetItem(ctx, store.AnswerWork, s.ID); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(*in.Person), news.Pipeline)
	})
	if store.IsNotFound(err) {
		err = base.ErrGone
	}
	if err == nil {
		e.Nudge()
	}
	return err
}

// until is when somebody wants to hear again who says "not now".
func (e *Sales) until(as answer.Sort, words string) (time.Time, error) {
	if as != answer.NotNow {
		return time.Time{}, nil
	}
	return desk.Later(words, e.Now(), e.Zone(), time.Duration(e.Workspace().From)*time.Minute, e.Working())
}

// theirs notes that a letter is from whom it seems to be from.
func (e *Sales) theirs(ctx context.Context, tx store.Tx, id, user int64) error {
	in, err := tx.SortIncoming(ctx, id, user, "theirs", e.Now())
	if err != nil {
		return err
	}
	if err := e.post.Theirs(ctx, tx, in); err != nil {
		return err
	}
	return tx.ReleasePerson(ctx, *in.Person, e.Now())
}

// follow does what follows from what an answer came to.
func (e *Sales) follow(
	ctx context.Context, tx store.Tx, s *Sorting, in *store.Incoming, until time.Time, did *store.Sorted,
) error {
	who := *in.Person
	if s.As == answer.Automatic {
		return e.automatic(ctx, tx, in, did)
	}
	x := store.Signal{Person: who, Detail: base.Cut(in.Subject, 200), Signal: signal.Signal{At: did.At, Kind: did.Kind}}
	if in.Touch != nil {
		t, err := tx.Touch(ctx, *in.Touch)
		if err != nil {
			return err
		}
		x.Touch, x.Place = t.ID, signal.Place{Sequence: t.Sequence, Step: t.Step}
		if t.Message != nil {
			x.Message = *t.Message
		}
	}
	if err := e.RecordSignals(ctx, tx, []store.Signal{x}); err != nil {
		return err
	}
	switch s.As {
	case answer.Interested:
		return e.interested(ctx, tx, who, s, did)
	case answer.NotNow:
		return e.notNow(ctx, tx, who, s, in, until, did)
	case answer.WrongPerson:
		if s.Right != nil {
			return e.rightPerson(ctx, tx, who, s)
		}
	}
	return nil
}

// interested opens a deal for who sorts, or hands over. Who is with a rep already stays there; the
// open handoff of who sorts is accepted.
func (e *Sales) interested(ctx context.Context, tx store.Tx, who int64, s *Sorting, did *store.Sorted) error {
	h, open, err := tx.OpenHandoffOf(ctx, who)
	if err != nil {
		return err
	}
	if !open {
		can, err := tx.Handable(ctx, []int64{who})
		if err != nil || len(can) == 0 {
			return err // they have an open deal
		}
		if s.HandOver {
			if err := e.Do(ctx, tx, []flow.Deed{{Act: act.HandOver{},
				Occasion: flow.Occasion{Person: who, At: did.At, By: "answer"}}}); err != nil {
				return err
			}
		} else if err := e.handTo(ctx, tx, who, s.User, did.At); err != nil {
			return err
		}
		if h, open, err = tx.OpenHandoffOf(ctx, who); err != nil || !open {
			return err
		}
		did.Handoff = h
	}
	if s.HandOver {
		return nil
	}
	if err := base.MayWork(ctx, tx, s.User, store.HandoffWork, h); err != nil {
		if errors.Is(err, base.ErrNotYours) {
			return nil // another rep has them, and sees what they said
		}
		return err
	}
	deal, fresh, err := e.accept(ctx, tx, h, s.User, 0, did.At)
	if fresh {
		did.Deal = deal
	}
	return err
}

// handTo hands somebody over to a user.
func (e *Sales) handTo(ctx context.Context, tx store.Tx, who, user int64, at time.Time) error {
	list := []store.NewHandoff{{Person: who, Rep: user, MadeBy: "answer", How: "took their answer", At: at}}
	if err := e.brief(ctx, tx, list); err != nil {
		return err
	}
	_, err := tx.AddHandoffs(ctx, list)
	return err
}

// notNow has nothing go out to somebody until then; then they come back into a sequence.
func (e *Sales) notNow(
	ctx context.Context, tx store.Tx, who int64, s *Sorting, in *store.Incoming, until time.Time, did *store.Sorted,
) error {
	if err := tx.SetAway(ctx, who, until); err != nil || s.Back == 0 {
		return err
	}
	q, err := tx.Sequence(ctx, s.Back)
	if store.IsNotFound(err) || err == nil && q.State != "running" {
		return plainly.New("the sequence they are to come back into does not run")
	}
	if err != nil {
		return err
	}
	c := store.NewComeback{Person: who, Sequence: s.Back, Due: until, Made: did.At, User: s.User,
		Why: "said not now"}
	for _, r := range []sequence.Reason{sequence.Answered, sequence.SaidLater} {
		ended, err := tx.EndedWays(ctx, who, r, in.At)
		if err != nil {
			return err
		}
		if i := slices.IndexFunc(ended, func(w store.EndedWay) bool { return w.Sequence == s.Back }); i >= 0 {
			c.Way = ended[i].ID
		}
	}
	did.Comeback, err = tx.AddComeback(ctx, c)
	return err
}

// rightPerson makes a record of who is the right person, at the same company and with the same
// owner, and notes on both where it comes from.
func (e *Sales) rightPerson(ctx context.Context, tx store.Tx, who int64, s *Sorting) error {
	email, err := person.Email(s.Right.Email)
	if err != nil {
		return err
	}
	people, err := tx.PeopleByID(ctx, []int64{who})
	if err != nil {
		return err
	}
	p := people[who]
	if p == nil {
		return base.ErrGone
	}
	never, err := e.Store.HashesNeverAgain(ctx, [][]byte{e.Hashed(email)})
	if err != nil {
		return err
	}
	if len(never) > 0 {
		return plainly.New("this address asked to be forgotten: it cannot be kept again")
	}
	id, _, err := tx.MeetPerson(ctx, store.NewPerson{First: s.Right.First, Last: s.Right.Last, Email: email,
		Company: p.Company, Domain: person.CompanyDomain(email), Source: "named in an answer"}, e.Now())
	if err != nil {
		return err
	}
	name := person.Full(p.First, p.Last, p.Email)
	other := person.Full(person.Name(s.Right.First), person.Name(s.Right.Last), email)
	for person, text := range map[int64]string{id: "Named by " + name + " as the right person.",
		who: "Named " + other + " as the right person."} {
		if err := tx.AddNote(ctx, person, s.User, text, e.Now()); err != nil {
			return err
		}
	}
	return tx.Notify(ctx, news.Person.About(who, id))
}

// automatic has an answer not count: what it ended goes on, and emails wait as its words say.
func (e *Sales) automatic(ctx context.Context, tx store.Tx, in *store.Incoming, did *store.Sorted) error {
	who := *in.Person
	if err := tx.MarkSignals(ctx, who, in.Kind, in.At, "sorted as automatic"); err != nil {
		return err
	}
	ended, err := tx.EndedWays(ctx, who, sequence.Answered, in.At)
	if err != nil {
		return err
	}
	stood := *did
	if did.By == in.Kind && did.Stopped != nil && did.Stopped.Equal(in.At) {
		stood.Stopped, stood.By = nil, 0
	}
	if err := tx.StandAgain(ctx, who, stood); err != nil {
		return err
	}
	for _, w := range ended {
		ok, err := tx.GoOn(ctx, w.ID, did.At)
		if err != nil {
			return err
		}
		if ok {
			did.Reopened = append(did.Reopened, w.ID)
		}
	}
	if err := e.post.RestAway(ctx, tx, who, in.Subject+"\n"+in.Said); err != nil {
		return err
	}
	x := store.Signal{Person: who, Detail: base.Cut(in.Subject, 200),
		Signal: signal.Signal{At: did.At, Kind: signal.AutomaticReply}}
	if err := e.RecordSignals(ctx, tx, []store.Signal{x}); err != nil {
		return err
	}
	return tx.MarkStandings(ctx, []int64{who}, in.At)
}

// UnsortAnswer takes back how an answer was sorted, for who did it: what it did is undone, and the
// answer waits again. It answers ErrMovedOn where things have gone on since. A letter that went out
// with it, and a record that was made of the right person, stay.
func (e *Sales) UnsortAnswer(ctx context.Context, id, user int64) error {
	now := e.Now()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		by, err := tx.SorterOf(ctx, id)
		if err != nil {
			return err
		}
		if by != user {
			return base.ErrNotYours
		}
		did, err := tx.UnsortAnswer(ctx, id)
		if store.IsNotFound(err) {
			return ErrMovedOn
		}
		if err != nil {
			return err
		}
		in, err := tx.Incoming(ctx, id)
		if err != nil {
			return err
		}
		who := *in.Person
		if err := e.unfollow(ctx, tx, who, &did); err != nil {
			return err
		}
		if err := tx.MarkSignals(ctx, who, did.Kind, did.At, "taken back"); err != nil {
			return err
		}
		if err := tx.StandAgain(ctx, who, did); err != nil {
			return err
		}
		if reason, ok := sequence.LeaveFor(did.Kind); ok {
			if err := tx.ReopenWays(ctx, did.Ways, reason, did.At, now); err != nil {
				return err
			}
		}
		if did.Deal != 0 {
			if err := tx.ReopenWays(ctx, did.Ways, sequence.DealOpened, did.At, now); err != nil {
				return err
			}
		}
		since := did.At
		if did.Theirs { // nobody knows any more whether it is, and what would go out waits again
			since = in.At
			if err := e.unsureAgain(ctx, tx, &in, &did); err != nil {
				return err
			}
		} else if did.Kind == signal.AutomaticReply { // it is an answer again, and ends what it ended
			since = in.At
			if err := tx.MarkSignals(ctx, who, in.Kind, in.At, ""); err != nil {
				return err
			}
			if err := e.Leave(ctx, tx, who, sequence.Answered, now); err != nil {
				return err
			}
		}
		if err := tx.MarkStandings(ctx, []int64{who}, since); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(who), news.Pipeline)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// unsureAgain has a letter be one that anybody can have written, as before it was sorted.
func (e *Sales) unsureAgain(ctx context.Context, tx store.Tx, in *store.Incoming, did *store.Sorted) error {
	if err := tx.UnsortIncoming(ctx, in.ID); err != nil {
		return err
	}
	if err := tx.MarkSignals(ctx, *in.Person, in.Kind, in.At, "taken back"); err != nil {
		return err
	}
	if err := tx.ReopenWays(ctx, did.Ways, sequence.Answered, in.At, e.Now()); err != nil {
		return err
	}
	return tx.HoldPerson(ctx, *in.Person, e.Now())
}

// unfollow takes back what followed: a deal nobody has worked on, a handoff nobody has decided, a
// way back into a sequence that nobody has gone.
func (e *Sales) unfollow(ctx context.Context, tx store.Tx, who int64, did *store.Sorted) error {
	if did.Deal != 0 {
		if gone, err := tx.RemoveFreshDeal(ctx, did.Deal); err != nil || !gone {
			return errors.Join(err, ErrMovedOn)
		}
	}
	if did.Handoff != 0 {
		if gone, err := tx.RemoveHandoff(ctx, did.Handoff, did.Deal != 0); err != nil || !gone {
			return errors.Join(err, ErrMovedOn)
		}
	}
	if did.Comeback != 0 {
		if gone, err := tx.RemoveComeback(ctx, did.Comeback); err != nil || !gone {
			return errors.Join(err, ErrMovedOn)
		}
	}
	return nil
}

// Suggest is what an answer may come to, by the rules that are kept; false: they say nothing. With
// "not now" comes the date that it names, where it names one.
func (e *Sales) Suggest(ctx context.Context, in *store.Incoming) (answer.Suggestion, string, bool, error) {
	rules, err := e.AnswerRules(ctx)
	if err != nil {
		return answer.Suggestion{}, "", false, err
	}
	s, ok := rules.Suggest(in.Said)
	when := ""
	if ok && s.Sort == answer.NotNow {
		if d, named := answer.When(in.Said, calendar.DateOf(in.At, e.Zone())); named {
			when = fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day)
		}
	}
	return s, when, ok, nil
}

// AnswerRulesSetting is the setting that has the rules of suggestions.
const AnswerRulesSetting = "answer_rules"

// AnswerRules are those by which sorts are suggested.
func (e *Sales) AnswerRules(ctx context.Context) (answer.Rules, error) {
	rules := answer.Usual()
	_, err := e.Store.Setting(ctx, AnswerRulesSetting, &rules)
	return rules, err
}

// KeepSnippet keeps words that are written again and again: everybody's, or the user's own.
func (e *Sales) KeepSnippet(ctx context.Context, s store.Snippet, user int64) (id int64, err error) {
	s.Name, s.Body = person.Name(s.Name), strings.TrimSpace(strings.ReplaceAll(s.Body, "\r\n", "\n"))
	if s.Name == "" || s.Body == "" {
		return 0, plainly.New("a snippet needs a name and words")
	}
	if len(s.Name) > 100 || len(s.Body) > 5000 {
		return 0, plainly.New("a name has at most 100 letters, and the words 5,000")
	}
	if err := e.post.CheckText(ctx, s.Body); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.KeepSnippet(ctx, s, user, e.Now())
		return err
	})
	return id, err
}

// RemoveSnippet removes one, or puts it back.
func (e *Sales) RemoveSnippet(ctx context.Context, id, user int64, gone bool) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveSnippet(ctx, id, user, gone, e.Now()) })
}

package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

func (w *world) meet(p store.NewPerson) (id int64) {
	w.t.Helper()
	w.tx(func(tx store.Tx) error {
		var err error
		id, _, err = tx.MeetPerson(w.ctx, p, w.clock.Now())
		return err
	})
	return id
}

func (w *world) audience(name string, r rule.Rule) int64 {
	w.t.Helper()
	a := store.Audience{Name: name, Live: true}
	a.Rule.V = r
	id, err := w.e.SaveAudience(w.ctx, a)
	w.must(err)
	return id
}

// in lists who is in an audience, and holds that against what its rule finds now.
func (w *world) in(audience int64) []int64 {
	w.t.Helper()
	list, _, err := w.s.People(w.ctx,
		store.PeopleQuery{Rule: rule.ThingIs(rule.Audience, audience), Order: store.Newest, Limit: 1000,
			Now: w.clock.Now()})
	w.must(err)
	var ids []int64
	for _, p := range list {
		ids = append(ids, p.ID)
	}
	slices.Sort(ids)
	a, err := w.s.Audience(w.ctx, audience)
	w.must(err)
	if int(a.Members) != len(ids) {
		w.t.Errorf("%s says it has %d members and has %d", a.Name, a.Members, len(ids))
	}
	return ids
}

func did(k signal.Kind, n, days int) rule.Rule {
	return rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: k}, Op: rule.AtLeast, N: n, Days: days}}
}

func (w *world) clicks(p int64, at time.Time) {
	w.t.Helper()
	w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: at, Kind: signal.Click}}))
}

// TestLiveAudiencesFollow changes people in every way that a rule can ask for
// and holds who is in the audiences after each.
func TestLiveAudiencesFollow(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord", Domain: "fjord.example",
		Country: "NO"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	norway := w.audience("Norway", rule.FieldIs(person.Country, "NO"))
	keen := w.audience("Keen", did(signal.Click, 2, 30))
	hot := w.audience("Hot", rule.ScoreAtLeast(6))
	industry := w.audience("Farms", rule.FieldIs(person.Industry, "Fish farming"))
	dealing := w.audience("Dealing", rule.Rule{If: &rule.Condition{About: rule.Deal, Op: rule.Is}})
	others := w.audience("Norway, not keen",
		rule.Rule{All: []rule.Rule{rule.ThingIs(rule.Audience, norway),
			{None: []rule.Rule{rule.ThingIs(rule.Audience, keen)}}}})
	expect := func(when string, audience int64, want ...int64) {
		t.Helper()
		if got := w.in(audience); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", when, got, want)
		}
	}
	w.settle()
	expect("at first", norway, ana)
	expect("at first", others, ana)
	expect("at first", keen)

	w.must(w.e.ChangePerson(w.ctx, bo, person.Values{person.Country: "Norway"}, w.marketer))
	w.settle()
	expect("moved to Norway", norway, ana, bo)
	expect("moved to Norway", others, ana, bo)

	w.clicks(ana, w.clock.Now())
	w.clicks(ana, w.clock.Now())
	w.settle()
	expect("clicked twice", keen, ana)
	expect("an audience of an audience", others, bo)
	expect("the score followed", hot, ana)

	w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Industry: "Fish farming"}, w.marketer))
	w.settle()
	expect("the company's industry", industry, ana)

	w.must(w.e.HandOver(w.ctx, bo))
	h, err := w.s.HandoffsOf(w.ctx, store.Of(bo))
	w.must(err)
	_, err = w.e.Accept(w.ctx, h[0].ID, *h[0].Rep)
	w.must(err)
	w.settle()
	expect("a deal was opened", dealing, bo)

	w.must(w.e.TagPerson(w.ctx, bo, "fair", w.marketer))
	tag := w.audience("Tagged", rule.ThingIs(rule.Tag, 1))
	w.settle()
	expect("tagged before the audience was made", tag, bo)
	w.must(w.e.TagPerson(w.ctx, ana, "FAIR", w.marketer))
	w.settle()
	expect("tagged after", tag, ana, bo)

	// A changed rule is counted again.
	a, err := w.s.Audience(w.ctx, norway)
	w.must(err)
	a.Rule.V = rule.FieldIs(person.FirstName, "bo")
	_, err = w.e.SaveAudience(w.ctx, a)
	w.must(err)
	w.settle()
	expect("another rule", norway, bo)
}

// TestTimeAloneMovesPeople lets windows run out: who leaves, and with what
// instant, without anybody doing anything.
func TestTimeAloneMovesPeople(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	keen := w.audience("Keen", did(signal.Click, 1, 10))
	quiet := w.audience("Quiet", rule.Rule{None: []rule.Rule{did(signal.Click, 1, 10)}})
	fresh := w.audience("New", rule.Rule{If: &rule.Condition{Field: person.Created, Op: rule.Within, Days: 3}})
	w.clicks(ana, day0)
	w.settle()
	if len(w.in(keen)) != 1 || len(w.in(quiet)) != 0 || len(w.in(fresh)) != 1 {
		t.Fatal("at first")
	}
	w.clock.set(day0.AddDate(0, 0, 10)) // exactly at the end of the window she still is
	w.settle()
	if len(w.in(keen)) != 1 || len(w.in(quiet)) != 0 {
		t.Error("a click exactly 10 days ago does not count")
	}
	if len(w.in(fresh)) != 0 {
		t.Error("met 10 days ago, she is new")
	}
	w.clock.set(day0.AddDate(0, 0, 25))
	w.settle()
	if len(w.in(keen)) != 0 || len(w.in(quiet)) != 1 {
		t.Error("nobody left when the window had run out")
	}
	moves, err := w.s.Moves(w.ctx, keen, 10)
	w.must(err)
	if want := day0.AddDate(0, 0, 10).Add(time.Microsecond); len(moves) != 2 || moves[0].Joined ||
		!moves[0].At.Equal(want) {
		t.Errorf("she left at %v, want %v", moves[0].At, want)
	}
}

// TestAudiencesNeverDrift changes people at random, over weeks, and holds who
// is in each audience against what its rule finds.
func TestAudiencesNeverDrift(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(9, 9))
	var people []int64
	for i := range 25 {
		people = append(people,
			w.meet(store.NewPerson{Email: fmt.Sprintf("p%d@x.example", i), Country: []string{"NO", "CA"}[i%2]}))
	}
	none := func(r ...rule.Rule) rule.Rule { return rule.Rule{None: r} }
	rules := []rule.Rule{
		did(signal.Click, 2, 7), none(did(signal.Open, 1, 5)),
		{All: []rule.Rule{rule.FieldIs(person.Country, "NO"), did(signal.Open, 1, 14)}}, rule.ScoreAtLeast(5),
		{Any: []rule.Rule{rule.ThingIs(rule.Tag, 1),
			{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.Exactly, N: 1, Days: 3}}}},
		none(rule.ThingIs(rule.Audience, 1), rule.ThingIs(rule.Audience, 2)),
	}
	w.must(w.e.TagPerson(w.ctx, people[0], "fair", w.marketer))
	var audiences []int64
	for i, r := range rules {
		audiences = append(audiences, w.audience(fmt.Sprintf("A%d", i), r))
	}
	for step := range 120 {
		p := people[rnd.IntN(len(people))]
		switch rnd.IntN(5) {
		case 0:
			w.clicks(p, w.clock.Now())
		case 1:
			w.must(w.e.Record(w.ctx,
				store.Signal{Person: p, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Open}}))
		case 2:
			w.must(w.e.ChangePerson(w.ctx, p, person.Values{person.Country: []string{"NO", "CA", ""}[rnd.IntN(3)]},
				w.marketer))
		case 3:
			w.must(w.e.Mark(w.ctx, p, person.Mark(person.TagMark, int64(1)), rnd.IntN(2) == 0, w.marketer))
		case 4:
			w.clock.set(w.clock.Now().Add(time.Duration(rnd.IntN(60)) * time.Hour))
		}
		if step%6 != 5 {
			continue
		}
		w.settle()
		for i, r := range rules {
			var want []int64
			w.tx(func(tx store.Tx) error {
				var err error
				want, err = tx.AllIDs(w.ctx, store.PeopleQuery{Rule: r, Now: w.clock.Now()})
				return err
			})
			if got := w.in(audiences[i]); !slices.Equal(got, want) {
				t.Fatalf("step %d, %s: members %v, the rule finds %v", step, r.Words(nil), got, want)
			}
		}
	}
}

// TestAudiencesFollowTheFit: a changed record, a changed company and a changed
// fit each move people in and out.
func TestAudiencesFollowTheFit(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord", Domain: "fjord.example",
		Country: "NO"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Fit = rule.Fit{{If: rule.FieldIs(person.Country, "NO"), Points: 40},
		{If: rule.FieldIs(person.Industry, "Ports"), Points: 60}}
	m.FitBands = []rule.Band{{Name: "far"}, {Name: "near", From: 50}}
	w.must(w.e.SaveModel(w.ctx, m))
	fit := func(n int) rule.Rule {
		return rule.Rule{If: &rule.Condition{About: rule.ByFit, Op: rule.AtLeast, N: n}}
	}
	forty, all := w.audience("Forty", fit(40)), w.audience("All of it", fit(100))
	near := w.audience("Near", rule.Rule{If: &rule.Condition{About: rule.InFitBand, Op: rule.Is, Value: "near", N: 50}})
	expect := func(when string, audience int64, want ...int64) {
		t.Helper()
		if got := w.in(audience); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", when, got, want)
		}
	}
	w.settle()
	expect("at first", forty, ana)
	expect("at first", all)
	w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Industry: "ports"}, w.marketer))
	w.settle()
	expect("the company's industry", all, ana)
	expect("the band", near, ana)
	w.must(w.e.ChangePerson(w.ctx, bo, person.Values{person.Country: "Norway"}, w.marketer))
	w.settle()
	expect("moved to Norway", forty, ana, bo)
	expect("moved to Norway", near, ana)
	m, err = w.s.Model(w.ctx)
	w.must(err)
	m.Fit = m.Fit[:1]
	w.must(w.e.SaveModel(w.ctx, m))
	w.settle()
	expect("only the country counts", all, ana, bo)
	if got, err := w.s.Model(w.ctx); err != nil || len(got.Rules) != 4 || len(got.FitBands) != 2 ||
		got.FitBands[0].To != 50 {
		t.Errorf("saving the fit changed the rest: %+v, %v", got, err)
	}
	for _, bad := range []score.Model{{Fit: rule.Fit{{If: rule.ScoreAtLeast(3), Points: 1}}},
		{Bands: []rule.Band{{Name: "a", From: 3}}}, {FitBands: []rule.Band{{From: 0}}}} {
		bad.Name = "Engagement"
		if err := w.e.SaveModel(w.ctx, store.Model{ID: m.ID, Model: bad}); err == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
}

// Each audience whose rule is new is asked about everybody by itself: one that
// cannot be keeps none of the others, and what was done stays done.
func TestOneAudienceThatFails(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	save := func(name string) int64 {
		a := store.Audience{Name: name, Live: true}
		a.Rule.V = rule.FieldIs(person.Country, "NO")
		id, err := w.e.SaveAudience(w.ctx, a)
		w.must(err)
		return id
	}
	first, second, third := save("A"), save("B"), save("C")
	_, err := w.s.DB().ExecContext(w.ctx, fmt.Sprintf(`
		delete from audience_member;
		update audience set recount = true, members = 0;
		create function refuse() returns trigger language plpgsql as $$ begin raise 'not this one'; end $$;
		create trigger refuse before insert on audience_member for each row
			when (new.audience_id = %d) execute function refuse()`, second))
	w.must(err)
	for range 3 {
		if _, err = w.e.FollowAudiences(w.ctx); err == nil ||
			!strings.Contains(err.Error(), fmt.Sprintf("audience %d", second)) {
			t.Fatalf("it fails as %v", err)
		}
	}
	for id, want := range map[int64]int{first: 1, second: 0, third: 1} {
		if n := w.count("select count(*) from audience_member where audience_id = $1 and person_id = $2", id,
			ana); n != want {
			t.Errorf("audience %d has %d of 1", id, n)
		}
	}
	_, err = w.s.DB().ExecContext(w.ctx, "drop trigger refuse on audience_member")
	w.must(err)
	_, err = w.e.FollowAudiences(w.ctx)
	if w.must(err); len(w.in(second)) != 1 {
		t.Error("it is not asked again")
	}
}

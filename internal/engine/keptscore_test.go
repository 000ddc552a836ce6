package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// someModel is a model at random, with rules of every kind and at their edges.
func someModel(rnd *rand.Rand, name string, tag, stage int64) score.Model {
	m := score.Model{Name: name, Line: 5 + rnd.IntN(12), Margin: rnd.IntN(4), Floor: -50 * rnd.IntN(2),
		Ceiling: 60 * rnd.IntN(2), Fit: rule.Fit{{If: rule.FieldIs(person.Country, "NO"), Points: 2}},
		FitLine: 50 * rnd.IntN(2)}
	kinds := []signal.Kind{signal.PageView, signal.Open, signal.Click, signal.OptOut}
	is := func(c rule.Condition) rule.Rule { return rule.Rule{If: &c} }
	ifs := []rule.Rule{{}, rule.FieldIs(person.Country, "NO"), rule.FieldIs(person.Industry, "Ports"),
		rule.ThingIs(rule.Tag, tag), is(rule.Condition{About: rule.Deal, Op: rule.Is}),
		is(rule.Condition{About: rule.Lost, Op: rule.Within, Days: 2}), is(rule.Condition{About: rule.Stage, ID: stage,
			Op: rule.IsNot}), is(rule.Condition{Field: person.Created, Op: rule.Within, Days: 1 + rnd.IntN(9)}),
		is(rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.AtMost, N: 1, Days: 1 + rnd.IntN(3)})}
	for i := range 3 + rnd.IntN(5) {
		r := score.Rule{ID: int64(i + 1), On: signal.Pattern{Kind: kinds[rnd.IntN(len(kinds))]},
			Points: 1 + rnd.IntN(9), If: ifs[rnd.IntN(len(ifs))]}
		if rnd.IntN(3) == 0 {
			r.Points = -r.Points
		}
		switch rnd.IntN(6) {
		case 0:
			r.Often, r.N, r.Window = score.While, 1+rnd.IntN(2), 1+rnd.IntN(4)
		case 1:
			r.Often, r.N, r.Half = score.PerDay, 1+rnd.IntN(2), 1+rnd.IntN(4)
		case 2:
			r.Often, r.Lasts = score.First, 1+rnd.IntN(6)
		case 3:
			r.Often, r.N, r.Wipe = score.InAll, 1+rnd.IntN(3), rnd.IntN(2) == 0
		case 4:
			r = score.Rule{ID: r.ID, Points: r.Points, If: ifs[1+rnd.IntN(len(ifs)-1)]}
		default:
			r.Lasts = rnd.IntN(8)
		}
		m.Rules = append(m.Rules, r)
	}
	return m
}

// Whatever happens, late or in one instant, to a record, a company, a deal or a tag, and however time passes: the score
// that is kept, and what each rule gives of it, is what all signals and the record give, by each of several models of
// rules at random; and whoever looks at everybody anew finds nothing else.
func TestKeptScoresAgainstAllAnew(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(15, 64))
	var won, lost int64
	w.must(w.s.DB().QueryRowContext(w.ctx,
		"insert into stage (name, position, won, pipeline_id) values ('Won', 8, true, 1) returning id").Scan(&won))
	w.must(w.s.DB().QueryRowContext(w.ctx,
		"insert into stage (name, position, lost, pipeline_id) values ('Lost', 9, true, 1) returning id").Scan(&lost))
	var who []int64
	for i := range 5 {
		who = append(who, w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n%d.example", i, i%3),
			Company: fmt.Sprint("N", i%3), Country: []string{"NO", "CA"}[i%2]}))
	}
	deals := []int64{w.dealOf("Dea"), w.dealOf("Don")}
	for _, d := range deals {
		var p int64
		w.must(w.s.DB().QueryRowContext(w.ctx, "select person_id from deal where id = $1", d).Scan(&p))
		who = append(who, p)
	}
	w.must(w.e.TagPerson(w.ctx, who[0], "warm", w.marketer))
	tags, err := w.s.PersonTags(w.ctx, who[0])
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	second, err := w.e.AddModel(w.ctx, "Second", 0, w.marketer)
	w.must(err)
	seen, parts := 0, 0
	for range 5 {
		for _, id := range []int64{1, second} {
			m, err := w.s.ModelOf(w.ctx, id)
			w.must(err)
			w.must(w.e.SaveModel(w.ctx, store.Model{ID: id, Model: someModel(rnd, m.Name, tags[0].ID, stages[0].ID)}))
		}
		for range 14 {
			p := who[rnd.IntN(len(who))]
			switch rnd.IntN(8) {
			case 0:
				w.must(w.e.ChangePerson(w.ctx, p, person.Values{person.Country: []string{"NO", "CA", ""}[rnd.IntN(3)]},
					w.marketer))
			case 1:
				x, err := w.s.Person(w.ctx, p)
				w.must(err)
				if x.CompanyID != nil {
					w.must(w.e.ChangeCompany(w.ctx, *x.CompanyID, person.Values{person.Industry: []string{"Ports",
						"Towns"}[rnd.IntN(2)]}, w.marketer))
				}
			case 2:
				w.must(w.e.TagPerson(w.ctx, p, "warm", w.marketer))
			case 3:
				to := []int64{stages[0].ID, stages[1].ID, won, lost}[rnd.IntN(4)]
				if err := w.e.MoveDeal(w.ctx, deals[rnd.IntN(2)], to, 0, w.rep1); err != nil {
					t.Fatal(err)
				}
			default:
				at := w.clock.Now()
				if rnd.IntN(3) == 0 { // late, or once more in the same instant
					at = at.Add(-time.Duration(rnd.IntN(3)) * 36 * time.Hour)
				}
				k := []signal.Kind{signal.PageView, signal.Open, signal.Click, signal.Click, signal.OptOut}[rnd.IntN(5)]
				for range 1 + rnd.IntN(2) {
					w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: at, Kind: k}}))
				}
			}
			if rnd.IntN(2) == 0 {
				w.to(w.clock.Now().Sub(day0) + time.Duration(rnd.Int64N(int64(12*time.Hour))).Truncate(time.Microsecond))
			}
			w.settle()
			n, some := w.keptIsAnew(who, []int64{1, second})
			seen, parts = seen+n, parts+some
		}
		// Everybody looked at anew finds the same.
		before := w.standing(who, second)
		w.tx(func(tx store.Tx) error { return tx.CountAllAgain(w.ctx, 0, w.clock.Now()) })
		w.settle()
		if after := w.standing(who, second); !slices.Equal(before, after) {
			t.Fatalf("kept %v, anew %v", before, after)
		}
	}
	if seen < 250 || parts < 400 {
		t.Errorf("only %d scores but nought, of %d parts", seen, parts)
	}
}

// standing is how some people stand by a model.
func (w *world) standing(who []int64, model int64) []float64 {
	w.t.Helper()
	list, err := w.s.Standings(w.ctx, model, who)
	w.must(err)
	by := map[int64]float64{}
	for _, s := range list {
		by[s.Person] = s.Score
	}
	var out []float64
	for _, p := range who {
		out = append(out, by[p])
	}
	return out
}

// keptIsAnew holds what is kept against what all signals and the records give: now, and where points halve, when it was
// counted, which is no more than an hour ago. It answers how many are not nought, and of how many parts.
func (w *world) keptIsAnew(who, models []int64) (some, parts int) {
	w.t.Helper()
	now := w.clock.Now()
	var since []store.Since
	for _, p := range who {
		since = append(since, store.Since{Person: p})
	}
	signals, err := w.s.SignalsSince(w.ctx, since)
	w.must(err)
	records, err := w.s.Records(w.ctx, who)
	w.must(err)
	for _, id := range models {
		m, err := w.s.ModelOf(w.ctx, id)
		w.must(err)
		m.Zone = w.e.Zone()
		list, err := w.s.Standings(w.ctx, id, who)
		w.must(err)
		stands := map[int64]store.Standing{}
		for _, s := range list {
			stands[s.Person] = s
		}
		for _, p := range who {
			s, counted := stands[p]
			if s.Person = p; !counted { // they stand at nought, which still has to be so
				s.CountedAt = now
			}
			at := now
			if m.Halves() {
				if at = s.CountedAt; now.Sub(at) > time.Hour && !s.Until.IsZero() && s.Until.Before(now) {
					w.t.Fatalf("counted at %v, and now it is %v", at, now)
				}
			}
			did := signals[s.Person]
			facts := flow.NewPersonOf(records[s.Person], did)
			if want := m.At(did, facts, at); s.Score != want {
				w.t.Fatalf("person %d has %v by model %d, counted at %v; anew %v at %v\n%+v\n%+v\n%+v", s.Person, s.Score, id,
					s.CountedAt, want, at, m.Model, did, records[s.Person])
			}
			want := m.Parts(nil, m.Ledger(nil, did, facts, at), at)
			slices.SortFunc(want, func(a, b score.Part) int { return int(a.Rule - b.Rule) })
			if !slices.Equal(s.Parts, want) {
				w.t.Fatalf("person %d has %v by model %d; anew %v", s.Person, s.Parts, id, want)
			}
			if parts += len(want); s.Score != 0 {
				some++
			}
		}
	}
	return some, parts
}

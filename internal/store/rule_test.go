package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// inMemory is a person as rule.Holds sees them.
type inMemory struct {
	record  *rule.Record
	signals []signal.Signal
	scores  map[rule.Figure]float64 // by each model and its rules
}

func (p *inMemory) Record() *rule.Record { return p.record }
func (p *inMemory) Score(of rule.Figure, _ time.Time) float64 {
	return p.scores[of]
}
func (p *inMemory) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.signals, q, from, to)
}

var ruleNow = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

// ruleWorld is a database with people at random, everything that a rule can
// ask for among them, and the same people in memory.
type ruleWorld struct {
	*store.Store
	ctx    context.Context
	rnd    *rand.Rand
	cat    *rule.Catalogue
	people map[int64]*inMemory
	ids    []int64
}

var (
	someTexts = []string{"Ana", "ÅSA", "a%b", "a_b", "", `back\slash`, "O'Neil", "ana maria", "Straße", "İzmir",
		"a; b"}
	someCountries = []string{"NO", "no", "CA", "", "Norge"}
)

func (w *ruleWorld) pick(list []string) string { return list[w.rnd.IntN(len(list))] }

// edge is an instant within 40 days, half of the time exactly on the edge of a
// window or a microsecond beside it.
func (w *ruleWorld) edge() time.Time {
	at := ruleNow.Add(-time.Duration(w.rnd.IntN(40)) * 24 * time.Hour)
	if w.rnd.IntN(2) == 0 {
		at = at.Add(time.Duration(w.rnd.IntN(3)-1) * time.Microsecond)
	}
	return at
}

// second begins a model beside the first.
func second(w *ruleWorld, tx store.Tx) int64 {
	id, err := tx.AddModel(w.ctx, score.Model{Name: "second"}, store.Made{At: ruleNow})
	if err != nil {
		panic(err)
	}
	return id
}

func newRuleWorld(t *testing.T, n int) *ruleWorld {
	t.Helper()
	w := &ruleWorld{Store: storetest.New(t), ctx: t.Context(), rnd: rand.New(rand.NewPCG(4, 12)),
		people: map[int64]*inMemory{}}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	run := func(q string, args ...any) {
		t.Helper()
		_, err := w.DB().ExecContext(w.ctx, q, args...)
		must(err)
	}
	var models []int64
	must(w.InTx(w.ctx, func(tx store.Tx) error {
		var err error
		for i, ty := range person.OwnTypes() {
			f := store.OwnField{Name: fmt.Sprintf("Own %d", i), Type: ty}
			f.Options.V = []string{"Red", "green", "BLUE"}
			if _, err := tx.AddOwnField(w.ctx, f); err != nil {
				return err
			}
			f.Name, f.Company = fmt.Sprintf("Theirs %d", i), true
			if _, err := tx.AddOwnField(w.ctx, f); err != nil {
				return err
			}
		}
		for _, name := range []string{"fair", "board", "spare"} {
			if _, err := tx.TagNamed(w.ctx, name, 0, ruleNow); err != nil {
				return err
			}
			if _, err := tx.AddAudience(w.ctx, store.Audience{Name: name}, ruleNow); err != nil {
				return err
			}
		}
		if _, err = tx.AddPurpose(w.ctx, "Invitations"); err != nil {
			return err
		}
		fit := rule.Fit{
			{If: rule.Rule{Any: []rule.Rule{rule.FieldIs(person.Country, "NO"), rule.FieldIs(person.Industry, "ana")}},
				Points: 3},
			{If: rule.Rule{If: &rule.Condition{Field: person.Own(3), Op: rule.AtLeast, Value: "2"}}, Points: 4},
			{If: rule.Rule{If: &rule.Condition{Field: person.Own(4), Op: rule.AtLeast, Value: "2"}}, Points: 1},
			{If: rule.Rule{None: []rule.Rule{{If: &rule.Condition{Field: person.City, Op: rule.Known}}}}, Points: -2},
			{If: rule.Rule{If: &rule.Condition{Field: person.Size, Op: rule.AtLeast, Value: "20"}}, Points: 2},
		}
		m, err := tx.SaveModel(w.ctx, store.Model{Model: score.Model{Name: "m", Line: 15, Fit: fit,
			Bands:    []rule.Band{{Name: "cold", To: 10}, {Name: "warm", From: 10, To: 20}, {Name: "hot", From: 20}},
			FitBands: []rule.Band{{Name: "far", To: 30}, {Name: "near", From: 30, To: 60}, {Name: "here", From: 60}}}},
			store.Made{At: ruleNow})
		if err != nil {
			return err
		}
		models = append(models, m.ID)
		m, err = tx.SaveModel(w.ctx, store.Model{ID: second(w, tx), Model: score.Model{Name: "second", Line: 9, Fit: fit[:2],
			Bands:    []rule.Band{{Name: "cold", To: 5}, {Name: "x", From: 5}},
			FitBands: []rule.Band{{Name: "no", To: 43}, {Name: "yes", From: 43}}, LastID: 3,
			Rules: []score.Rule{{ID: 1, On: signal.Pattern{Kind: signal.Click}, Points: 3},
				{ID: 3, If: rule.FieldIs(person.Country, "NO"), Points: 3}}}}, store.Made{At: ruleNow})
		if err != nil {
			return err
		}
		models = append(models, m.ID)
		cat, err := tx.Catalogue(w.ctx)
		if err != nil {
			return err
		}
		return fit.Check(cat)
	}))
	_, err := w.AddUser(w.ctx, store.User{Name: "Tomas Vale", Email: "t@x.example", Role: "rep"}, ruleNow)
	must(err)
	run("insert into stage (name, position, won, lost, pipeline_id) values ('Talking', 1, false, false, 1), " +
		"('Won', 2, true, false, 1), ('Lost', 3, false, true, 1)")
	var versions []int64
	for i := range 2 {
		must(w.InTx(w.ctx, func(tx store.Tx) error {
			q, err := tx.AddSequence(w.ctx, fmt.Sprintf("S%d", i), sequence.NewPlan(), ruleNow)
			if err != nil {
				return err
			}
			plan := sequence.NewPlan()
			plan.Steps[0].About().Title = []string{"End", "Gone Quiet — ÆØÅ"}[i]
			v, err := tx.AddVersion(w.ctx,
				store.Version{Sequence: q, Plan: store.JSON[*sequence.Plan]{V: plan}, Launched: ruleNow}, 0)
			versions = append(versions, v)
			return err
		}))
	}
	must(w.InTx(w.ctx, func(tx store.Tx) error {
		for _, name := range []string{"Clinic", "Fair"} {
			if _, err := tx.SaveEvent(w.ctx, event.Event{Name: name, Starts: ruleNow, Ends: ruleNow.Add(time.Hour),
				Zone: "UTC"}, 0, ruleNow); err != nil {
				return err
			}
		}
		return nil
	}))
	w.cat, err = w.Catalogue(w.ctx)
	must(err)
	for i := range n {
		must(w.InTx(w.ctx, func(tx store.Tx) error {
			p := store.NewPerson{First: w.pick(someTexts), Last: w.pick(someTexts),
				Email: fmt.Sprintf("p%d@x.example", i), Country: w.pick(someCountries), City: w.pick(someTexts),
				Title: w.pick(someTexts), Source: w.pick(someTexts)}
			if w.rnd.IntN(2) == 0 {
				p.Company, p.Domain = w.pick(someTexts[:3]), fmt.Sprintf("d%d.example", w.rnd.IntN(20))
			}
			id, _, err := tx.MeetPerson(w.ctx, p, w.edge())
			if err != nil {
				return err
			}
			list, err := tx.PeopleByID(w.ctx, []int64{id})
			if err != nil {
				return err
			}
			set := person.Values{}
			for _, d := range w.cat.Fields() {
				if d.Company || d.Fixed || w.rnd.IntN(2) == 0 {
					continue
				}
				if v, err := d.Tidy(w.value(d), "NO"); err == nil && d.Field != person.EmailField && v != "nobody" {
					set[d.Field] = v
				}
			}
			now := list[id].Values()
			for _, m := range []person.Field{person.Mark(person.TagMark, int64(1+w.rnd.IntN(3))),
				person.Mark(person.AudienceMark, int64(1+w.rnd.IntN(3))),
				person.Mark(person.ConsentMark, int64(1+w.rnd.IntN(2)))} {
				if w.rnd.IntN(2) == 0 {
					set[m] = "yes"
				}
			}
			if _, err := tx.Change(w.ctx, []store.Edit{{P: list[id], Now: now, Set: set}},
				store.Author{How: "a test", At: ruleNow}); err != nil {
				return err
			}
			m := &inMemory{}
			for range w.rnd.IntN(6) {
				x := signal.Signal{At: w.edge(), Kind: signal.Kind(1 + w.rnd.IntN(5)), Machine: w.rnd.IntN(4) == 0,
					Place: signal.Place{Sequence: int64(w.rnd.IntN(3)), Step: int32(w.rnd.IntN(2)),
						Page: int64(w.rnd.IntN(2)), Event: int64(w.rnd.IntN(2))}}
				m.signals = append(m.signals, x)
				why := ""
				if x.Machine {
					why = "a test"
				}
				if err := tx.AddSignals(w.ctx, []store.Signal{{Person: id, Why: why, Signal: x}}); err != nil {
					return err
				}
			}
			for range w.rnd.IntN(4) { // the last at each holds
				if err := tx.Attend(w.ctx, int64(1+w.rnd.IntN(2)), []int64{id}, event.States()[w.rnd.IntN(4)],
					store.Author{At: ruleNow}); err != nil {
					return err
				}
			}
			signal.Sort(m.signals)
			m.scores = map[rule.Figure]float64{}
			for i, model := range models {
				if w.rnd.IntN(4) == 0 { // some have never been counted, and stand at nought
					continue
				}
				if err := tx.MarkStandings(w.ctx, []int64{id}, ruleNow); err != nil {
					return err
				}
				s := store.Standing{Person: id, Score: float64(w.rnd.IntN(60)) / 2, CountedAt: ruleNow}
				for _, r := range []int64{1, 3, 9} {
					if w.rnd.IntN(2) == 0 {
						s.Parts = append(s.Parts, score.Part{Rule: r, Points: float64(w.rnd.IntN(40)-10) / 2})
					}
				}
				if err := tx.KeepStandings(w.ctx, model, []store.Standing{s}); err != nil {
					return err
				}
				keep := func(of int64) {
					m.scores[rule.Figure{Model: of}] = s.Score
					for _, p := range s.Parts {
						m.scores[rule.Figure{Model: of, Rule: p.Rule}] = p.Points
					}
				}
				if keep(model); i == 0 {
					keep(0)
				}
			}
			w.people[id] = m
			w.ids = append(w.ids, id)
			return nil
		}))
		id := w.ids[len(w.ids)-1]
		if w.rnd.IntN(2) == 0 {
			run("update company set industry = $2, size = $3, revenue = $4, country = $5 where id = (select "+
				"company_id from person where id = $1)", id, w.pick(someTexts), w.rnd.IntN(3)*20,
				w.pick([]string{"", "under 1 M"}), w.pick([]string{"", "NO", "CA"}))
		}
		theirs := person.Values{}
		for _, d := range w.cat.Own {
			if v, err := d.Tidy(w.value(d), ""); err == nil && d.Company && w.rnd.IntN(2) == 0 {
				theirs[d.Field] = v
			}
		}
		must(w.InTx(w.ctx, func(tx store.Tx) error {
			list, err := tx.PeopleByID(w.ctx, []int64{id})
			if err != nil || list[id].CompanyID == nil {
				return err
			}
			return tx.SetCompany(w.ctx, *list[id].CompanyID, theirs, store.Author{How: "a test", At: ruleNow})
		}))
		for range w.rnd.IntN(3) {
			stage := 2 + w.rnd.IntN(2)
			run("insert into deal (person_id, stage_id, name, currency, opened_at, moved_at, closed_at, campaign, "+
				"sequence_id) values ($1, $2, 'd', 'EUR', $3, $3, $3, $4, nullif($5, 0))", id, stage, w.edge(),
				w.pick(someTexts), w.rnd.IntN(3))
		}
		if w.rnd.IntN(3) == 0 {
			run("insert into deal (person_id, stage_id, name, currency, opened_at, moved_at, campaign, sequence_id) values "+
				"($1, 1, 'd', 'EUR', $2, $2, $3, nullif($4, 0))", id, ruleNow, w.pick(someTexts), w.rnd.IntN(3))
		}
		for range w.rnd.IntN(2) { // they take part in another's
			run("insert into deal_part (deal_id, person_id) select id, $1 from deal where person_id <> $1 "+
				"order by id desc offset $2 limit 1 on conflict do nothing", id, w.rnd.IntN(9))
		}
		for q, v := range versions {
			switch w.rnd.IntN(4) {
			case 0:
				run("insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at) values "+
					"($1, $2, $3, 1, $4, $4)", q+1, v, id, ruleNow)
			case 1:
				run("insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at, "+
					"ended_at, reason) values ($1, $2, $3, 1, $4, $4, $4, $5)", q+1, v, id, ruleNow,
					w.pick([]string{"finished", "answered", "handed over"}))
			}
		}
	}
	must(w.InTx(w.ctx, func(tx store.Tx) error {
		records, err := tx.Records(w.ctx, w.ids)
		for id, r := range records {
			w.people[id].record = r
		}
		return err
	}))
	return w
}

// value is something to put into a field, or to compare it with.
func (w *ruleWorld) value(d person.Definition) string {
	switch d.Type {
	case person.CountryType:
		return w.pick([]string{"NO", "CA", "norway", "no"})
	case person.LanguageType:
		return w.pick([]string{"nb-NO", "en", "de"})
	case person.ZoneType:
		return w.pick([]string{"Europe/Oslo", "Asia/Jakarta"})
	case person.PhoneType:
		return w.pick([]string{"+44 20 7946 0101", "+1 202 555 0102"})
	case person.LinkType:
		return "https://x.example/a"
	case person.Number:
		return w.pick([]string{"0", "20", "40", "2.5", "-3"})
	case person.Date:
		return ruleNow.AddDate(0, 0, w.rnd.IntN(60)-50).Format(time.DateOnly)
	case person.YesNo:
		return w.pick([]string{"yes", "no"})
	case person.OneOf:
		return w.pick([]string{"red", "GREEN", "Blue"})
	case person.SeveralOf:
		return w.pick([]string{"red", "GREEN", "red; blue", "Blue"})
	}
	if d.Field == person.Owner {
		return w.pick([]string{"Tomas Vale", "tomas vale", "nobody"})
	}
	return w.pick(append(someTexts, "a", "%", "_", "straße"))
}

func (w *ruleWorld) grow(depth int) rule.Rule {
	if depth > 0 && w.rnd.IntN(3) > 0 {
		var list []rule.Rule
		for range 1 + w.rnd.IntN(3) {
			list = append(list, w.grow(depth-1))
		}
		switch w.rnd.IntN(3) {
		case 0:
			return rule.Rule{All: list}
		case 1:
			return rule.Rule{Any: list}
		}
		return rule.Rule{None: list}
	}
	subjects := rule.Subjects(w.cat)
	c := rule.Begin(subjects[w.rnd.IntN(len(subjects))].Key, w.cat)
	ops := c.Ops(w.cat)
	c.Op = ops[w.rnd.IntN(len(ops))]
	day := func(back int) string { return ruleNow.AddDate(0, 0, -back).Format(time.DateOnly) }
	switch {
	case c.Signal != nil:
		c.Signal.Machine = w.rnd.IntN(3) == 0
		c.Signal.Place = signal.Place{Sequence: int64(w.rnd.IntN(3)), Step: int32(w.rnd.IntN(2)),
			Page: int64(w.rnd.IntN(2)), Event: int64(w.rnd.IntN(2))}
		c.N, c.Days = w.rnd.IntN(3), w.rnd.IntN(40)
		c.M = c.N + w.rnd.IntN(2)
		if c.Days == 0 && w.rnd.IntN(2) == 0 {
			c.To = day(w.rnd.IntN(20) - 2)
			c.From = day(20 + w.rnd.IntN(20))
		}
	case c.Counts():
		if list, _ := c.OfModels(w.cat); len(list) > 0 {
			c.Choose(w.cat, list[w.rnd.IntN(len(list))].Value)
		}
		c.N = w.rnd.IntN(30)
		if c.Rule != 0 {
			c.N = w.rnd.IntN(12)
		}
		if c.About == rule.ByFit {
			c.N = []int{0, 22, 33, 44, 55, 77}[w.rnd.IntN(6)]
		}
		c.M = c.N + w.rnd.IntN(5)
	case c.About == rule.InBand, c.About == rule.InFitBand:
		if list, _ := c.OfModels(w.cat); len(list) > 0 {
			c.Choose(w.cat, list[w.rnd.IntN(len(list))].Value)
		}
	case c.About == rule.Lost || c.About == rule.Won:
		if c.Days = 0; c.Op == rule.Within {
			c.Days = 1 + w.rnd.IntN(40)
		}
	case c.About == rule.DealOf:
		c.Value = w.pick(someTexts)
	case c.About != "":
		if c.Op == rule.Finished {
			c.Value = w.pick([]string{"", "end", " END ", "gone quiet — æøå", "x"})
		}
		if list := w.cat.List(c.About); len(list) > 0 {
			c.ID = list[w.rnd.IntN(len(list))].ID
		}
	default:
		d, _ := w.cat.Define(c.Field)
		c.Days = 0
		switch c.Op {
		case rule.Within:
			c.Days = 1 + w.rnd.IntN(40)
		case rule.Between:
			c.From, c.To = day(20+w.rnd.IntN(20)), day(w.rnd.IntN(20))
			if d.Type == person.Number {
				c.From, c.To = "1", w.pick([]string{"2.5", "20", "39"})
			}
		case rule.OneOf:
			c.Values = []string{w.value(d), w.value(d), ""}
		case rule.Known, rule.NotKnown:
		default:
			c.Value = w.value(d)
		}
	}
	return rule.Rule{If: &c}
}

// TestRulesMeanTheSameInSQL makes rules at random over everything they can ask
// for, and holds whom SQL finds, in each of its two ways, against whom Holds
// lets in.
func TestRulesMeanTheSameInSQL(t *testing.T) {
	w := newRuleWorld(t, 90)
	found, asked := 0, map[string]int{}
	for range 1500 {
		r := w.grow(3)
		if err := r.Check(w.cat); err != nil {
			continue // a comparison with an empty text, and the like
		}
		words := r.Words(w.cat)
		if rule.Fold(words) == "" {
			t.Fatalf("a rule without words: %+v", r)
		}
		var memory []int64
		for id, p := range w.people {
			if r.Holds(p, ruleNow) {
				memory = append(memory, id)
			}
		}
		slices.Sort(memory)
		q := store.PeopleQuery{Rule: r, Order: store.Newest, Limit: len(memory) + 1, Now: ruleNow}
		back := store.AskFirst(1000, 0)
		q.AtOnce = true
		_, _, err := w.People(w.ctx, q)
		if !errors.Is(err, store.ErrLonger) {
			t.Errorf("%s: more than the %d of whom it is true are found at once (%v)", words, len(memory), err)
		}
		q.Limit, q.AtOnce = max(1, len(memory)), len(memory) > 0
		list, _, err := w.People(w.ctx, q)
		if err != nil {
			t.Fatalf("%s, of %d: %v", words, len(memory), err)
		}
		back()
		var few []int64
		for _, p := range list {
			few = append(few, p.ID)
		}
		slices.Sort(few)
		var all []int64
		if err := w.InTx(w.ctx, func(tx store.Tx) error {
			all, err = tx.AllIDs(w.ctx, q)
			return err
		}); err != nil {
			t.Fatalf("%s: %v", words, err)
		}
		if !slices.Equal(few, memory) || !slices.Equal(all, memory) {
			t.Fatalf("%s:\none by one SQL finds %v\nall at once SQL finds %v\nin memory it holds for %v", words, few,
				all, memory)
		}
		found += len(memory)
		r.Each(func(c *rule.Condition) { asked[c.Key()+" "+string(c.Op)]++ })
	}
	if found < 10_000 {
		t.Errorf("the rules found %d people in all: the test proves little", found)
	}
	for _, s := range rule.Subjects(w.cat) {
		c := rule.Begin(s.Key, w.cat)
		for _, op := range c.Ops(w.cat) {
			if asked[s.Key+" "+string(op)] == 0 {
				t.Errorf("nothing was asked of %s with %q", s.Key, op)
			}
		}
	}
}

// TestPagesOfADescription pages through whom rules are true of, in every order: each is met once and in the order's
// place, whether the first of an order are asked one by one, or all are looked for, or now one and now the other.
func TestPagesOfADescription(t *testing.T) {
	w := newRuleWorld(t, 90)
	pages := func(q store.PeopleQuery, first int) (ids []int64) {
		defer store.AskFirst(first, 0)()
		for range 100 {
			list, key, err := w.People(w.ctx, q)
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range list {
				ids = append(ids, p.ID)
			}
			if len(list) < q.Limit {
				return ids
			}
			q.After = store.ParseKey(key.String())
		}
		t.Fatal("the pages never end")
		return nil
	}
	found := 0
	for n := range 120 {
		r := w.grow(2)
		if err := r.Check(w.cat); err != nil || !r.Asks() {
			continue
		}
		q := store.PeopleQuery{Rule: r, Order: store.Orders()[n%len(store.Orders())], Limit: 1 + n%9, Now: ruleNow}
		one, all, both := pages(q, 1000), pages(q, 0), pages(q, 12)
		if !slices.Equal(one, all) || !slices.Equal(one, both) {
			t.Fatalf("%s, by %s, %d a page:\none by one %v\nall at once %v\nboth %v", r.Words(w.cat), q.Order, q.Limit,
				one, all, both)
		}
		met := map[int64]bool{}
		for _, id := range one {
			met[id] = true
		}
		for id, p := range w.people {
			if r.Holds(p, ruleNow) != met[id] {
				t.Fatalf("%s, by %s: person %d", r.Words(w.cat), q.Order, id)
			}
		}
		if len(met) != len(one) {
			t.Fatalf("%s, by %s: somebody stands on two pages", r.Words(w.cat), q.Order)
		}
		found += len(one)
	}
	if found < 1000 {
		t.Errorf("%d people in all: the test proves little", found)
	}
}

func TestPagesOfPeopleMeetAndMissNobody(t *testing.T) {
	ctx := context.Background()
	s := storetest.New(t)
	now := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)
	err := s.InTx(ctx, func(tx store.Tx) error {
		for n := range 57 {
			if _, _, err := tx.MeetPerson(ctx,
				store.NewPerson{First: "A", Last: fmt.Sprintf("B%d", n%5), Email: fmt.Sprintf("p%d@x.example", n)},
				now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, order := range store.Orders() {
		seen := map[int64]bool{}
		var after store.Key
		for range 10 {
			page, key, err := s.People(ctx, store.PeopleQuery{Order: order, After: after, Limit: 10, Now: now})
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range page {
				if seen[p.ID] {
					t.Fatalf("%s: person %d is on two pages", order, p.ID)
				}
				seen[p.ID] = true
			}
			if len(page) > 0 {
				after = store.ParseKey(key.String())
			}
		}
		if len(seen) != 57 {
			t.Errorf("%s: %d of 57 people", order, len(seen))
		}
	}
	if _, _, err := s.People(ctx, store.PeopleQuery{Order: "shoe size", Limit: 1}); err == nil {
		t.Error("an unknown order was taken")
	}
}

package engine

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/handoff"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/sales"
	"ombak/internal/engine/setup"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// handoffOf is somebody's newest handoff.
func (w *world) handoffOf(p int64) store.Handoff {
	w.t.Helper()
	list, err := w.s.HandoffsOf(w.ctx, store.Of(p))
	w.must(err)
	if len(list) == 0 {
		w.t.Fatalf("%d was not handed over", p)
	}
	return list[0]
}

// Who is handed over goes to their owner, to who has others at the company, by territory, or in turn by weights; each
// says why, and what is told before is what happens.
func TestRoutingByTerritories(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	meet := func(first, country, company string, owner int64) int64 {
		id := w.meet(store.NewPerson{First: first, Email: strings.ToLower(first) + "@" + company + ".example",
			Country: country, Company: company, Domain: company + ".example"})
		_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = nullif($2::bigint, 0) where id = $1", id, owner)
		w.must(err)
		return id
	}
	meet("Old", "CA", "kelp", w.rep2)
	at := func(c string) rule.Rule { return rule.FieldIs(person.Country, c) }
	_, _, err := w.e.KeepTerritory(w.ctx, store.Territory{Name: "Nordics", User: w.rep2, Rule: store.JSON[rule.Rule]{V: at("NO")}}, nil, w.marketer)
	w.must(err)
	chile, _, err := w.e.KeepTerritory(w.ctx, store.Territory{Name: "Chile", User: w.rep1, Rule: store.JSON[rule.Rule]{V: at("CL")}}, nil, w.marketer)
	w.must(err)
	_, err = w.e.SetWeights(w.ctx, []int64{w.rep1, w.rep2}, []int{2, 1}, nil, w.marketer)
	w.must(err)
	for _, c := range []struct {
		who  int64
		rep  int64
		how  string
		last string
	}{
		{meet("Ana", "NO", "fjord", w.rep1), w.rep1, "owner", "Tomas Vale is their owner"},
		{meet("Bo", "NO", "kelp", 0), w.rep2, "owner of others at the company", "Uma Okoye has others at their company"},
		{meet("Cy", "NO", "reef", 0), w.rep2, "territory “Nordics”", "Uma Okoye has the territory “Nordics”"},
		{meet("Di", "CL", "sand", 0), w.rep1, "territory “Chile”", "Tomas Vale has the territory “Chile”"},
	} {
		d, name, err := w.e.WhoWouldGet(w.ctx, c.who)
		w.must(err)
		w.must(w.e.HandOver(w.ctx, c.who))
		h := w.handoffOf(c.who)
		if *h.Rep != c.rep || h.How != c.how || h.Why.V[len(h.Why.V)-1] != c.last || d.Rep != c.rep || name != h.RepName ||
			!slices.Equal(d.Why, h.Why.V) {
			t.Errorf("%s: to %s, %s, because %q; told before %+v", c.last, h.RepName, h.How, h.Why.V, d)
		}
	}
	// In turn, two to one.
	had := map[int64]int{}
	for _, name := range []string{"Ed", "Flo", "Gil", "Hal", "Ida", "Jon"} {
		p := meet(name, "CA", strings.ToLower(name), 0)
		w.must(w.e.HandOver(w.ctx, p))
		had[*w.handoffOf(p).Rep]++
	}
	if had[w.rep1] != 4 || had[w.rep2] != 2 {
		t.Errorf("in turn they had %v", had)
	}
	// A territory that is gone decides nothing; one that cannot be is refused.
	w.must(w.e.RemoveTerritory(w.ctx, chile, false, w.marketer))
	if d, _, err := w.e.WhoWouldGet(w.ctx, meet("Kim", "CL", "kim", 0)); err != nil || d.How != handoff.InTurn {
		t.Errorf("without the territory: %+v, %v", d, err)
	}
	w.must(w.e.RemoveTerritory(w.ctx, chile, true, w.marketer))
	w.must(w.e.MoveTerritory(w.ctx, chile, -1, w.marketer))
	list, err := w.s.Territories(w.ctx)
	w.must(err)
	if len(list) != 2 || list[0].Name != "Chile" {
		t.Errorf("in order: %+v", list)
	}
	clicks := rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.AtLeast, N: 1}}
	for name, bad := range map[string]store.Territory{"no name": {User: w.rep1, Rule: store.JSON[rule.Rule]{V: at("NO")}},
		"nobody's": {Name: "x", Rule: store.JSON[rule.Rule]{V: at("NO")}}, "all": {Name: "x", User: w.rep1},
		"a marketer's": {Name: "x", User: w.marketer, Rule: store.JSON[rule.Rule]{V: at("NO")}},
		"by signal":    {Name: "x", User: w.rep1, Rule: store.JSON[rule.Rule]{V: clicks}}} {
		if _, _, err := w.e.KeepTerritory(w.ctx, bad, nil, w.marketer); err == nil {
			t.Errorf("%s was kept", name)
		}
	}
	for _, bad := range []int{21, -1} {
		if _, err := w.e.SetWeights(w.ctx, []int64{w.rep1}, []int{bad}, nil, w.marketer); err == nil {
			t.Errorf("%d turns were kept", bad)
		}
	}
}

// Who does not answer is reminded, the lead is told, and then another has it, each once, however late a worker comes;
// their clock runs anew. Where there is nobody else it stays.
func TestTheResponseClock(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	lead, err := w.s.AddUser(w.ctx, store.User{Name: "Lea Lead", Email: "lea@karang.example", Role: "lead",
		PasswordHash: "x"}, day0)
	w.must(err)
	ws := w.e.Workspace()
	ws.Zone, ws.RespondIn, ws.TellLead, ws.OfferNext = "UTC", 2, 1, 2
	w.must(w.e.SetWorkspace(w.ctx, ws))
	w.must(w.e.HandOver(w.ctx, ana))
	w.settle()
	alerts := func(user int64) int {
		return w.count("select count(*) from task where alert and done_at is null and person_id = $1 and user_id = $2", ana, user)
	}
	is := func(when string, rep int64, mine, leads int) {
		t.Helper()
		if h := w.handoffOf(ana); *h.Rep != rep || alerts(w.rep1) != mine || alerts(lead) != leads {
			t.Errorf("%s: with %s; %d and %d are told", when, h.RepName, alerts(w.rep1), alerts(lead))
		}
	}
	is("at once", w.rep1, 0, 0)
	from := w.clock.Now().Sub(day0) // 09:20 of a working day
	w.to(from + 119*time.Minute)
	is("before its end", w.rep1, 0, 0)
	w.to(from + 2*time.Hour)
	is("at its end", w.rep1, 1, 0)
	w.to(from + 3*time.Hour)
	is("an hour later", w.rep1, 1, 1)
	w.to(from + 4*time.Hour)
	is("two hours later", w.rep2, 0, 0) // they are another's now
	h := w.handoffOf(ana)
	if h.Why.V[0] != "Tomas Vale did not answer in time" {
		t.Errorf("why: %q", h.Why.V)
	}
	// A worker that comes a week late does all that has come, once; there is nobody else to offer it to.
	w.clock.set(day0.Add(from + 8*24*time.Hour))
	w.settle()
	w.settle()
	if h := w.handoffOf(ana); *h.Rep != w.rep2 || h.State != "open" ||
		w.count("select count(*) from handoff where clock_due is not null") != 0 {
		t.Errorf("at last it is with %s, %s", h.RepName, h.State)
	}
	if n := w.count("select count(*) from task where alert and person_id = $1", ana); n > 4 {
		t.Errorf("they were told %d times", n)
	}
	w.must(w.e.SendBack(w.ctx, h.ID, w.rep2, sales.Back{Reason: "late"}))
	if n := w.count("select count(*) from task where alert and done_at is null and person_id = $1", ana); n != 0 {
		t.Errorf("answered, %d are still told", n)
	}
	w.must(w.e.TakeBack(w.ctx, h.ID, w.rep2))
	// A clock that is changed is looked at again; one that cannot be is refused.
	ws.OfferNext = 0
	w.must(w.e.SetWorkspace(w.ctx, ws))
	if w.count("select count(*) from handoff where clock_due is not null") != 1 {
		t.Error("a changed clock is not wound")
	}
	ws.TellLead = 81
	if w.e.SetWorkspace(w.ctx, ws) == nil {
		t.Error("the lead is told after 81 hours")
	}
}

// Who is sent back is left in peace; then nurture goes on where the reason says, and they can cross the line again,
// though nothing but time has passed. All of it can be taken back.
func TestSentBackAndNurture(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.twoEmails()
	q := w.running("Nurture", p)
	second := sequence.StepID(0)
	for _, s := range p.Steps {
		if e, ok := s.(*sequence.Email); ok && e.Message == w.second {
			second = s.About().ID
		}
	}
	ana := w.caller("Ana", "NO", w.rep1)
	w.viewed(ana, ana) // 20 of 15, for 30 days
	w.settle()
	h := w.handoffOf(ana)
	back := sales.Back{Reason: "no budget", CoolOff: 10, GoesOn: store.OnWith, Sequence: q, Step: int32(second)}
	w.must(w.e.SendBack(w.ctx, h.ID, w.rep1, back))
	if n := w.count("select count(*) from comeback where done_at is null"); n != 1 {
		t.Fatalf("%d come back", n)
	}
	w.must(w.e.TakeBack(w.ctx, h.ID, w.rep1))
	if w.count("select count(*) from comeback") != 0 || w.count("select count(*) from handoff where cool_until is null") != 1 {
		t.Error("taken back, something of it is left")
	}
	w.must(w.e.SendBack(w.ctx, h.ID, w.rep1, back))
	w.viewed(ana) // 30: nothing comes of it while they are left in peace
	w.to(9 * dayLong)
	if n := w.count("select count(*) from handoff"); n != 1 {
		t.Errorf("in the cool-off they were handed over %d times", n)
	}
	if len(w.letters("ana@desk.example")) != 0 {
		t.Error("nurture goes on in the cool-off")
	}
	w.to(10*dayLong + time.Hour)
	if n := w.count("select count(*) from handoff"); n != 2 {
		t.Errorf("after the cool-off they were handed over %d times in all", n)
	}
	if n := w.count("select count(*) from enrolment where sequence_id = $1", q); n != 1 {
		t.Errorf("they came back %d times", n)
	}
	w.to(11 * dayLong)
	if l := w.letters("ana@desk.example"); len(l) != 1 || w.count(`select count(*) from touch where person_id = $1
		and step = $2`, ana, second) != 1 {
		t.Errorf("at the named step they got %d letters", len(l))
	}
	if err := w.e.TakeBack(w.ctx, h.ID, w.rep1); !errors.Is(err, sales.ErrMovedOn) {
		t.Errorf("taken back after they came back: %v", err)
	}
	// Where they came from, and reasons that cannot be.
	ben := w.caller("Ben", "NO", w.rep1)
	w.enters(q, ben)
	w.settle()
	w.must(w.e.HandOver(w.ctx, ben))
	h = w.handoffOf(ben)
	for name, bad := range map[string]sales.Back{"no reason": {CoolOff: 3}, "long": {Reason: "x", CoolOff: 400},
		"no sequence": {Reason: "x", GoesOn: store.OnWith}, "of none": {Reason: "x", GoesOn: store.OnWith, Sequence: 999}} {
		if err := w.e.SendBack(w.ctx, h.ID, w.rep1, bad); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	w.must(w.e.SendBack(w.ctx, h.ID, w.rep1, sales.Back{Reason: "later", GoesOn: store.WhereFrom}))
	if n := w.count("select count(*) from comeback where person_id = $1 and sequence_id = $2", ben, q); n != 1 {
		t.Errorf("where they came from: %d", n)
	}
}

// A rep asks for somebody who is nobody's, and has them; of another's that one is told.
func TestAskingForSomebody(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@x.example"})
	bo := w.caller("Bo", "NO", w.rep2)
	w.must(w.e.AskForThem(w.ctx, ana, w.rep1))
	if h := w.handoffOf(ana); *h.Rep != w.rep1 || h.How != "asked for them" {
		t.Errorf("asked for, they are with %s", h.RepName)
	}
	if err := w.e.AskForThem(w.ctx, ana, w.rep1); !errors.Is(err, sales.ErrHanded) {
		t.Errorf("twice: %v", err)
	}
	if err := w.e.AskForThem(w.ctx, bo, w.rep1); !errors.Is(err, sales.ErrTheirs) ||
		w.count("select count(*) from handoff where person_id = $1", bo) != 0 ||
		w.count("select count(*) from task where alert and user_id = $1", w.rep2) != 1 {
		t.Errorf("another's: %v", err)
	}
}

// What became of handoffs is counted by rep, source and sequence, in working time, and opens into its people.
func TestHandoffFigures(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ws := w.e.Workspace()
	ws.Zone = "UTC"
	w.must(w.e.SetWorkspace(w.ctx, ws))
	var people []int64
	for i, name := range []string{"Ana", "Ben", "Cyn", "Dan"} {
		p := w.caller(name, "NO", []int64{w.rep1, w.rep1, w.rep2, w.rep1}[i])
		people = append(people, p)
		w.must(w.e.HandOver(w.ctx, p))
	}
	began := w.clock.Now()
	w.clock.set(began.Add(time.Hour))
	_, err := w.e.Accept(w.ctx, w.handoffOf(people[0]).ID, w.rep1)
	w.must(err)
	w.clock.set(began.Add(25 * time.Hour)) // the night is no working time: 8.5 working hours a day, and one more
	w.must(w.e.SendBack(w.ctx, w.handoffOf(people[1]).ID, w.rep1, sales.Back{Reason: "later"}))
	f, err := w.e.HandoffFigures(w.ctx, sales.ByRep, 90)
	w.must(err)
	if len(f.Groups) != 2 || f.All.Waiting != 2 || len(f.List) != 4 {
		t.Fatalf("%+v", f)
	}
	tomas := f.Groups[0]
	if tomas.Of != "Tomas Vale" || tomas.Accepted != 1 || tomas.SentBack != 1 || tomas.Waiting != 1 ||
		tomas.Median != time.Hour || tomas.Ninety != 9*time.Hour+30*time.Minute || tomas.Longest != 9*time.Hour+30*time.Minute ||
		tomas.Reasons[0] != (handoff.Reasoned{Reason: "later", N: 1}) {
		t.Errorf("%+v", tomas)
	}
	lines, err := w.e.HandoffLines(w.ctx, f.List)
	w.must(err)
	if len(lines) != 4 || lines[0].First != "Dan" || lines[3].First != "Ana" || lines[3].Took != time.Hour ||
		lines[2].Told.Reason != "later" || lines[2].RepName != "Tomas Vale" {
		t.Errorf("they open into %+v", lines)
	}
	if _, err := w.e.HandoffFigures(w.ctx, "moon", 90); err == nil {
		t.Error("by the moon")
	}
}

// Whatever is changed of handing over stands among the changes of the settings and is taken back as a whole; whoever
// changes what somebody else has changed since they looked is told.
func TestChangesOfHandingOver(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	norway := store.JSON[rule.Rule]{V: rule.FieldIs(person.Country, "NO")}
	id, first, err := w.e.KeepTerritory(w.ctx, store.Territory{Name: "Nordics", User: w.rep1, Rule: norway}, nil, w.marketer)
	w.must(err)
	second, _, err := w.e.KeepTerritory(w.ctx, store.Territory{Name: "Far", User: w.rep2, Rule: norway}, nil, w.marketer)
	w.must(err)
	was, err := w.s.Territory(w.ctx, id)
	w.must(err)
	seen := func(is store.Territory) bool { return reflect.DeepEqual(is, was) }
	change := func(name string) error {
		_, _, err := w.e.KeepTerritory(w.ctx, store.Territory{ID: id, Name: name, User: w.rep2, Rule: norway}, seen, w.rep1)
		return err
	}
	w.must(change("North"))
	if err := change("South"); !errors.Is(err, setup.ErrTurnedSince) {
		t.Errorf("from what it was before: %v", err)
	}
	if _, err := w.e.KeepBackReason(w.ctx, store.BackReason{Name: "too early", GoesOn: store.Nowhere}, nil, w.marketer); err != nil {
		t.Fatal(err)
	}
	reasons, err := w.s.BackReasons(w.ctx)
	w.must(err)
	reason := reasons[len(reasons)-1]
	reason.CoolOff = 9
	last, err := w.e.KeepBackReason(w.ctx, reason, func(is store.BackReason) bool { return is.CoolOff == 0 }, w.marketer)
	w.must(err)
	if _, err := w.e.KeepBackReason(w.ctx, reason, func(is store.BackReason) bool { return is.CoolOff == 0 },
		w.marketer); !errors.Is(err, setup.ErrTurnedSince) {
		t.Errorf("a reason, from what it was before: %v", err)
	}
	w.must(w.e.UndoSetting(w.ctx, last, w.marketer))
	turns, err := w.e.SetWeights(w.ctx, []int64{w.rep1}, []int{3}, nil, w.marketer)
	w.must(err)
	if _, err := w.e.SetWeights(w.ctx, []int64{w.rep1}, []int{4}, func(is map[int64]int) bool { return is[w.rep1] == 1 },
		w.marketer); !errors.Is(err, setup.ErrTurnedSince) {
		t.Errorf("turns, from what they were before: %v", err)
	}
	if err := w.e.UndoSetting(w.ctx, first, w.marketer); !errors.Is(err, setup.ErrChangedSince) {
		t.Errorf("what was changed since is taken back: %v", err)
	}
	w.must(w.e.UndoSetting(w.ctx, turns, w.marketer))
	w.must(w.e.RemoveTerritory(w.ctx, id, false, w.marketer))
	w.must(w.e.RemoveBackReason(w.ctx, reason.ID, false, w.marketer))
	state := func() string {
		places, err := w.s.Territories(w.ctx)
		w.must(err)
		reasons, err := w.s.BackReasons(w.ctx)
		w.must(err)
		out := ""
		for _, p := range places {
			out += p.Name + " "
		}
		for _, r := range reasons {
			out += fmt.Sprintf("%s %d ", r.Name, r.CoolOff)
		}
		return out + fmt.Sprint(w.count("select weight from app_user where id = $1", w.rep1))
	}
	if got := state(); got != "Far 1" {
		t.Errorf("it stands at %q", got)
	}
	list, err := w.s.SettingChanges(w.ctx, 2)
	w.must(err)
	for i, want := range []string{"Far too early 0 1", "North Far too early 0 1"} {
		w.must(w.e.UndoSetting(w.ctx, list[i].ID, w.marketer))
		if got := state(); got != want {
			t.Errorf("taken back, it stands at %q, want %q", got, want)
		}
	}
	w.must(w.e.MoveTerritory(w.ctx, second, -1, w.marketer))
	if got := state(); got != "Far North too early 0 1" {
		t.Errorf("in another order it stands at %q", got)
	}
	if list, err = w.s.SettingChanges(w.ctx, 1); err != nil || list[0].Words != "the order of the territories" {
		t.Errorf("the change is %+v, %v", list[0], err)
	}
	w.must(w.e.UndoSetting(w.ctx, list[0].ID, w.marketer))
	if got := state(); got != "North Far too early 0 1" {
		t.Errorf("in its order again it stands at %q", got)
	}
}

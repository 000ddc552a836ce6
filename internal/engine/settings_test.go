package engine

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/setup"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

func day(t time.Time) calendar.Date { return calendar.DateOf(t, time.UTC) }

// On a holiday of the reader's country nothing goes out, and it is no working day; a holiday
// that is made while somebody waits counts too, and one of another country does not.
func TestHolidaysOfTheReader(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	for _, s := range []sequence.Step{&sequence.Email{Message: w.second, Timing: sequence.Timing{
		Wait: calendar.Span{N: 1, Unit: calendar.WorkingDays}}}, &sequence.Email{Message: w.first}} {
		_, err := p.Insert(s, 0, "")
		w.must(err)
	}
	q := w.running("Two emails", p)
	tomorrow := day(day0.AddDate(0, 0, 1))
	_, err := w.e.AddHolidays(w.ctx, "NO", []calendar.Holiday{{Date: day(day0), Name: "Sea day"}}, w.marketer)
	w.must(err)
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example", Country: "NO"})
	ben := w.meet(store.NewPerson{First: "Ben", Email: "ben@n.example", Country: "DE"})
	w.enters(q, ana, ben)
	w.settle()
	if a, b := len(w.letters("ana@")), len(w.letters("ben@")); a != 0 || b != 1 {
		t.Errorf("on a holiday in Norway: %d letters there, %d to Germany", a, b)
	}
	_, err = w.e.AddHolidays(w.ctx, "DE", []calendar.Holiday{{Date: tomorrow}}, w.marketer)
	w.must(err)
	w.clock.set(day0.AddDate(0, 0, 1))
	w.settle()
	if a, b := len(w.letters("ana@")), len(w.letters("ben@")); a != 1 || b != 1 {
		t.Errorf("a day later, a holiday in Germany: %d letters to Norway, %d there", a, b)
	}
	w.clock.set(day0.AddDate(0, 0, 2))
	w.settle()
	if a, b := len(w.letters("ana@")), len(w.letters("ben@")); a != 2 || b != 2 {
		t.Errorf("two days later: %d and %d letters", a, b)
	}
	// Who lives nobody knows where has the workspace's.
	if w.e.Holidays("") != nil {
		t.Error("a workspace without a country has holidays")
	}
	space := w.e.Workspace()
	space.Country = "NO"
	_, err = w.e.ChangeWorkspace(w.ctx, space, w.marketer)
	w.must(err)
	if !w.e.Holidays("")[day(day0)] || w.e.Working().On(day(day0)) {
		t.Error("the workspace's country has no holidays")
	}
	if _, err := w.e.AddHolidays(w.ctx, "Norway", nil, w.marketer); err == nil {
		t.Error("a country that is none has holidays")
	}
}

// What is changed in the settings can be taken back, unless it was changed again since; the
// list says who did what.
func TestSettingsTakenBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	admin, err := w.e.AddUser(w.ctx,
		store.User{Name: "Ada", Email: "ada@karang.example", Role: "admin", PasswordHash: "x", Capacity: 5})
	w.must(err)
	days := func() (out []calendar.Date) {
		list, err := w.s.HolidaysOf(w.ctx, "NO")
		w.must(err)
		for _, h := range list {
			out = append(out, h.Date)
		}
		return out
	}
	one, two := day(day0), day(day0.AddDate(0, 1, 0))
	first, err := w.e.AddHolidays(w.ctx, "NO", []calendar.Holiday{{Date: two}, {Date: one, Name: "Sea day"}}, admin)
	w.must(err)
	second, err := w.e.RemoveHoliday(w.ctx, "NO", one, admin)
	w.must(err)
	if got := days(); !slices.Equal(got, []calendar.Date{two}) {
		t.Errorf("there are %v", got)
	}
	if err := w.e.UndoSetting(w.ctx, first, admin); !errors.Is(err, setup.ErrChangedSince) {
		t.Errorf("what was changed since is taken back: %v", err)
	}
	w.must(w.e.UndoSetting(w.ctx, second, admin))
	if got := days(); !slices.Equal(got, []calendar.Date{one, two}) {
		t.Errorf("taken back, there are %v", got)
	}
	w.must(w.e.RefreshWorkspace(w.ctx))
	if !w.e.Holidays("NO")[one] {
		t.Error("this process does not know of it")
	}
	w.must(w.e.UndoSetting(w.ctx, first, admin))
	if got := days(); len(got) != 0 {
		t.Errorf("all taken back, there are %v", got)
	}
	if err := w.e.UndoSetting(w.ctx, first, admin); err == nil {
		t.Error("it is taken back twice")
	}

	rep, err := w.s.User(w.ctx, w.rep1)
	w.must(err)
	changed := rep
	changed.Name, changed.Capacity, changed.Away = "Rita", 3, true
	c, err := w.e.SetUser(w.ctx, changed, admin)
	w.must(err)
	w.must(w.e.UndoSetting(w.ctx, c, admin))
	if is, err := w.s.User(w.ctx, w.rep1); err != nil || !reflect.DeepEqual(is, rep) {
		t.Errorf("the rep is %+v, and was %+v, %v", is, rep, err)
	}
	if c, err := w.e.SetUser(w.ctx, rep, admin); err != nil || c != 0 {
		t.Errorf("nothing was different: %d, %v", c, err)
	}

	space := w.e.Workspace()
	wider := space
	wider.AnswerIn, wider.Country = 8, "SE"
	c, err = w.e.ChangeWorkspace(w.ctx, wider, admin)
	w.must(err)
	w.must(w.e.UndoSetting(w.ctx, c, admin))
	if is := w.e.Workspace(); is.AnswerIn != space.AnswerIn || is.Country != "" {
		t.Errorf("the workspace is %+v", is)
	}
	for _, bad := range []base.Workspace{{Currency: "EUR", From: 60, To: 120, Country: "Norway"},
		{Currency: "EUR", From: 60, To: 120, AnswerIn: 99}, {Currency: "EUR", From: 60, To: 120,
			Calling: &calendar.SendingHours{}}} {
		if _, err := w.e.ChangeWorkspace(w.ctx, bad, admin); err == nil {
			t.Errorf("%+v holds here", bad)
		}
	}
	list, err := w.s.SettingChanges(w.ctx, 10)
	w.must(err)
	if len(list) != 4 || list[3].User != "Ada" || list[3].Words != "holidays of NO: 2, before 0" || !list[0].Undone {
		t.Errorf("the list says %+v", list)
	}
}

// What is for a team is for any of it to take, and for nobody else; an alert tells each of it.
func TestTeams(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	other, err := w.e.AddUser(w.ctx, store.User{Name: "Olga", Email: "olga@karang.example", Role: "rep", PasswordHash: "x"})
	w.must(err)
	_, err = w.e.KeepTeam(w.ctx, store.Team{Name: "North", Members: []int64{w.rep1}}, w.marketer)
	w.must(err)
	teams, err := w.s.Teams(w.ctx)
	w.must(err)
	team := teams[0]
	if team.Name != "North" || !slices.Equal(team.Members, []int64{w.rep1}) {
		t.Fatalf("the team is %+v", team)
	}
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	_, err = p.Insert(&sequence.Call{Team: team.ID}, 0, "")
	w.must(err)
	q := w.running("A call", p)
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example", Phone: "+4755500101"})
	_, err = w.s.DB().ExecContext(w.ctx, "update person set owner_id = $2 where id = $1", ana, other)
	w.must(err)
	w.enters(q, ana)
	w.settle()
	w.tx(func(tx store.Tx) error {
		return w.e.Do(w.ctx, tx, []flow.Deed{
			{Act: act.Task{Words: "send the loan form", Team: team.ID},
				Occasion: flow.Occasion{Person: ana, At: day0, How: "a test"}},
			{Act: act.Alert{Words: "reads the guide", Team: team.ID},
				Occasion: flow.Occasion{Person: ana, At: day0, How: "a test"}}})
	})
	desk := func(rep int64) (calls, tasks, alerts int) {
		list, err := w.s.DeskWork(w.ctx, rep)
		w.must(err)
		open, err := w.s.OpenTasks(w.ctx, rep, false, w.clock.Now())
		w.must(err)
		told, err := w.s.OpenTasks(w.ctx, rep, true, w.clock.Now())
		w.must(err)
		return len(list), len(open), len(told)
	}
	if c, n, a := desk(w.rep1); c != 1 || n != 1 || a != 1 {
		t.Errorf("who is in the team has %d calls, %d tasks, %d alerts", c, n, a)
	}
	if c, n, a := desk(other); c != 0 || n != 0 || a != 0 {
		t.Errorf("who is not has %d calls, %d tasks, %d alerts", c, n, a)
	}
	list, err := w.s.DeskWork(w.ctx, w.rep1)
	w.must(err)
	if list[0].Team != "North" {
		t.Errorf("the call does not say whose it is: %q", list[0].Team)
	}
	if err := w.e.FinishWork(w.ctx, list[0].ID, other, "talked", ""); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another takes it: %v", err)
	}
	if _, err := w.e.SetUser(w.ctx, store.User{ID: other, Name: "Olga", Role: right.Lead}, w.marketer); err != nil {
		t.Fatal(err)
	}
	w.must(w.e.FinishWork(w.ctx, list[0].ID, other, "talked", "a lead may"))
	// An alert to a team that nobody is in is not lost.
	empty, err := w.e.KeepTeam(w.ctx, store.Team{Name: "South"}, w.marketer)
	w.must(err)
	if empty == 0 {
		t.Error("an empty team is no change")
	}
	teams, err = w.s.Teams(w.ctx)
	w.must(err)
	w.tx(func(tx store.Tx) error {
		return w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.Alert{Words: "to nobody?", Team: teams[1].ID},
			Occasion: flow.Occasion{Person: ana, At: day0, How: "a test"}}})
	})
	if n := w.count("select count(*) from task where alert and words = 'to nobody?' and user_id = $1", other); n != 1 {
		t.Error("an alert to an empty team is lost")
	}
	_, err = w.e.RemoveTeam(w.ctx, teams[1].ID, w.marketer)
	w.must(err)
	// A team that is gone leaves its work to anybody; back again, its members are in it.
	c, err := w.e.RemoveTeam(w.ctx, team.ID, w.marketer)
	w.must(err)
	if _, n, _ := desk(w.rep2); n != 1 {
		t.Error("what waited for the team is nobody's to take")
	}
	w.must(w.e.UndoSetting(w.ctx, c, w.marketer))
	if teams, err := w.s.Teams(w.ctx); err != nil || len(teams) != 1 || len(teams[0].Members) != 1 {
		t.Errorf("taken back, there are %+v, %v", teams, err)
	}
	if _, err := w.e.KeepTeam(w.ctx, store.Team{Name: "north"}, w.marketer); !errors.Is(err, store.ErrTaken) {
		t.Errorf("two teams have one name: %v", err)
	}
}

// What was done to the stages and the grounds is listed, and taken back as far as no deal is in a stage
// that would go.
func TestStagesAndGroundsTakenBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	stages := func() (out []string) {
		t.Helper()
		list, err := w.s.Stages(w.ctx)
		w.must(err)
		for _, st := range list {
			out = append(out, fmt.Sprint(st.Name, " ", st.Share))
		}
		return out
	}
	was := strings.Join(stages(), ", ")
	list, err := w.s.Stages(w.ctx)
	w.must(err)
	list[0].Name = "First talk"
	renamed, _, err := w.e.SetStage(w.ctx, list[0], w.marketer)
	w.must(err)
	added, id, err := w.e.SetStage(w.ctx, pipeline.Stage{Name: "Offer", Share: 75}, w.marketer)
	w.must(err)
	moved, err := w.e.MoveStage(w.ctx, id, -1, w.marketer)
	w.must(err)
	gone, err := w.e.RemoveStage(w.ctx, id, w.marketer)
	w.must(err)
	if err := w.e.UndoSetting(w.ctx, added, w.marketer); err == nil {
		t.Error("it is taken back though it was changed since")
	}
	for _, change := range []int64{gone, moved, added, renamed} {
		w.must(w.e.UndoSetting(w.ctx, change, w.marketer))
	}
	if got := strings.Join(stages(), ", "); got != was {
		t.Errorf("taken back they are %s, and were %s", got, was)
	}
	added, _, err = w.e.SetStage(w.ctx, pipeline.Stage{Name: "Won", Share: 100, Won: true}, w.marketer)
	w.must(err)
	_, err = w.s.DB().ExecContext(w.ctx, "update stage set position = 0 where name = 'Won'")
	w.must(err)
	ana := w.caller("Ana", "NO", w.rep1)
	w.must(w.e.HandOver(w.ctx, ana))
	deal, err := w.e.Accept(w.ctx, int64(w.count("select max(id) from handoff")), w.rep1)
	w.must(err)
	won := int64(w.count("select id from stage where name = 'Won'"))
	w.must(w.e.MoveDeal(w.ctx, deal, won, 0, w.rep1))
	if err := w.e.UndoSetting(w.ctx, added, w.marketer); !errors.Is(err, setup.ErrStageUsed) {
		t.Errorf("a stage with a deal goes: %v", err)
	}
	grounds, err := w.s.Grounds(w.ctx)
	w.must(err)
	one, err := w.e.AddGround(w.ctx, "met at the fair", w.marketer)
	w.must(err)
	two, err := w.e.RemoveGround(w.ctx, grounds[0], w.marketer)
	w.must(err)
	w.must(w.e.UndoSetting(w.ctx, two, w.marketer))
	w.must(w.e.UndoSetting(w.ctx, one, w.marketer))
	after, err := w.s.Grounds(w.ctx)
	w.must(err)
	slices.Sort(grounds)
	if slices.Sort(after); !slices.Equal(after, grounds) {
		t.Errorf("the grounds are %q, and were %q", after, grounds)
	}
}

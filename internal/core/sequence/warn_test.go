package sequence

import (
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/signal"
)

// What may be meant otherwise is said with its step, and keeps nothing from being launched;
// the starters are warned of nothing.
func TestWarnings(t *testing.T) {
	events := map[int64]event.Event{5: {Starts: day(6), Ends: day(6.5), Zone: "UTC", Name: "Clinic"},
		6: {Starts: day(-6), Ends: day(-5), Zone: "UTC"}, 7: {Starts: day(6), Ends: day(7), Zone: "UTC", Cancelled: day(-1)},
		8: {Starts: time.Date(2026, 5, 18, 7, 0, 0, 0, time.UTC), Ends: day(40), Zone: "UTC"}}
	from := func(event int64) Timing { return Timing{From: &FromEvent{Event: event}} }
	at := func(d, clock int) Timing { // a Saturday is the 16th of May
		return Timing{Date: calendar.Date{Year: 2026, Month: 5, Day: d}, Clock: clock}
	}
	on := func(d int) Timing { return Timing{Date: calendar.Date{Year: 2026, Month: 5, Day: d}, Clock: 9 * 60} }
	for _, c := range []struct {
		name  string
		steps []Step
		stay  int
		want  []string
	}{
		{"nothing", []Step{&Email{Message: 1}, &Watch{Signal: signal.Click, N: 1, For: days(5)}}, 42, nil},
		{"a date that is over", []Step{&Email{Message: 1, Timing: Timing{Date: calendar.Date{Year: 2026, Month: 4, Day: 14},
			Clock: 9 * 60}}}, 42, []string{"its date is over: it is passed over"}},
		{"a date before another", []Step{&Email{Message: 1, Timing: on(14)}, &Email{Message: 2, Timing: on(13)}}, 42,
			[]string{"its date is before that of “one”"}},
		{"a reminder of an event to come", []Step{&Email{Message: 1, Timing: from(5)}}, 42, nil},
		{"of one that is over", []Step{&Email{Message: 1, Timing: from(6)}}, 42, []string{"its date is over"}},
		{"of one that is cancelled", []Step{&Email{Message: 1, Timing: from(7)}}, 42, []string{"is cancelled"}},
		{"after what comes later", []Step{&Email{Message: 1, Timing: on(14)}, &Email{Message: 2, Timing: from(5)}}, 42,
			[]string{"its date is before that of “one”"}},
		{"until one that is over", []Step{&Pause{Until: &FromEvent{Event: 6}}, &Email{Message: 1}}, 42,
			[]string{"waits until the event begins, and that is over"}},
		{"a reminder whose hours open too late", []Step{&Email{Message: 1, Timing: Timing{From: &FromEvent{Event: 8,
			Offset: event.Offset{Span: calendar.Span{N: 1, Unit: calendar.Hours}}}}}}, 42,
			[]string{"its sending hours open only when the event has begun"}},
		{"no hour between two dates", []Step{&Email{Message: 1, Timing: at(16, 9*60)}, &Email{Message: 2,
			Timing: at(18, 8*60)}}, 42, []string{"no sending hour is between the date of “one” and its own"}},
		{"an hour between two dates", []Step{&Email{Message: 1, Timing: at(15, 9*60)}, &Email{Message: 2,
			Timing: at(18, 8*60)}}, 42, nil},
		{"an answer to nothing", []Step{&Watch{Signal: signal.Open, N: 3, For: days(5)}, &Email{Message: 1}}, 42,
			[]string{"waits for opens, and no email comes before it"}},
		{"an acceptance of nothing", []Step{&Watch{Signal: signal.Accepted, For: days(5)}, &Email{Message: 1}}, 42,
			[]string{"no social touch comes before it"}},
		{"a stay shorter than the way", []Step{&Email{Message: 1}, &Pause{For: days(9)}}, 5,
			[]string{"takes up to 9 days, and nobody stays longer than 5 days"}},
	} {
		p := newPlan()
		p.LongestStay = days(c.stay)
		from, exit := StepID(0), Exit("")
		for i, s := range c.steps {
			s.About().Title = []string{"one", "two"}[i]
			id, err := p.Insert(s, from, exit)
			if err != nil {
				t.Fatal(err)
			}
			from, exit = id, s.Exits()[0]
		}
		got := p.Warn(day0, time.UTC, events)
		if len(got) != len(c.want) {
			t.Errorf("%s: %+v", c.name, got)
			continue
		}
		for i := range got {
			if !strings.Contains(got[i].Text, c.want[i]) {
				t.Errorf("%s: %q, want %q", c.name, got[i].Text, c.want[i])
			}
		}
	}
	// Ways that meet at once, and a plan that leads back, of which the checks speak.
	p := newPlan()
	id, err := p.Insert(New("check"), 0, "")
	if err != nil {
		t.Fatal(err)
	}
	p.Step(id).About().To[No] = p.Step(id).About().To[Yes]
	if got := p.Warn(day0, time.UTC, nil); len(got) != 1 || got[0].Step != id || !strings.Contains(got[0].Text, "the same step") {
		t.Errorf("ways that meet: %+v", got)
	}
	p.Step(id).About().To[No] = id
	if got := p.Warn(day0, time.UTC, nil); got != nil {
		t.Errorf("a circle: %+v", got)
	}
	for _, s := range Starters() {
		if got := s.Plan().Warn(day0, time.UTC, nil); len(got) > 0 {
			t.Errorf("%s is warned of: %+v", s.Key, got)
		}
	}
}

// What a plan and its entry refer to by number is visited, each, and may be another number
// then; what is nothing is left out.
func TestReferences(t *testing.T) {
	data := `{"start":1,"last_id":9,"hours":{"days":[null,null,null,null,null,null,null]},"ground":{"purpose":1},
		"leave_if":{"all":[{"if":{"about":"tag","id":2}},{"if":{"signal":{"kind":5,"sequence":3,"message":4,"page":5}}}]},
		"steps":[{"kind":"email","id":1,"message":6,"purpose":20,"sender":21,"to":{"next":2},"make":{"who":7}},
		{"kind":"check","id":2,"rule":{"if":{"about":"audience","id":8}},"to":{"yes":3,"no":3}},
		{"kind":"sort","id":3,"ways":[{"key":1,"rule":{"if":{"about":"stage","id":9}}}],"to":{"way 1":4,"otherwise":4}},
		{"kind":"change record","id":4,"acts":[{"do":"audience","what":"10"},{"do":"give","to":11},{"do":"tag","what":"x"}],
			"to":{"next":5}},
		{"kind":"alert","id":5,"acts":[{"do":"alert","what":"x","to":12}],"to":{"next":6}},
		{"kind":"task","id":6,"for":13,"team":22,"to":{"done":7,"not done":7,"missed":7}},
		{"kind":"watch","id":7,"page":14,"signal":1,"to":{"happened":9,"not in time":9}},
		{"kind":"call","id":9,"for":23,"team":24,"to":{"done":8,"not reached":8,"missed":8,"not interested":8}},
		{"kind":"go on","id":8,"sequence":15}]}`
	var p Plan
	if err := p.UnmarshalJSON([]byte(data)); err != nil {
		t.Fatal(err)
	}
	e := Entry{Page: 16, On: &signal.Pattern{Kind: signal.Form, Place: signal.Place{Page: 17}}, NotIn: []int64{18, 99},
		NotOn: []int64{19}}
	seen := map[int64]PartKind{}
	up := func(what PartKind, id int64) int64 {
		seen[id] = what
		if id == 99 {
			return 0
		}
		return id + 100
	}
	p.Refer(up)
	e.Refer(up)
	want := map[int64]PartKind{1: PurposePart, 2: TagPart, 3: SequencePart, 4: MessagePart, 5: PagePart, 6: MessagePart,
		7: UserPart, 8: AudiencePart, 9: StagePart, 10: AudiencePart, 11: UserPart, 12: UserPart, 13: UserPart, 14: PagePart,
		15: SequencePart, 16: PagePart, 17: PagePart, 18: AudiencePart, 19: SequencePart, 99: AudiencePart,
		20: PurposePart, 21: UserPart, 22: TeamPart, 23: UserPart, 24: TeamPart}
	for id, what := range want {
		if seen[id] != what {
			t.Errorf("%d is %q, want %q", id, seen[id], what)
		}
	}
	if len(seen) != len(want) || len(e.NotIn) != 1 || e.NotIn[0] != 118 || p.Step(1).(*Email).Message != 106 ||
		p.Step(8).(*GoOn).Sequence != 115 || p.Ground.Purpose != 101 {
		t.Errorf("seen %v; %+v", seen, e)
	}
	body := mustJSON(&p)
	for _, part := range []string{`"what":"110"`, `"to":111`, `"to":112`, `"for":113`, `"page":114`} {
		if !strings.Contains(body, part) {
			t.Errorf("%s is not in %s", part, body)
		}
	}
}

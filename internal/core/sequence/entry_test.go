package sequence

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// What an entry may say, and what it says of itself.
func TestEntry(t *testing.T) {
	norway := rule.FieldIs(person.Country, "NO")
	for _, c := range []struct {
		name   string
		e      Entry
		wrong  string // empty: it may be so
		again  string
		wave   string
		anyone bool
	}{
		{"nobody", Entry{}, "", "once", "", false},
		{"a form", Entry{Page: 3}, "", "once", "", true},
		{"by hand", Entry{Hand: true, Times: Always}, "", "as often as it happens", "", true},
		{"a rule", Entry{Rule: &norway, Times: 3, Gap: 90, Wave: Wave{50, Day}}, "", "up to 3 times, 90 days apart",
			"at most 50 a day", true},
		{"a day apart, by the hour", Entry{Rule: &norway, Times: Always, Gap: 1, Wave: Wave{5, Hour}}, "",
			"as often as it happens, 1 day apart", "at most 5 an hour", true},
		{"a rule that asks nothing", Entry{Rule: &rule.Rule{}}, "", "once", "", false},
		{"a signal", Entry{On: &signal.Pattern{Kind: signal.Download}}, "", "once", "", true},
		{"no signal", Entry{On: &signal.Pattern{}}, "choose what they do", "once", "", true},
		{"again and again by rule", Entry{Rule: &norway, Times: Always}, "needs a gap", "as often as it happens", "", true},
		{"too often", Entry{Page: 1, Times: 101}, "at most 100 times", "up to 101 times", "", true},
		{"less than never", Entry{Page: 1, Times: -2}, "at most 100 times", "once", "", true},
		{"a gap of years", Entry{Page: 1, Gap: 1001}, "at most 1000 days", "once", "", true},
		{"a wave backwards", Entry{Rule: &norway, Wave: Wave{-1, Day}}, "a wave is of", "once", "at most -1 a day", true},
		{"a wave in no time", Entry{Rule: &norway, Wave: Wave{1, "moon"}}, "a wave is of", "once", "at most 1 a day", true},
		{"nothing left out", Entry{Page: 1, NotIn: []int64{0}}, "choose who is left out", "once", "", true},
		{"too many left out", Entry{Page: 1, NotOn: make([]int64, 51)}, "at most 50", "once", "", true},
		{"a rule without a value", Entry{Rule: &rule.Rule{If: &rule.Condition{Field: person.Country, Op: rule.Is}}},
			"needs a value", "once", "", true},
	} {
		err := c.e.Check()
		if (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v, want %q", c.name, err, c.wrong)
		}
		if c.e.Again() != c.again || c.e.Wave.String() != c.wave || c.e.Anybody() != c.anyone {
			t.Errorf("%s: %q, %q, %v", c.name, c.e.Again(), c.e.Wave, c.e.Anybody())
		}
	}
}

// A wave counts in hours of the clock, or in days of the workspace's zone, which a clock
// change makes longer or shorter. Europe/Berlin put its clocks forward on 2026-03-29 (tz).
func TestWavesCountFrom(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		per       Each
		now, from string
	}{
		{Hour, "2026-04-14T09:20:00Z", "2026-04-14T09:00:00Z"}, {Hour, "2026-04-14T09:00:00Z", "2026-04-14T09:00:00Z"},
		{Day, "2026-04-14T09:20:00Z", "2026-04-13T22:00:00Z"}, {Day, "2026-04-14T22:00:00Z", "2026-04-14T22:00:00Z"},
		{Day, "2026-03-29T21:59:00Z", "2026-03-28T23:00:00Z"},
	} {
		if got := (Wave{1, c.per}).Since(at(t, c.now), berlin); !got.Equal(at(t, c.from)) {
			t.Errorf("%s at %s: since %v, want %s", c.per, c.now, got, c.from)
		}
	}
}

// What is said of rests and of leaving, and what of them cannot be.
func TestRestAndLeaving(t *testing.T) {
	for want, r := range map[string]Rest{"none": {}, "no email within a day after the last": {Days: 1},
		"no touch within 3 days after the last": {Days: 3, Any: true}} {
		if r.String() != want || r.Check() != nil {
			t.Errorf("%+v: %q, %v", r, r, r.Check())
		}
	}
	for _, r := range []Rest{{Days: -1}, {Days: 91}, {Most: -1}, {Most: 366}} {
		if r.Check() == nil {
			t.Errorf("%+v may be", r)
		}
	}
	p, _, _, _, _, _, _ := guide(t)
	p.Stay = []Reason{Answered, OptedOut}
	if !p.Stays(Answered) || p.Stays(OptedOut) || p.Stays(MetUs) {
		t.Error("who stays is not who may")
	}
	p.Rest.Days = 100
	p.LeaveIf = &rule.Rule{If: &rule.Condition{Field: person.Country, Op: rule.Is}}
	var found []string
	for _, x := range p.Check() {
		found = append(found, x.Text)
	}
	for _, want := range []string{"opted out: that cannot be switched off", "its own leave rule", "at most 90 days"} {
		if !strings.Contains(strings.Join(found, "\n"), want) {
			t.Errorf("%q is not found: %q", want, found)
		}
	}
	if !WentOn.Planned() || !Finished.Planned() || Answered.Planned() || CouldNotGoOn("x").Planned() {
		t.Error("an end that was drawn is told wrongly")
	}
}

// Who makes a part is kept with its step, whatever else of it changes; what was made is
// given to the step that misses it.
func TestMaking(t *testing.T) {
	p := newPlan()
	email, err := p.Insert(&Email{}, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	on, err := p.Insert(&GoOn{}, email, Next)
	if err != nil {
		t.Fatal(err)
	}
	by := Making{Who: 3, By: calendar.Date{Year: 2026, Month: 5, Day: 1}}
	if _, _, err := (SetMaking{email, by}).Apply(p); err != nil {
		t.Fatal(err)
	}
	if _, _, err := (ChangeStep{&Email{Common: Common{ID: email, Title: "Mail"}}}).Apply(p); err != nil ||
		p.Step(email).About().Make != by || p.Clone().Step(email).About().Make != by {
		t.Errorf("changed: %v, %+v", err, p.Step(email).About().Make)
	}
	if _, id, err := (SetPart{email, MessagePart, 7}).Apply(p); err != nil || id != email ||
		p.Step(email).(*Email).Message != 7 {
		t.Errorf("a message: %v", err)
	}
	if _, _, err := (SetPart{on, SequencePart, 8}).Apply(p); err != nil || p.Step(on).(*GoOn).Sequence != 8 {
		t.Errorf("a sequence: %v", err)
	}
	for _, e := range []Edit{SetMaking{99, by}, SetPart{99, MessagePart, 1}, SetPart{p.Start + 90, MessagePart, 1},
		SetPart{on, MessagePart, 1}} {
		if _, _, err := e.Apply(p.Clone()); err == nil {
			t.Errorf("%T %+v is done", e, e)
		}
	}
	parts := append(p.Parts(), (&Call{Guide: "x"}).parts()...)
	parts = append(parts, (&Task{}).parts()...)
	parts = append(parts, (&Social{What: Visit}).parts()...)
	parts = append(parts, (&Social{What: Connect, Text: "x"}).parts()...)
	missing := 0
	for _, x := range parts {
		if x.ID == 0 {
			missing++
		}
	}
	if len(parts) != 5 || missing != 1 {
		t.Errorf("the parts are %+v", parts)
	}
}

// A sort that is changed has exits for its rules: a new one leads to an end of its own, and
// what only one that is gone led to goes.
func TestASortThatChanges(t *testing.T) {
	p := newPlan()
	id, err := p.Insert(New("sort"), 0, "")
	if err != nil {
		t.Fatal(err)
	}
	pause, err := p.Insert(New("pause"), id, "way 1")
	if err != nil {
		t.Fatal(err)
	}
	s := CloneStep(p.Step(id)).(*Sort)
	if s.NewKey() != 3 || s.Says(Names{}) != "by 2 rules" {
		t.Errorf("the next key is %d; %s", s.NewKey(), s.Says(Names{}))
	}
	s.Ways = append(s.Ways[1:], Way{Key: s.NewKey(), Rule: rule.ScoreAtLeast(5)})
	if _, _, err := (ChangeStep{s}).Apply(p); err != nil || p.Step(pause) != nil || len(p.Step(id).About().To) != 3 ||
		p.Step(p.Step(id).About().To["way 3"]).Kind() != kindEnd {
		t.Errorf("changed: %v, %+v", err, p.Step(id).About())
	}
	if err := p.whole(); err != nil {
		t.Error(err)
	}
	if w := (&Social{Text: "hello"}).Words(); w != "hello" || (&Call{}).Words() != "" {
		t.Errorf("the words are %q", w)
	}
}

// A sequence is written to a file and read back as it was; what is none says so.
func TestFile(t *testing.T) {
	p, _, _, _, _, _, _ := guide(t)
	if _, err := p.Insert(&Change{Acts: []act.Kept{{Act: act.Tag{Name: "x"}}}}, 0, ""); err != nil {
		t.Fatal(err)
	}
	f := File{Name: "Guide", For: "Loans", Plan: p, Names: map[PartKind]map[string]string{MessagePart: {"1": "One"}}}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	back, err := ReadFile(bytes.NewReader(b.Bytes()))
	if err != nil || mustJSON(back.Plan) != mustJSON(p) || back.Name != "Guide" || back.For != "Loans" ||
		back.Names[MessagePart]["1"] != "One" {
		t.Errorf("read back: %v, %+v", err, back)
	}
	if _, err := ReadFile(strings.NewReader(strings.Repeat(" ", MaxFile+1))); err == nil {
		t.Error("a file without an end is read")
	}
	if _, err := ReadBranch([]byte("{}")); err == nil {
		t.Error("a branch of nothing is read")
	}
	if _, err := ReadBranch([]byte("x")); err == nil {
		t.Error("what is no JSON is a branch")
	}
	big := &Branch{Plan: newPlan()}
	for range 60 {
		if _, err := big.Plan.Insert(&Call{Guide: strings.Repeat("x", 5000)}, 0, ""); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := big.Keep(); err == nil {
		t.Error("half a megabyte is copied")
	}
	for _, s := range []string{`{"ombak":"letter","version":1}`, `{"ombak":"sequence","version":9}`,
		`{"ombak":"sequence","version":1}`} {
		if _, err := ReadFile(strings.NewReader(s)); err == nil {
			t.Errorf("%s is read", s)
		}
	}
}

// Steps that do something at a time of their own take their place on the axis.
func TestWhatStepsTake(t *testing.T) {
	three := Timing{Wait: calendar.Span{N: 3, Unit: calendar.Days}}
	for _, s := range []Step{&Change{Timing: three}, &Alert{Timing: three}, &GoOn{Timing: three}, &Handover{Timing: three},
		&Task{ToDo: ToDo{Timing: three}}, &Social{ToDo: ToDo{Timing: three}}} {
		if before, after := s.takes(); before != 3 || after != 0 {
			t.Errorf("%s takes %v and %v", s.Kind().Word, before, after)
		}
		if d, ok := s.(interface{ Due() Timing }); !ok || d.Due().Wait != three.Wait {
			t.Errorf("%s does not say when it is due", s.Kind().Word)
		}
	}
	if before, after := (&Sort{}).takes(); before != 0 || after != 0 {
		t.Error("a sort takes time")
	}
}

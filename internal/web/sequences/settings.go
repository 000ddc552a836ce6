package sequences

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// settingsForm is what a sequence is called, who enters it and what holds for all of it,
// with what its form offers.
type settingsForm struct {
	flow.SequenceSettings
	How     string // page, rule, signal, record or hand
	Enters  string // in words
	Leaves  string
	Editor  shell.RuleView // of who enters
	Leave   shell.RuleView // of the own leave rule
	Units   []calendar.Unit
	Kinds   []signal.Kind
	Others  []store.SequenceName
	Fields  []person.Definition // whose change lets somebody in
	Open    string              // the part that is open
	DaysOff string              // as they are typed
	cat     *rule.Catalogue
}

// Has reports whether one of the numbers is chosen, for lists of them.
func (settingsForm) Has(list []int64, id int64) bool { return slices.Contains(list, id) }

// Stays reports whether nobody leaves for a reason.
func (f settingsForm) Stays(r sequence.Reason) bool { return slices.Contains(f.Plan.Stay, r) }

// names names what an entry refers to.
type names struct {
	cat       *rule.Catalogue
	pages     []store.PageName
	sequences []store.SequenceName
}

func (s *Place) namesFor(ctx context.Context, cat *rule.Catalogue) (n names, err error) {
	n.cat = cat
	if n.pages, err = s.Store.PageNames(ctx); err != nil {
		return n, err
	}
	n.sequences, err = s.Store.RunningNames(ctx)
	return n, err
}

func (n names) page(id int64) string {
	for _, p := range n.pages {
		if p.ID == id {
			return "“" + p.Title + "”"
		}
	}
	return "a page that is not there any more"
}

// enters says who enters: "those who fill in “Alarms”, once".
func (n names) enters(e *sequence.Entry) string {
	var s string
	switch {
	case e.Page != 0:
		s = "those who fill in " + n.page(e.Page)
	case e.Rule != nil && e.Rule.Asks():
		s = "everybody" + e.Rule.Whose(n.cat)
	case e.On != nil:
		s = "those who " + strings.Replace(e.On.Kind.Did(), "ed ", " ", 0)
		if e.On.Page != 0 {
			s = "those who " + e.On.Kind.Did() + ", on " + n.page(e.On.Page)
		}
	case e.Record != nil:
		s = "those whose " + e.Record.Words(n.cat)
	case e.Hand:
		s = "whom somebody puts in by hand"
	default:
		return "nobody yet"
	}
	if e.Reps {
		s += ", and whom reps put in"
	}
	for _, more := range []string{e.Again(), e.Wave.String()} {
		if more != "" && more != "once" {
			s += "; " + more
		}
	}
	if k := len(e.NotIn) + len(e.NotOn); k > 0 {
		s += fmt.Sprintf("; %d left out", k)
	}
	return s
}

// leaveWords says for what people leave a plan besides what always ends it.
func leaveWords(p *sequence.Plan, cat *rule.Catalogue) string {
	var out []string
	for _, r := range sequence.MayStay() {
		if !p.Stays(r) {
			out = append(out, string(r))
		}
	}
	out = append(out, "opted out", "bounced", "complained")
	s := strings.Join(out, ", ")
	if p.LeaveIf != nil && p.LeaveIf.Asks() {
		s += "; everybody" + p.LeaveIf.Whose(cat)
	}
	return s
}

// settings readies the form of the settings for what is kept, or typed.
func (d *sequenceData) settings(name, note string, e sequence.Entry, p *sequence.Plan) settingsForm {
	f := settingsForm{Units: []calendar.Unit{calendar.Hours, calendar.Days, calendar.WorkingDays},
		Kinds: signal.Kinds(), SequenceSettings: flow.SequenceSettings{Name: name, Note: note, Entry: e,
			Plan: sequence.ChangePlan{Hours: p.Hours, Ground: p.Ground, LaunchHold: p.LaunchHold,
				LongestStay: p.LongestStay, Rest: p.Rest, Stay: p.Stay, LeaveIf: p.LeaveIf,
				Event: p.Event, Sender: p.Sender}}}
	f.ready(d)
	return f
}

// ready adds what the form offers.
func (f *settingsForm) ready(d *sequenceData) {
	e := &f.Entry
	f.cat, f.DaysOff = d.cat, calendar.Dates(f.Plan.Hours.Off)
	switch {
	case e.On != nil:
		f.How = "signal"
	case e.Record != nil:
		f.How = "record"
	case e.Rule != nil:
		f.How = "rule"
	case e.Hand:
		f.How = "hand"
	default:
		f.How = "page"
	}
	n := names{d.cat, d.Pages, d.choices.Sequences}
	f.Enters = n.enters(e)
	p := &sequence.Plan{Stay: f.Plan.Stay, LeaveIf: f.Plan.LeaveIf}
	f.Leaves = leaveWords(p, d.cat)
	var enters, leaves rule.Rule
	if e.Rule != nil {
		enters = *e.Rule
	}
	if f.Plan.LeaveIf != nil {
		leaves = *f.Plan.LeaveIf
	}
	for _, x := range d.cat.Fields() {
		if !x.Company && x.Field != person.Created {
			f.Fields = append(f.Fields, x)
		}
	}
	f.Editor = shell.ViewRuleAt(enters, "r", d.cat, rule.Subjects(d.cat))
	f.Leave = shell.ViewRuleAt(leaves, "leave", d.cat, rule.Subjects(d.cat))
	for _, q := range d.choices.Sequences {
		if q.ID != d.Q.ID {
			f.Others = append(f.Others, q)
		}
	}
}

// readSettings reads what was typed into the settings of a sequence with a plan, as far as
// it can be read.
func readSettings(f Typed, p *sequence.Plan) (x flow.SequenceSettings, err error) {
	var errs []error
	x.Name, x.Note = person.Name(f.Get("name")), person.Name(f.Get("note"))
	if x.Name == "" {
		errs = append(errs, plainly.New("give the sequence a name"))
	}
	x.Entry, err = readEntry(f)
	errs = append(errs, err)
	plan := &x.Plan
	plan.LaunchHold = f.Get("hold") != ""
	hours, err := shell.ReadHours(f.Values, "hours", &p.Hours)
	plan.Hours = *hours
	errs = append(errs, err)
	if err == nil {
		errs = append(errs, hours.Check())
	}
	plan.Event, plan.Sender = max(f.Number("event"), 0), max(f.Number("sender"), 0)
	plan.Ground, err = readGround(f.Get("ground"))
	errs = append(errs, err, ReadSpan(f, "stay", &plan.LongestStay))
	plan.Rest = sequence.Rest{Days: int(f.Number("rest")), Any: f.Get("rest-of") == "touch", Most: p.Rest.Most}
	errs = append(errs, plan.Rest.Check())
	for _, r := range sequence.MayStay() {
		if f.Get("leave."+string(r)) == "" {
			plan.Stay = append(plan.Stay, r)
		}
	}
	own, there, err := shell.ReadRuleAt(f.Values, "leave", f.Rules)
	if there && own.Asks() {
		own = plainRule(own)
		plan.LeaveIf = &own
		errs = append(errs, own.Check(nil))
	}
	return x, first(append(errs, err))
}

// first is the first of some errors that there is.
func first(errs []error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// readRecorded reads what happens to a record for somebody to enter.
func readRecorded(f Typed) (*sequence.Recorded, error) {
	if f.Get("record") != "changed" {
		return &sequence.Recorded{Source: person.Name(f.Get("source"))}, nil
	}
	r := &sequence.Recorded{Field: cmp.Or(person.Field(f.Get("field")), person.Country),
		From: person.Name(f.Get("was")), To: person.Name(f.Get("is"))}
	d, ok := f.Rules.Define(r.Field)
	if !ok || d.Company {
		return r, plainly.New("choose the field that changes")
	}
	for _, v := range []*string{&r.From, &r.To} {
		if *v == "" {
			continue
		}
		tidy, err := d.Tidy(*v, "")
		if err != nil {
			return r, fmt.Errorf("“%s”: %w", *v, err)
		}
		*v = tidy
	}
	return r, nil
}

// RecordChanges reports whether a change of a record lets people in, and not its making.
func (f settingsForm) RecordChanges() bool {
	return f.Entry.Record != nil && f.Entry.Record.Field != ""
}

// Said is the value of a field as it is shown.
func (f settingsForm) Said(value string) string {
	if f.Entry.Record == nil {
		return value
	}
	return rule.Shown(f.cat, f.Entry.Record.Field, value)
}

// readEntry reads who enters.
func readEntry(f Typed) (e sequence.Entry, err error) {
	switch f.Get("entry") {
	case "page":
		e.Page = max(f.Number("page"), 0)
	case "rule":
		r, _, rerr := shell.ReadRuleAt(f.Values, "r", f.Rules)
		r = plainRule(r)
		e.Rule, err = &r, rerr
	case "signal":
		e.On = &signal.Pattern{Kind: signal.Kind(f.Number("on"))}
		if e.On.Kind.OfPage() {
			e.On.Page = max(f.Number("on-page"), 0)
		}
	case "record":
		e.Record, err = readRecorded(f)
	case "hand":
		e.Hand = true
	default:
		err = plainly.New("choose who enters")
	}
	switch f.Get("again") {
	case "some":
		e.Times = int(f.Number("times"))
		if e.Times < 2 {
			err = errors.Join(err, plainly.New("how often they may enter is a whole number from 2 on"))
		}
	case "always":
		e.Times = sequence.Always
	}
	if e.Times != 0 {
		e.Gap = int(f.Number("gap"))
	}
	for _, id := range f.Values["not-in"] {
		e.NotIn = append(e.NotIn, shell.Number(id))
	}
	for _, id := range f.Values["not-on"] {
		e.NotOn = append(e.NotOn, shell.Number(id))
	}
	e.WithDeal, e.Reps = f.Get("with-deal") != "", f.Get("reps") != ""
	if n := int(f.Number("wave")); n != 0 && e.Rule != nil {
		e.Wave = sequence.Wave{N: n, Per: sequence.Each(f.Get("wave-per"))}
	}
	if err == nil {
		err = e.Check()
	}
	return e, err
}

// sequenceSettings keeps the name, who enters and what holds for all of the plan.
func (s *Place) sequenceSettings(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	typed := Typed{v, nil}
	if typed.Rules, err = s.Store.Catalogue(ctx); err != nil {
		return err
	}
	x, err := readSettings(typed, draft.Plan.V)
	if do, _ := typed.Do(); do == "" && err == nil {
		err = s.Engine.SetSequence(ctx, id, stateN(c), x)
		return s.edited(c, id, x.Plan, 0, err)
	}
	// What was typed is shown again, as far as it could be read, and nothing is kept yet.
	code, wrong := http.StatusOK, ""
	if err != nil && v.Get("do") == "" {
		code, wrong = http.StatusUnprocessableEntity, shell.Sentence(err)
	}
	return s.showSequence(c, code, id, func(d *sequenceData) {
		d.Wrong, d.Panel, d.Step = wrong, "sequence", nil
		d.Set = settingsForm{SequenceSettings: x, Units: d.Set.Units, Kinds: d.Set.Kinds, Open: v.Get("open")}
		d.Set.ready(d)
		if how := v.Get("entry"); how != "" {
			d.Set.How = how
		}
		if v.Has("hours-off") { // also what is no date
			d.Set.DaysOff = v.Get("hours-off")
		}
		if n, err := strconv.Atoi(v.Get("n")); err == nil {
			d.N = n // of the draft that it was typed into
		}
	})
}

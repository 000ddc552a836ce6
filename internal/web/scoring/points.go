package scoring

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/folder"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// The form of the rules has a line for each, numbered from 0: p.3 are its points, s.3 the kind of signal, q.3 from
// where and l.3 which link, o.3 how often with n.3 and w.3, h.3 how long with d.3, x.3 whether it wipes, g.3 the number
// of its group, id.3 its own; its condition is the rule at the root c3. Groups have names in gn.0, gn.1. A button named
// do carries what to change: "rule 1" adds a rule to a group, "group" one with a rule, "drop 3" removes a line.

const (
	bandStep = 5
	bands    = 13 // the last is "60 and more"
)

type pointsData struct {
	Model  store.Model
	M      score.Model // as it is typed
	Is     about
	Groups []groupForm
	Kinds  []signal.Kind
	Follow []followForm
	Tags   *shell.ActChoices
	Typed  map[string]string // what was typed for the line and its company
	Since  int
	Wrong  string
	Tide   shell.Tide
	Over   int64
	People int64
	Lifted int64
	Again  *store.Batch // scores are counted again by it
	F      *shell.Folders
}

// groupForm is a group of rules as typed.
type groupForm struct {
	I     int
	Name  string
	Rules []ruleForm
}

// ruleForm is a rule as typed.
type ruleForm struct {
	I                       int
	R                       score.Rule
	Points, N, Window, Days string
	How                     string // how long its points count: ever, days or half
	Root                    string
	Editor                  shell.RuleView
	Places, Links           []shell.Choice
	Wrong                   string
}

// followForm is what follows from a level, as typed: fl.2 is the level, fa.2 its number where it is one; its acts say
// in act_of which they are of.
type followForm struct {
	I      int
	F      score.Follow
	Levels []shell.Choice
	At     string
	Acts   []shell.ActRow
}

// ByNumber reports whether the level is a number that is typed.
func (f followForm) ByNumber() bool { return f.F.Band == "" && f.F.At != 0 }

// readFollows reads what follows from levels.
func readFollows(v url.Values) (out []score.Follow, wrong error) {
	do, at, _ := strings.Cut(v.Get("do"), " ")
	at2 := map[int]int{} // where each of the form is now
	for k := range score.MaxFollows + 1 {
		n := strconv.Itoa(k)
		if !v.Has("fl." + n) {
			break
		}
		if do == "unfollow" && at == n {
			continue
		}
		var f score.Follow
		switch what, name, _ := strings.Cut(v.Get("fl."+n), " "); what {
		case "band":
			f.Band = name
		case "at":
			x, err := whole(v.Get("fa."+n), "The level", 1)
			if f.At = x; err != nil && wrong == nil {
				wrong = err
			}
			f.At = max(f.At, 1) // 0 is the ready line
		}
		at2[k] = len(out)
		out = append(out, f)
	}
	for i := range min(len(v["act_do"]), 400) {
		if i >= len(v["act_of"]) {
			break
		}
		k, err := strconv.Atoi(v["act_of"][i])
		to, there := at2[k]
		if a := shell.TypedAct(v, i); err == nil && there && a != nil {
			out[to].Acts = append(out[to].Acts, act.Kept{Act: a})
		}
	}
	if do == "follow" {
		out = append(out, score.Follow{})
	}
	return out, wrong
}

// followForms are what follows from levels, as the form shows it.
func followForms(m *score.Model, choices *shell.ActChoices) (out []followForm) {
	for i, f := range m.Follows {
		x := followForm{I: i, F: f, Levels: []shell.Choice{{Value: "line", Words: "crosses the ready line",
			Chosen: f.OfLine()}}}
		for _, b := range m.Bands {
			x.Levels = append(x.Levels, shell.Choice{Value: "band " + b.Name, Chosen: f.Band == b.Name,
				Words: "comes to the band “" + b.Name + "”"})
		}
		x.Levels = append(x.Levels, shell.Choice{Value: "at", Words: "comes to", Chosen: x.ByNumber()})
		if x.At = ""; x.ByNumber() {
			x.At = strconv.Itoa(f.At)
		}
		acts := make([]act.Act, len(f.Acts))
		for j, a := range f.Acts {
			acts[j] = a.Act
		}
		x.Acts = shell.ActRows(acts, act.OfCrossing(), choices)
		out = append(out, x)
	}
	return out
}

// ways of counting, as the form offers them.
var howOften = []score.Often{score.Always, score.First, score.PerDay, score.InAll, score.While}

// OftenWords is a way of counting as the sentence has it.
func (ruleForm) OftenWords(o score.Often) string {
	return map[score.Often]string{score.Always: "every time", score.First: "the first time",
		score.PerDay: "a day at most", score.InAll: "in all at most", score.While: "only while at least"}[o]
}

// OfRecord reports whether the rule is about what is on the record.
func (f ruleForm) OfRecord() bool { return f.R.OfRecord() }

// Oftens are the ways of counting.
func (ruleForm) Oftens() []score.Often { return howOften }

// whole reads a whole number as it was typed; an empty text is the usual one.
func whole(text, what string, usual int) (int, error) {
	text = strings.TrimSpace(strings.ReplaceAll(text, "−", "-"))
	if text == "" {
		return usual, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < -1_000_000 || n > 1_000_000 {
		return 0, plainly.Errorf("%s: “%s” is no whole number", what, text)
	}
	return n, nil
}

// lineFields are the numbers of a model beside its rules.
func lineFields(m *score.Model) map[string]*int {
	return map[string]*int{"line": &m.Line, "fit_line": &m.FitLine, "margin": &m.Margin, "cool_off": &m.CoolOff,
		"floor": &m.Floor, "ceiling": &m.Ceiling}
}

var lineNames = map[string]string{"line": "The ready line", "fit_line": "The fit of the ready line",
	"margin": "The margin", "cool_off": "The cool-off", "floor": "The floor", "ceiling": "The ceiling"}

// readPoints reads the form into a model that has everything else of base; wrong is the first thing that cannot be
// read.
func readPoints(v url.Values, cat *rule.Catalogue, base score.Model) (m score.Model, groups []groupForm, wrong error) {
	m = base.Clone()
	note := func(err error) {
		if wrong == nil {
			wrong = err
		}
	}
	for name, to := range lineFields(&m) {
		var err error
		*to, err = whole(v.Get(name), lineNames[name], 0)
		note(err)
	}
	do, at, _ := strings.Cut(v.Get("do"), " ")
	for k := range score.MaxRules {
		if !v.Has("gn." + strconv.Itoa(k)) {
			break
		}
		groups = append(groups, groupForm{I: k, Name: person.Name(v.Get("gn." + strconv.Itoa(k)))})
	}
	if do == "group" || len(groups) == 0 {
		groups = append(groups, groupForm{I: len(groups)})
		at = strconv.Itoa(len(groups) - 1)
	}
	for i := range score.MaxRules + 1 {
		n := strconv.Itoa(i)
		if !v.Has("s." + n) {
			break
		}
		if do == "drop" && at == n {
			continue
		}
		f, err := readLine(v, n, cat)
		note(err)
		if k := int(shell.Number(v.Get("g." + n))); k >= 0 && k < len(groups) {
			groups[k].Rules = append(groups[k].Rules, f)
		}
	}
	if k, err := strconv.Atoi(at); (do == "group" || do == "rule") && err == nil && k >= 0 && k < len(groups) {
		groups[k].Rules = append(groups[k].Rules, ruleForm{R: score.Rule{On: signal.Pattern{Kind: signal.Click},
			Points: 1, Lasts: 30}, Points: "1", How: "days", Days: "30"})
	}
	groups = slices.DeleteFunc(groups, func(g groupForm) bool { return len(g.Rules) == 0 }) // emptied: it is gone
	m.Rules = nil
	for k := range groups {
		groups[k].I = k
		for i := range groups[k].Rules {
			f := &groups[k].Rules[i]
			f.I, f.R.Group = len(m.Rules), groups[k].Name
			m.Rules = append(m.Rules, f.R)
		}
	}
	return m, groups, wrong
}

// readLine reads one rule of the form.
func readLine(v url.Values, n string, cat *rule.Catalogue) (f ruleForm, err error) {
	get := func(letter string) string { return strings.TrimSpace(v.Get(letter + "." + n)) }
	number := func(text, what string, usual int) int {
		x, e := whole(text, what, usual)
		err = errors.Join(err, e)
		return x
	}
	f = ruleForm{Points: get("p"), N: get("n"), Window: get("w"), Days: get("d"), How: get("h")}
	r := &f.R
	r.ID, r.On.Kind = shell.Number(get("id")), signal.Kind(shell.Number(get("s")))
	r.Points = number(f.Points, "Points", 0)
	var e error
	r.If, _, e = shell.ReadRuleAt(v, "c"+n, cat)
	err = errors.Join(err, e)
	if r.OfRecord() {
		return f, err
	}
	shell.ReadPlace(get("q"), &r.On)
	if r.On.Kind == signal.Click && r.On.Message != 0 && get("q") == get("q0") { // else it is another link
		r.On.Link = int32(min(max(shell.Number(get("l")), 0), 10_000))
	}
	r.Often, r.Wipe = score.Often(get("o")), get("x") != ""
	switch r.Often {
	case score.PerDay, score.InAll:
		r.N = number(f.N, "How many times", 1)
	case score.While:
		r.N, r.Window = number(f.N, "How many times", 1), number(f.Window, "Within how many days", 30)
		return f, err
	}
	switch f.How {
	case "days":
		r.Lasts = number(f.Days, "How many days points last", 30)
	case "half":
		r.Half = number(f.Days, "After how many days points halve", 30)
	}
	return f, err
}

// typedPoints is a model as the form shows it.
func typedPoints(m *score.Model) (groups []groupForm) {
	text := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	for i, r := range m.Rules {
		f := ruleForm{I: i, R: r, Points: strconv.Itoa(r.Points), N: text(r.N), Window: text(r.Window), How: "ever"}
		switch {
		case r.Half > 0:
			f.How, f.Days = "half", text(r.Half)
		case r.Lasts > 0:
			f.How, f.Days = "days", text(r.Lasts)
		}
		k := slices.IndexFunc(groups, func(g groupForm) bool { return g.Name == r.Group })
		if k < 0 {
			k = len(groups)
			groups = append(groups, groupForm{I: k, Name: r.Group})
		}
		groups[k].Rules = append(groups[k].Rules, f)
	}
	// Lines are numbered as they are shown.
	i := 0
	for k := range groups {
		for j := range groups[k].Rules {
			groups[k].Rules[j].I = i
			i++
		}
	}
	return groups
}

// changing is what is being changed: the draft, or the live model where there is none.
func changing(m *store.Model) score.Model {
	if m.Draft != nil {
		return *m.Draft
	}
	return m.Model
}

func (s *Place) points(c *echo.Context) error {
	m, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	d := pointsData{Model: m, Is: is, M: changing(&m), Since: m.DraftChanges}
	d.Groups = typedPoints(&d.M)
	return s.showPoints(c, http.StatusOK, "", d, cat)
}

// editPoints shows the form again, with what was changed in it.
func (s *Place) editPoints(c *echo.Context) error {
	d, cat, err := s.readPoints(c)
	if err != nil {
		return err
	}
	d.Wrong = ""
	return s.showPoints(c, http.StatusOK, "form", d, cat)
}

func (s *Place) readPoints(c *echo.Context) (d pointsData, cat *rule.Catalogue, err error) {
	m, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return d, nil, err
	}
	v, err := c.FormValues()
	if err != nil {
		return d, nil, err
	}
	d = pointsData{Model: m, Is: is, Since: int(shell.Number(v.Get("since"))), Typed: map[string]string{}}
	for name := range lineNames {
		d.Typed[name] = v.Get(name)
	}
	var wrong error
	if d.M, d.Groups, wrong = readPoints(v, cat, changing(&m)); wrong != nil {
		d.Wrong = shell.Sentence(wrong)
	}
	if d.M.Follows, wrong = readFollows(v); wrong != nil && d.Wrong == "" {
		d.Wrong = shell.Sentence(wrong)
	}
	return d, cat, nil
}

func (s *Place) savePoints(c *echo.Context) error {
	ctx := c.Request().Context()
	d, cat, err := s.readPoints(c)
	if err != nil {
		return err
	}
	if do := c.FormValue("do"); do != "" && do != "save" { // an edit without the page's script
		d.Wrong = ""
		return s.showPoints(c, http.StatusOK, "", d, cat)
	}
	if d.Wrong == "" && len(d.M.Rules) == 0 {
		d.Wrong = shell.Sentence(people.ErrNoRules)
	}
	if d.Wrong != "" {
		return s.showPoints(c, http.StatusUnprocessableEntity, "", d, cat)
	}
	err = s.Engine.KeepDraft(ctx, modelOf(c), d.M, d.Since, shell.UserOf(c).ID)
	if err == nil {
		return s.keptDraft(c, to(c, "/scoring"), d.Model.ID == 0)
	}
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	d.Wrong = shell.Sentence(err)
	if errors.Is(err, people.ErrDraftMoved) {
		d.Wrong = movedOn
		d.Since = d.Model.DraftChanges
	}
	var at *score.RuleError
	if errors.As(err, &at) {
		markWrong(d.Groups, at.Rule, d.Wrong)
	}
	return s.showPoints(c, http.StatusUnprocessableEntity, "", d, cat)
}

const movedOn = "Somebody else has changed the draft meanwhile. Save again, and yours takes the place of theirs; or " +
	"reload the page to see theirs."

func markWrong(groups []groupForm, line int, words string) {
	for k := range groups {
		for i := range groups[k].Rules {
			if f := &groups[k].Rules[i]; f.I == line {
				f.Wrong = words
			}
		}
	}
}

// keptDraft tells that a draft is kept, or that the first model counts.
func (s *Place) keptDraft(c *echo.Context, to string, first bool) error {
	if first {
		return s.Done(c, to, "Saved. It counts from now on.")
	}
	return s.Done(c, to, "Saved as a draft. Nothing changes for anybody until it takes over.")
}

func (s *Place) showPoints(c *echo.Context, code int, part string, d pointsData, cat *rule.Catalogue) error {
	ctx := c.Request().Context()
	d.Kinds = signal.Kinds()
	if again, err := s.Store.Recounting(ctx, d.Model.ID); err == nil {
		d.Again = &again
	} else if !store.IsNotFound(err) {
		return err
	}
	asks := slices.DeleteFunc(rule.Subjects(cat), func(x rule.Subject) bool {
		// A score rule cannot ask for the score.
		return x.Key == "score" || x.Key == "points" || x.Key == "about "+string(rule.InBand)
	})
	for k := range d.Groups {
		for i := range d.Groups[k].Rules {
			f := &d.Groups[k].Rules[i]
			f.Root = "c" + strconv.Itoa(f.I)
			f.Editor = shell.ViewRuleAt(f.R.If, f.Root, cat, asks)
			f.Places = shell.PlacesOf(&f.R.On, cat)
			if err := s.linksOf(ctx, f); err != nil {
				return err
			}
		}
	}
	if d.Typed == nil {
		d.Typed = map[string]string{}
		for name, n := range lineFields(&d.M) {
			if *n != 0 || name == "floor" {
				d.Typed[name] = strconv.Itoa(*n)
			}
		}
	}
	var err error
	if d.Tags, err = s.ActChoices(ctx); err != nil {
		return err
	}
	d.Follow = followForms(&d.M, d.Tags)
	if err := s.standing(ctx, &d); err != nil {
		return err
	}
	if d.Lifted, _, err = s.Store.LiftedWaiting(ctx, d.Model.ID); err != nil {
		return err
	}
	if d.F, err = s.Folders(c, folder.Model, to(c, "/scoring")); err != nil {
		return err
	}
	return s.PageCode(c, code, "scoring.html", part, "Scoring", d.Is.Title("Scoring"), d)
}

// linksOf lists the links of the message that a rule's clicks come from.
func (s *Place) linksOf(ctx context.Context, f *ruleForm) error {
	on := &f.R.On
	if on.Kind != signal.Click || on.Message == 0 {
		return nil
	}
	m, err := s.Store.MessageText(ctx, on.Message)
	if store.IsNotFound(err) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, l := range m.Doc.V.Links() {
		words := l.Words
		if words == "" {
			words = l.Target
		}
		f.Links = append(f.Links, shell.Choice{Value: strconv.Itoa(int(l.N)), Words: words,
			Chosen: int32(l.N) == on.Link})
	}
	return nil
}

// bandsLately counts the people in each step of the scores of a model.
func (s *Place) bandsLately(ctx context.Context, model int64) ([]int64, error) {
	return shell.Lately(ctx, s.Shell, &s.bands, model, func(ctx context.Context) ([]int64, error) {
		return s.Store.ScoreBands(ctx, model, bandStep, bands)
	})
}

// Warm counts them, and who has a score, before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	models, err := s.Store.Models(ctx)
	for i := range models {
		if _, err := s.bandsLately(ctx, models[i].ID); err != nil {
			return err
		}
		if _, err := s.Engine.HowManyScored(ctx, models[i].ID); err != nil {
			return err
		}
	}
	return err
}

// standing reads where people stand by the model that counts.
func (s *Place) standing(ctx context.Context, d *pointsData) error {
	counts, err := s.bandsLately(ctx, d.Model.ID)
	if err != nil {
		return err
	}
	d.Tide = shell.Tide{Name: "People by score, in steps of five", Each: "Score from", Names: [2]string{"People"},
		W: 344, H: 190, Left: 40, Bottom: 24}
	for i, n := range counts {
		d.People += n
		p := shell.TidePoint{Row: strconv.Itoa(i * bandStep), Value: float64(n),
			Title: fmt.Sprintf("%d people with %d to %d", n, i*bandStep, (i+1)*bandStep-1)}
		if i%2 == 0 {
			p.Tick = strconv.Itoa(i * bandStep)
		}
		if i == bands-1 {
			p.Tick, p.Title = fmt.Sprintf("%d+", i*bandStep), fmt.Sprintf("%d people with %d and more", n, i*bandStep)
		}
		d.Tide.Points = append(d.Tide.Points, p)
	}
	if line := d.Model.Line; line > 0 && d.Model.ID != 0 {
		if d.Over, err = s.scoredFrom(ctx, d.Model.ID, line); err != nil {
			return err
		}
		d.Tide.Up, d.Tide.UpText = min(float64(line)/bandStep, bands), fmt.Sprintf("ready line %d", line)
	}
	d.Tide.Layout()
	return nil
}

func (s *Place) usualModel(c *echo.Context) error {
	if err := s.Engine.UsualModel(c.Request().Context()); err != nil {
		return err
	}
	return s.Done(c, "/scoring", "These are points to begin with. Agree on them, and on the ready line, with sales.")
}

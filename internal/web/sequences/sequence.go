package sequences

import (
	"bytes"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/folder"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type sequencesData struct {
	List     []store.Sequence
	New      bool
	Starters []sequence.Starter
	F        *shell.Folders
}

func (s *Place) sequences(c *echo.Context) error {
	list, err := s.Store.Sequences(c.Request().Context())
	if err != nil {
		return err
	}
	f, err := s.Folders(c, folder.Sequence, "/sequences")
	if err != nil {
		return err
	}
	list = shell.Firsts(f, shell.InFolder(f, list, func(q *store.Sequence) int64 { return q.ID }))
	return s.Page(c, "sequences.html", "list", "Sequences", "Sequences", sequencesData{list, c.QueryParam("new") != "",
		sequence.Starters(), f})
}

func (s *Place) newSequence(c *echo.Context) error {
	id, err := s.Engine.BeginSequence(c.Request().Context(), c.FormValue("name"), c.FormValue("starter"))
	if errors.Is(err, flow.ErrNameSequence) {
		return s.NotDone(c, "/sequences?new=1", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/sequences/%d", id), "")
}

// sequenceData is the map with what stands beside it.
type sequenceData struct {
	Q        store.Sequence
	Draft    bool // the draft is shown, not what is running
	Editable bool
	Plan     *sequence.Plan
	Map      drawn
	AsList   bool
	Outline  []outlined
	N        int // state of the draft
	CanUndo  string
	CanRedo  bool
	IsAhead  bool // the draft is not what is running
	Problems []sequence.Problem
	Warnings []sequence.Problem
	Parts    []partLine

	Panel   string // step, insert or sequence
	Step    sequence.Step
	Results []counted
	Span    span // over which its figures are counted
	Took    []tookExit
	Here    int64
	Passed  int64
	Left    int64
	Form    template.HTML
	Unsaved bool // what the form of the step has is not kept yet
	From    sequence.StepID
	Exit    sequence.Exit
	Kinds   []kindGroup
	Set     settingsForm
	Pages   []store.PageName
	Events  []store.EventName
	Wrong   string
	Noted   string // what was just done that the map does not show
	Copied  *sequence.Branch
	Lately  []lately

	Audiences []rule.Named
	Purposes  []store.Purpose
	Senders   []store.User
	Grounds   []string // besides what people agreed to
	cat       *rule.Catalogue
	dates     map[sequence.StepID]calendar.Date // on which steps are whoever comes to them
	choices   *shell.ActChoices
	Said      string // what the chosen step does

	Differs  []flow.Differing // the draft from what runs
	Weighing string           // what its weighing follows from: another needs another
}

// says is what a step does, with what its rule asks for by name.
func (d *sequenceData) says(s sequence.Step) string {
	return s.Says(sequence.Names{Rules: d.cat, Acts: d.choices})
}

// After lists the exits of the chosen step behind which a step can be put.
func (d sequenceData) After() []sequence.Exit {
	if d.Unsaved { // some of them are not there yet
		return nil
	}
	return d.Step.Exits()
}

// lately is something that happened to somebody on the sequence.
type lately struct {
	store.StepDone
	Icon, Text string
}

// kindGroup is kinds of step that are offered together.
type kindGroup struct {
	Name  sequence.Group
	Kinds []*sequence.Kind
}

func (s *Place) sequence(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	return s.showSequence(c, http.StatusOK, id, func(*sequenceData) {})
}

// showSequence renders the map of a sequence; adjust has the last word.
func (s *Place) showSequence(c *echo.Context, code int, id int64, adjust func(*sequenceData)) error {
	ctx := c.Request().Context()
	q, err := s.Store.Sequence(ctx, id)
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	d := sequenceData{Q: q, N: draft.N, Plan: draft.Plan.V, Draft: q.Version == nil || c.FormValue("view") == "draft",
		CanRedo: draft.Last > draft.N}
	if draft.N > 0 {
		d.CanUndo = draft.What
	}
	if q.Version != nil {
		launched, err := s.Engine.PlanOf(ctx, s.Store.Queries, *q.Version)
		if err != nil {
			return err
		}
		d.IsAhead = !samePlan(launched, draft.Plan.V)
		if !d.Draft {
			d.Plan = launched
		}
	}
	d.AsList = s.asList(c)
	d.Editable = d.Draft && (shell.View{User: shell.UserOf(c)}).Writes()
	messages, err := s.read(ctx, &d, draft.N)
	if err != nil {
		return err
	}
	d.Parts = s.partLines(&d, messages)
	step, _ := strconv.Atoi(c.FormValue("step"))
	d.Panel = "sequence"
	if d.Step = d.Plan.Step(sequence.StepID(step)); d.Step != nil {
		d.Panel, d.Said = "step", d.says(d.Step)
	} else if from, exit, ok := strings.Cut(c.FormValue("plus"), "."); ok && d.Editable {
		f, _ := strconv.Atoi(from)
		d.Panel, d.From, d.Exit = "insert", sequence.StepID(f), sequence.Exit(exit)
		for _, k := range sequence.Kinds() {
			i := slices.IndexFunc(d.Kinds, func(g kindGroup) bool { return g.Name == k.Sort })
			if i < 0 {
				i = len(d.Kinds)
				d.Kinds = append(d.Kinds, kindGroup{Name: k.Sort})
			}
			d.Kinds[i].Kinds = append(d.Kinds[i].Kinds, k)
		}
	}
	if d.Editable {
		d.Copied = s.copied(ctx)
	}
	d.Set = d.settings(q.Name, q.Note, q.Entry.V, d.Plan)
	adjust(&d)
	if err := s.figures(c, &d); err != nil {
		return err
	}
	if d.Panel == "step" && d.Editable {
		if d.Form, err = s.stepForm(ctx, &d, messages); err != nil {
			return err
		}
	}
	part := "work"
	switch target := c.Request().Header.Get("HX-Target"); {
	case target == "":
		part = ""
	case strings.Contains(target, "panel"):
		part = "panel"
	}
	return s.PageCode(c, code, "sequence.html", part, "Sequences", q.Name, d)
}

// asList reports whether somebody reads plans as lists: as they chose last, in this session.
func (s *Place) asList(c *echo.Context) bool {
	ctx := c.Request().Context()
	switch c.QueryParam("as") {
	case "list":
		s.Sessions.Put(ctx, "as list", true)
	case "map":
		s.Sessions.Remove(ctx, "as list")
	}
	return s.Sessions.GetBool(ctx, "as list")
}

func samePlan(a, b *sequence.Plan) bool {
	x, err1 := a.MarshalJSON()
	y, err2 := b.MarshalJSON()
	return err1 == nil && err2 == nil && bytes.Equal(x, y)
}

// figures draws the map with the people in it, or with its timing in a draft.
func (s *Place) figures(c *echo.Context, d *sequenceData) error {
	ctx := c.Request().Context()
	var f flowFigures
	if !d.Draft {
		d.Span = spanOf(c, s.Engine.Now().In(s.Engine.Zone()))
		kept, err := s.Store.StepFigures(ctx, d.Q.ID)
		if d.Span.Key != "" {
			kept, err = s.Store.StepFiguresIn(ctx, d.Q.ID, d.Span.In)
		}
		if err != nil {
			return err
		}
		f = flowFigures{passed: kept.Passed, here: kept.Here, results: kept.Results}
	}
	d.Map = drawMap(d, f)
	if d.AsList {
		d.Outline = d.outline(d.Map)
	}
	if !d.Draft {
		if err := s.happening(c, d); err != nil {
			return err
		}
	}
	if d.Step != nil {
		id := int32(d.Step.About().ID)
		all := f.counts(d.Step.About().ID)
		if s := d.Step.Kind().Results; slices.ContainsFunc(f.results, func(r store.StepResult) bool {
			return r.Step == id
		}) {
			d.Results = all.each(s)
		}
		d.Here = all[sequence.Here]
		if exits := d.Step.Exits(); len(exits) > 1 && !d.Draft {
			for _, e := range exits {
				d.Took = append(d.Took, tookExit{string(e), d.Step.Answer(e), f.took(id, string(e))})
			}
		}
		for _, x := range f.passed {
			if x.Step == id {
				d.Passed += x.N
				if x.Exit == "" && !sequence.Reason(x.Reason).Planned() {
					d.Left += x.N
				}
			}
		}
	}
	return nil
}

// happening adds what has just happened on a running sequence.
func (s *Place) happening(c *echo.Context, d *sequenceData) error {
	ctx := c.Request().Context()
	events, err := s.Store.Lately(ctx, d.Q.ID, 6)
	if err != nil {
		return err
	}
	for _, e := range events {
		x := lately{StepDone: e, Text: e.Reason}
		if st := d.Plan.Step(sequence.StepID(e.Step)); st != nil {
			x.Icon = st.Kind().Icon
			switch {
			case e.Exit != "" && st.Answer(sequence.Exit(e.Exit)) != "":
				x.Text = st.About().Title + ": " + st.Answer(sequence.Exit(e.Exit))
			case e.Exit != "" || sequence.Reason(e.Reason).Planned():
				x.Text = st.About().Title
			default:
				x.Text = "left at " + st.About().Title + ": " + e.Reason
			}
		}
		d.Lately = append(d.Lately, x)
	}
	return nil
}

// edit makes a change to the draft and shows the map again.
func (s *Place) edit(c *echo.Context, edit sequence.Edit) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	step, err := s.Engine.EditPlan(c.Request().Context(), id, stateN(c), edit)
	return s.edited(c, id, edit, step, err)
}

// stateN is the state of the draft that a form was drawn from; −1: it says none.
func stateN(c *echo.Context) int {
	n, err := strconv.Atoi(c.FormValue("n"))
	if err != nil {
		return -1
	}
	return n
}

// edited answers to a change of a draft: the map with the step to look at next, what
// is wrong, or that the draft was changed in another place.
func (s *Place) edited(c *echo.Context, id int64, edit sequence.Edit, step sequence.StepID, err error) error {
	switch {
	case err == nil:
		return s.goTo(c, id, step)
	case store.IsNotFound(err):
		return err
	case !errors.Is(err, flow.ErrChanged):
		text := shell.Sentence(err)
		return s.showSequence(c, http.StatusUnprocessableEntity, id, func(d *sequenceData) { d.Wrong = text })
	}
	draft, err := s.Store.Draft(c.Request().Context(), id)
	if err != nil {
		return err
	}
	mine := draft.Plan.V.Clone()
	_, step, cannot := edit.Apply(mine)
	return s.planConflict(c, id, &draft, mine, step, cannot)
}

// planConflict answers to a change of a draft that was changed in another place
// since: what was typed into a form stands beside what is there, to choose from.
// Where the change cannot be made any more, it says why.
func (s *Place) planConflict(
	c *echo.Context, id int64, draft *store.Draft, mine *sequence.Plan, step sequence.StepID, cannot error,
) error {
	ctx := c.Request().Context()
	q, err := s.Store.Sequence(ctx, id)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	theirs := draft.Plan.V
	var d shell.ConflictData
	a, b := theirs.Step(step), mine.Step(step)
	switch {
	case cannot == nil && a != nil && b != nil && v.Has("title"):
		list, err := s.Store.MessageNames(ctx)
		if err != nil {
			return err
		}
		names := sequence.Names{Messages: map[int64]string{}}
		for _, m := range list {
			names.Messages[m.ID] = m.Name
		}
		if names.Rules, err = s.Store.Catalogue(ctx); err != nil {
			return err
		}
		if names.Acts, err = s.ActChoices(ctx); err != nil {
			return err
		}
		d = stepConflict(a, b, names)
	case cannot == nil && v.Has("name"):
		cat, err := s.Store.Catalogue(ctx)
		if err != nil {
			return err
		}
		typed, err := readSettings(Typed{v, cat}, theirs)
		if err != nil {
			break
		}
		d.Words("Name", q.Name, typed.Name)
		d.Words("What it is for", q.Note, typed.Note)
		names, err := s.namesFor(ctx, cat)
		if err != nil {
			return err
		}
		d.Words("Who enters", names.enters(&q.Entry.V), names.enters(&typed.Entry))
		d.Words("Sending hours", theirs.Hours.String(), mine.Hours.String())
		d.Words("Launch hold", shell.YesNo(theirs.LaunchHold), shell.YesNo(mine.LaunchHold))
		d.Words("Ground", groundValue(theirs.Ground), v.Get("ground"))
		d.Words("Rest", theirs.Rest.String(), mine.Rest.String())
		d.Words("Longest stay", theirs.LongestStay.String(), mine.LongestStay.String())
		d.Words("Leaving", leaveWords(theirs, cat), leaveWords(mine, cat))
	}
	if len(d.Lines) == 0 {
		why := "This draft was changed in another place meanwhile. Here it is as it stands: look, and do it again if " +
			"you still want it."
		if cannot != nil {
			why += " What you did cannot be done to it: " + cannot.Error() + "."
		}
		if typed := person.Name(v.Get("title")); typed != "" {
			why += " You had typed “" + typed + "”" + guideOf(v) + "."
		}
		return s.showSequence(c, http.StatusConflict, id, func(d *sequenceData) { d.Wrong = why })
	}
	d.Name, d.Target, d.Base, d.State = q.Name, "work", "n", strconv.Itoa(draft.N)
	d.Action = c.Request().URL.Path
	d.Back = fmt.Sprintf("/sequences/%d?view=draft&step=%d", id, step)
	return s.Conflict(c, "Sequences", d, v)
}

func guideOf(v url.Values) string {
	if g := strings.TrimSpace(v.Get("guide")); g != "" {
		return " with the guide “" + g + "”"
	}
	return ""
}

// groundValue is a ground as readGround reads it.
func groundValue(g contact.Ground) string {
	switch {
	case g.Purpose != 0:
		return fmt.Sprintf("purpose %d", g.Purpose)
	case g.Other != "":
		return "other " + g.Other
	}
	return ""
}

// goTo shows the draft with a step chosen, in place where htmx asks.
func (s *Place) goTo(c *echo.Context, id int64, step sequence.StepID) error {
	to := fmt.Sprintf("/sequences/%d?view=draft", id)
	if step != 0 {
		to += fmt.Sprintf("&step=%d", step)
	}
	if !shell.IsHTMX(c) {
		return c.Redirect(http.StatusSeeOther, to)
	}
	c.Response().Header().Set("HX-Push-Url", to)
	return s.showSequence(c, http.StatusOK, id, func(d *sequenceData) {
		d.Panel = "sequence"
		if d.Step = d.Plan.Step(step); d.Step != nil {
			d.Panel, d.Said = "step", d.says(d.Step)
		}
	})
}

func (s *Place) insertStep(c *echo.Context) error {
	x := sequence.InsertStep{Kind: c.FormValue("kind")}
	x.From, x.Exits = place(c)
	return s.edit(c, x)
}

func (s *Place) changeStep(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(c.Request().Context(), id)
	if err != nil {
		return err
	}
	st := draft.Plan.V.Step(sequence.StepID(shell.Number(c.Param("step"))))
	if st == nil {
		return s.edit(c, sequence.RemoveStep{}) // says that it is not there, whatever else has changed
	}
	st = sequence.CloneStep(st)
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	typed := Typed{v, nil}
	if typed.Rules, err = s.Store.Catalogue(c.Request().Context()); err != nil {
		return err
	}
	st.About().Title = person.Name(v.Get("title"))
	if read := StepForms[st.Kind().Word].Read; read != nil {
		err = read(typed, st)
	}
	if do, _ := typed.Do(); do == "" && err == nil {
		return s.edit(c, sequence.ChangeStep{With: st})
	}
	// What was typed is shown again, as far as it could be read, and nothing is kept yet.
	code, wrong := http.StatusOK, ""
	if err != nil && v.Get("do") != "again" {
		code, wrong = http.StatusUnprocessableEntity, shell.Sentence(err)
	}
	return s.showSequence(c, code, id, func(d *sequenceData) {
		d.Panel, d.Step, d.Said, d.Wrong, d.Unsaved = "step", st, d.says(st), wrong, true
		if n, err := strconv.Atoi(v.Get("n")); err == nil {
			d.N = n // of the draft that it was typed into
		}
	})
}

func (s *Place) removeStep(c *echo.Context) error {
	return s.edit(c, sequence.RemoveStep{ID: sequence.StepID(shell.Number(c.Param("step")))})
}

func (s *Place) undo(by int) echo.HandlerFunc {
	return func(c *echo.Context) error {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if _, err := s.Engine.MoveDraft(c.Request().Context(), id, by); err != nil {
			return err
		}
		return s.goTo(c, id, 0)
	}
}

// readGround reads a ground as the settings' form writes it: "purpose 3", or the
// words of another behind "other ".
func readGround(s string) (contact.Ground, error) {
	if name, ok := strings.CutPrefix(s, "other "); ok && len(name) <= 200 {
		return contact.Ground{Other: person.Name(name)}, nil
	}
	if id, ok := strings.CutPrefix(s, "purpose "); ok {
		n, err := strconv.ParseInt(id, 10, 64)
		if err == nil && n > 0 {
			return contact.Ground{Purpose: n}, nil
		}
	}
	if s == "" { // none yet
		return contact.Ground{}, nil
	}
	return contact.Ground{}, plainly.New("choose the ground on which it reaches people")
}

// GroundWords says on what ground the sequence reaches people.
func (d sequenceData) GroundWords() string {
	g := d.Plan.Ground
	if g.Purpose == 0 {
		return g.Other
	}
	for _, p := range d.Purposes {
		if p.ID == g.Purpose {
			return "they agreed to “" + p.Name + "”"
		}
	}
	return "they agreed to a purpose that is not there any more"
}

// Routes are those of the place Sequences.
func (s *Place) Routes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	in.GET("/sequences", s.sequences)
	in.POST("/sequences", s.newSequence, writes)
	in.GET("/sequences/:id", s.sequence)
	in.POST("/sequences/:id/insert", s.insertStep, writes)
	in.POST("/sequences/:id/steps/:step", s.changeStep, writes)
	in.POST("/sequences/:id/steps/:step/remove", s.removeStep, writes)
	in.POST("/sequences/:id/steps/:step/copy", s.copyStep, writes)
	in.POST("/sequences/:id/steps/:step/cut", s.cutStep, writes)
	in.POST("/sequences/:id/move", s.moveStep, writes)
	in.GET("/sequences/:id/parts", s.parts)
	in.GET("/sequences/:id/ahead", s.ahead)
	in.GET("/sequences/:id/after", s.after)
	in.GET("/sequences/:id/weighed", s.weighed)
	in.GET("/sequences/:id/file", s.sequenceFile)
	in.POST("/sequences/import", s.bringSequence, writes)
	in.POST("/sequences/:id/steps/:step/making", s.setMaking, writes)
	in.POST("/sequences/:id/steps/:step/make", s.makePart, writes)
	in.POST("/sequences/:id/put", s.putBranch, writes)
	in.POST("/sequences/:id/join", s.joinStream, writes)
	in.POST("/sequences/:id/undo", s.undo(-1), writes)
	in.POST("/sequences/:id/redo", s.undo(1), writes)
	in.POST("/sequences/:id/settings", s.sequenceSettings, writes)
	in.GET("/sequences/:id/launch", s.askLaunch, writes)
	in.POST("/sequences/:id/launch", s.launch, writes)
	in.POST("/sequences/:id/copy", s.copySequence, writes)
	in.GET("/sequences/:id/end", s.askEnd, writes)
	in.POST("/sequences/:id/end", s.endSequence, writes)
	in.POST("/sequences/:id/remove", s.removeSequence, writes)
	in.POST("/sequences/:id/back", s.removeSequence, writes)
	in.POST("/sequences/:id/hold", s.hold, writes)
	in.POST("/sequences/:id/resume", s.resume, writes)
	in.GET("/sequences/printer", s.printer)
	in.GET("/sequences/printer/:id/:step", s.cardsOf)
	in.GET("/sequences/printer/:id/:step/cards.csv", s.cardsFile, writes)
	in.POST("/sequences/printer/:id/:step", s.cardsSent, writes)
	in.GET("/sequences/hold-all", s.askHoldAll, writes)
	in.POST("/sequences/hold-all", s.holdAll, writes)
	in.POST("/sequences/hold-all/:id/undo", s.takeBackHold, writes)
}

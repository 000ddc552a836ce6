package settings

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/setup"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// handingData is how people are handed over: to whom, what happens where nobody answers, and why they are sent back.
type handingData struct {
	Room      string
	Wrong     string
	W         base.Workspace
	Places    []placeLine
	Reps      []store.User
	Reasons   []reasonLine
	Sequences []store.SequenceName
	TurnsAre  string            // the state of all turns, as they stand
	Turned    map[int64]string  // turns as typed
	Typed     *store.BackReason // a reason as typed
}

type placeLine struct {
	store.Territory
	Words string
}

// reasonLine is why somebody is sent back, with the steps of the sequence in which nurture goes on.
type reasonLine struct {
	store.BackReason
	Is    string // its state, as it stands
	Steps []shell.Choice
}

// New is another reason as it was typed, and could not be kept.
func (d handingData) New() store.BackReason {
	if d.Typed != nil && d.Typed.ID == 0 {
		return *d.Typed
	}
	return store.BackReason{CoolOff: 30}
}

// Turns are those of a rep, as typed or as they stand.
func (d handingData) Turns(u store.User) string {
	if typed, ok := d.Turned[u.ID]; ok {
		return typed
	}
	return strconv.Itoa(u.Weight)
}

// turnsOf are the turns of all reps.
func turnsOf(reps []store.User) map[int64]int {
	out := map[int64]int{}
	for _, u := range reps {
		out[u.ID] = u.Weight
	}
	return out
}

// asSeen asks whether something is what a form says that it was when it was opened; nil: the form does not say.
func asSeen[T any](c *echo.Context) setup.Seen[T] {
	base := c.FormValue("base")
	if base == "" {
		return nil
	}
	return func(is T) bool { return shell.StateOf(is) == base }
}

func (s *Place) handing(c *echo.Context) error {
	return s.showHanding(c, http.StatusOK, handingData{W: s.Engine.Workspace()})
}

func (s *Place) showHanding(c *echo.Context, code int, d handingData) error {
	ctx := c.Request().Context()
	d.Room = "handing"
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	list, err := s.Store.Territories(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		d.Places = append(d.Places, placeLine{t, t.Rule.V.Words(cat)})
	}
	if d.Reps, err = s.Store.Users(ctx); err != nil {
		return err
	}
	d.Reps = slices.DeleteFunc(d.Reps, func(u store.User) bool { return u.Role != right.Rep })
	if d.Sequences, err = s.Store.RunningNames(ctx); err != nil {
		return err
	}
	reasons, err := s.Store.BackReasons(ctx)
	if err != nil {
		return err
	}
	d.TurnsAre = shell.StateOf(turnsOf(d.Reps))
	for _, r := range reasons {
		l := reasonLine{BackReason: r, Is: shell.StateOf(r)}
		if d.Typed != nil && d.Typed.ID == r.ID {
			l.BackReason = *d.Typed
			r = *d.Typed
		}
		if l.Steps, err = s.stepsOf(ctx, r.Sequence, r.Step); err != nil {
			return err
		}
		d.Reasons = append(d.Reasons, l)
	}
	return s.PageCode(c, code, "handing.html", "", "Settings", "Handing over", d)
}

// stepsOf lists the steps of the version of a sequence that runs.
func (s *Place) stepsOf(ctx context.Context, id int64, chosen int32) ([]shell.Choice, error) {
	if id == 0 {
		return nil, nil
	}
	q, err := s.Store.Sequence(ctx, id)
	if err != nil || q.Version == nil {
		return nil, err
	}
	v, err := s.Store.Version(ctx, *q.Version)
	if err != nil {
		return nil, err
	}
	out := []shell.Choice{{Value: "0", Words: "from its beginning"}}
	for _, l := range v.Plan.V.Outline() {
		if !l.Again && l.Step.Kind().Word != "end" {
			x := l.Step.About()
			out = append(out, shell.Choice{Value: strconv.Itoa(int(x.ID)), Words: "at “" + x.Title + "”",
				Chosen: x.ID == sequence.StepID(chosen)})
		}
	}
	return out, nil
}

// saveClock keeps what happens where nobody answers.
func (s *Place) saveClock(c *echo.Context) error {
	w := s.Engine.Workspace()
	w.RespondIn, w.Silent = int(shell.Number(c.FormValue("respond"))), c.FormValue("remind") == "no"
	w.TellLead, w.OfferNext = int(shell.Number(c.FormValue("lead"))), int(shell.Number(c.FormValue("next")))
	change, err := s.Engine.ChangeWorkspace(c.Request().Context(), w, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.showHanding(c, http.StatusUnprocessableEntity,
			handingData{W: w, Wrong: shell.Sentence(err) + " Nothing was changed."})
	}
	if err != nil {
		return err
	}
	return s.saved(c, "/settings/handing", change)
}

const handing = "/settings/handing"

// movedOn is said where two have changed the same.
const movedOn = "Somebody else has changed this meanwhile. Save again, and yours takes the place of theirs; or " +
	"reload the page to see theirs."

// orWrong answers what users read of an error on the page of handing over, with what was typed.
func (s *Place) orWrong(c *echo.Context, err error, d handingData) error {
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	d.W, d.Wrong = s.Engine.Workspace(), shell.Sentence(err)+" Nothing was changed; what you typed is still here."
	if errors.Is(err, setup.ErrTurnedSince) {
		d.Wrong = movedOn
	}
	return s.showHanding(c, http.StatusUnprocessableEntity, d)
}

func (s *Place) saveTurns(c *echo.Context) error {
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	var ids []int64
	var weights []int
	typed := map[int64]string{}
	for name := range v {
		if id, ok := strings.CutPrefix(name, "turns."); ok && len(ids) < 2000 {
			w, err := strconv.Atoi(strings.TrimSpace(v.Get(name)))
			if err != nil {
				w = -1 // which nobody has
			}
			ids, weights = append(ids, shell.Number(id)), append(weights, w)
			typed[shell.Number(id)] = v.Get(name)
		}
	}
	change, err := s.Engine.SetWeights(c.Request().Context(), ids, weights, asSeen[map[int64]int](c),
		shell.UserOf(c).ID)
	if err != nil {
		return s.orWrong(c, err, handingData{Turned: typed})
	}
	return s.saved(c, handing, change)
}

func (s *Place) saveReason(c *echo.Context) error {
	r := store.BackReason{Name: person.Name(c.FormValue("name")), GoesOn: c.FormValue("on"),
		Step: int32(min(max(shell.Number(c.FormValue("step")), 0), 1<<30))}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		r.ID = id
	}
	var err error
	if r.CoolOff, err = strconv.Atoi(strings.TrimSpace(c.FormValue("cool"))); err != nil {
		r.CoolOff = -1
	}
	if id := shell.Number(r.GoesOn); id > 0 {
		r.GoesOn, r.Sequence = store.OnWith, id
	}
	change, err := s.Engine.KeepBackReason(c.Request().Context(), r, asSeen[store.BackReason](c),
		shell.UserOf(c).ID)
	if err != nil {
		return s.orWrong(c, err, handingData{Typed: &r})
	}
	return s.saved(c, handing, change)
}

func (s *Place) removeReason(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back := c.FormValue("back") != ""
	if err := s.Engine.RemoveBackReason(c.Request().Context(), id, back, shell.UserOf(c).ID); err != nil {
		return err
	}
	if back {
		return s.Done(c, handing, "It is back.")
	}
	return s.DoneUndo(c, handing, "The reason is gone.", fmt.Sprintf("/settings/handing/reasons/%d/remove?back=1", id))
}

func (s *Place) removeTerritory(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back := c.FormValue("back") != ""
	if err := s.Engine.RemoveTerritory(c.Request().Context(), id, back, shell.UserOf(c).ID); err != nil {
		return err
	}
	if back {
		return s.Done(c, handing, "It is back.")
	}
	return s.DoneUndo(c, handing, "The territory is gone.",
		fmt.Sprintf("/settings/handing/territories/%d/remove?back=1", id))
}

func (s *Place) moveTerritory(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	by := 1
	if c.FormValue("up") != "" {
		by = -1
	}
	if err := s.Engine.MoveTerritory(c.Request().Context(), id, by, shell.UserOf(c).ID); err != nil {
		return err
	}
	return s.Done(c, handing, "Saved.")
}

// territoryForm is a territory as it is typed.
type territoryForm struct {
	Room   string
	T      store.Territory
	Base   string // the state that the form began with
	To     string // "user 3" or "team 2"
	Reps   []store.User
	Teams  []store.Team
	Editor shell.RuleView
	Count  *shell.Roughly
	Wrong  string
}

// territoryOf reads a territory, with what is typed of it.
func (s *Place) territoryOf(c *echo.Context) (d territoryForm, cat *rule.Catalogue, err error) {
	ctx := c.Request().Context()
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return d, nil, err
		}
		if d.T, err = s.Store.Territory(ctx, id); err != nil {
			return d, nil, err
		}
		if d.Base = c.FormValue("base"); d.Base == "" {
			d.Base = shell.StateOf(d.T)
		}
	}
	if cat, err = s.Store.Catalogue(ctx); err != nil {
		return d, nil, err
	}
	v, err := c.FormValues()
	if err != nil {
		return d, nil, err
	}
	r, there, err := shell.ReadRule(v, cat)
	if err != nil {
		return d, nil, echo.ErrBadRequest.Wrap(err)
	}
	if there {
		d.T.Rule.V, d.T.Name, d.T.User, d.T.Team = r, person.Name(v.Get("name")), 0, 0
		what, id, _ := strings.Cut(v.Get("to"), " ")
		switch what {
		case "user":
			d.T.User = shell.Number(id)
		case "team":
			d.T.Team = shell.Number(id)
		}
	}
	return d, cat, nil
}

func (s *Place) territory(c *echo.Context) error {
	d, cat, err := s.territoryOf(c)
	if err != nil {
		return err
	}
	return s.showTerritory(c, http.StatusOK, d, cat)
}

func (s *Place) showTerritory(c *echo.Context, code int, d territoryForm, cat *rule.Catalogue) error {
	ctx := c.Request().Context()
	var err error
	d.Room = "handing"
	if d.Reps, err = s.Store.Users(ctx); err != nil {
		return err
	}
	d.Reps = slices.DeleteFunc(d.Reps, func(u store.User) bool { return u.Role != right.Rep })
	if d.Teams, err = s.Store.Teams(ctx); err != nil {
		return err
	}
	asks := slices.DeleteFunc(rule.Subjects(cat), func(x rule.Subject) bool {
		return strings.HasPrefix(x.Key, "signal ")
	})
	d.Editor = shell.ViewRuleAt(d.T.Rule.V, "r", cat, asks)
	if whole := shell.Complete(d.T.Rule.V, cat); whole.Asks() {
		if d.Count, err = s.HowMany(ctx, whole); err != nil {
			return err
		}
	}
	title := "Another territory"
	if d.T.ID != 0 {
		title = d.T.Name
	}
	return s.PageCode(c, code, "territory.html", "form", "Settings", title, d)
}

func (s *Place) saveTerritory(c *echo.Context) error {
	d, cat, err := s.territoryOf(c)
	if err != nil {
		return err
	}
	if do := c.FormValue("do"); do != "" && do != "save" { // an edit without the page's script
		return s.showTerritory(c, http.StatusOK, d, cat)
	}
	_, _, err = s.Engine.KeepTerritory(c.Request().Context(), d.T, asSeen[store.Territory](c), shell.UserOf(c).ID)
	if errors.Is(err, setup.ErrTurnedSince) {
		is, err := s.Store.Territory(c.Request().Context(), d.T.ID)
		if err != nil {
			return err
		}
		d.Wrong, d.Base = movedOn, shell.StateOf(is)
		return s.showTerritory(c, http.StatusUnprocessableEntity, d, cat)
	}
	if _, plain := plainly.Says(err); err != nil && plain {
		d.Wrong = shell.Sentence(err) + " What you typed is still here."
		return s.showTerritory(c, http.StatusUnprocessableEntity, d, cat)
	}
	if err != nil {
		return err
	}
	return s.Done(c, handing, "Saved. It counts for whoever is handed over from now on.")
}

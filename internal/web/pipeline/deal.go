package pipeline

import (
	"context"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/shelf"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

var (
	sellers = []right.Role{right.Rep, right.Lead, right.Admin}
	leads   = []right.Role{right.Lead, right.Admin}
)

// dealData is a deal with its history, and all that was sent and said.
type dealData struct {
	pipes
	D       store.Deal
	Stage   pipeline.Figures
	Stages  []pipeline.Stage
	Slow    bool
	May     bool
	Users   []store.User
	Moves   []store.DealMove
	Changes []store.DealChange
	People  []store.DealPart
	Parts   []pipeline.Part
	There   []store.DealPart // others at the company, who could take part
	Files   []store.DealFile
	Money   []string // currencies to choose from
	Source  string   // the sequence it came from
	Touches []store.Touch
	Notes   []store.Note
	Wrong   string
	Typed   map[string]string // as it was typed, where it could not be kept
}

func (s *Place) deal(c *echo.Context) error {
	return s.showDeal(c, http.StatusOK, "", nil)
}

func (s *Place) showDeal(c *echo.Context, code int, wrong string, typed map[string]string) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := dealData{Wrong: wrong, Typed: typed}
	if d.D, err = s.Store.Deal(ctx, id); err != nil {
		return err
	}
	figures, err := s.Engine.StageFigures(ctx)
	if err != nil {
		return err
	}
	if d.pipes.List, err = s.Store.Pipelines(ctx); err != nil {
		return err
	}
	for _, f := range figures {
		d.Stages = append(d.Stages, f.Stage)
		if f.ID == d.D.Stage {
			d.Stage = f
		}
	}
	d.Slow = d.D.Closed == nil && d.Stage.Slow > 0 && s.Engine.Now().Sub(d.D.Moved) > d.Stage.Slow
	u := shell.UserOf(c)
	d.May = (shell.View{User: u}).May(leads...) ||
		u.Role == right.Rep && (d.D.Rep == nil || *d.D.Rep == u.ID)
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if err := s.around(ctx, &d); err != nil {
		return err
	}
	if d.Moves, err = s.Store.DealMoves(ctx, id); err != nil {
		return err
	}
	if d.Changes, err = s.Store.DealChanges(ctx, id); err != nil {
		return err
	}
	if d.Touches, err = s.Store.LastTouchesOf(ctx, d.D.Person, 20); err != nil {
		return err
	}
	if d.Notes, err = s.Store.Notes(ctx, d.D.Person); err != nil {
		return err
	}
	return s.PageCode(c, code, "deal.html", "", "Pipeline", d.D.Name, d)
}

// around reads who takes part in a deal, its files, and where it came from.
func (s *Place) around(ctx context.Context, d *dealData) (err error) {
	d.Parts = pipeline.Parts()
	if d.People, err = s.Store.DealPeople(ctx, d.D.ID); err != nil {
		return err
	}
	if d.There, err = s.Store.CouldTakePart(ctx, d.D.ID); err != nil {
		return err
	}
	if d.Files, err = s.Store.DealFiles(ctx, d.D.ID); err != nil {
		return err
	}
	if d.Money, err = s.currencies(ctx, d.D.Currency); err != nil || d.D.Sequence == 0 {
		return err
	}
	seq, err := s.Store.Sequence(ctx, d.D.Sequence)
	if store.IsNotFound(err) {
		return nil
	}
	d.Source = seq.Name
	return err
}

// currencies are those to choose from: the workspace’s, those of which a rate is known, and the one that is chosen.
func (s *Place) currencies(ctx context.Context, chosen string) ([]string, error) {
	base := s.Engine.Workspace().Currency
	rates, err := s.Store.Rates(ctx, base)
	list := []string{base}
	for _, r := range rates {
		list = append(list, r.Currency)
	}
	if chosen != "" {
		list = append(list, chosen)
	}
	slices.Sort(list)
	return slices.Compact(list), err
}

// StagesOf lists the stages of a pipeline.
func (d dealData) StagesOf(pipe int64) (out []pipeline.Stage) {
	for _, st := range d.Stages {
		if st.Pipeline == pipe {
			out = append(out, st)
		}
	}
	return out
}

// Percent is a share in words.
func (dealData) Percent(share float64) string { return fmt.Sprintf("%.0f %%", share*100) }

// Was is what stands in a field: as it was typed, or as it is kept.
func (d dealData) Was(field string) string {
	if d.Typed != nil {
		return d.Typed[field]
	}
	day := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.DateOnly)
	}
	return map[string]string{"name": d.D.Name, "expected": day(d.D.Expected), "next": d.D.Next,
		"next_on": day(d.D.NextOn), "reason": d.D.Reason}[field]
}

// Became is a change in words, amounts as money.
func (d dealData) Became(c store.DealChange, v shell.View, was bool) string {
	text := c.Became
	if was {
		text = c.Was
	}
	if c.What == "amount" {
		return v.Money(shell.Number(text))
	}
	if text == "" {
		return "nothing"
	}
	return text
}

// planDeal keeps what is planned for a deal.
func (s *Place) planDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	p := store.DealPlan{Name: c.FormValue("name"), Next: c.FormValue("next"), Reason: c.FormValue("reason")}
	typed := map[string]string{}
	for _, f := range []string{"name", "next", "expected", "next_on", "reason"} {
		typed[f] = c.FormValue(f)
	}
	for field, to := range map[string]**time.Time{"expected": &p.Expected, "next_on": &p.NextOn} {
		text := strings.TrimSpace(c.FormValue(field))
		if text == "" {
			continue
		}
		t, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return s.showDeal(c, http.StatusUnprocessableEntity, fmt.Sprintf("“%s” is no day.", text), typed)
		}
		*to = &t
	}
	err = s.Engine.PlanDeal(c.Request().Context(), id, p, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.showDeal(c, http.StatusUnprocessableEntity, shell.Sentence(err), typed)
	}
	if err != nil {
		return shell.NotYours(err)
	}
	return s.Done(c, fmt.Sprintf("/pipeline/%d", id), "Saved.")
}

// giveDeal gives a deal to somebody.
func (s *Place) giveDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	return s.changed(c, id, "Saved.",
		s.Engine.GiveDeal(c.Request().Context(), id, shell.Number(c.FormValue("to")), shell.UserOf(c).ID))
}

// afterwards is where a change of a deal leads: to its page, where it was made there; else to the board.
func afterwards(c *echo.Context, id int64) string {
	switch pipe := shell.Number(c.FormValue("pipe")); {
	case c.FormValue("back") == "deal":
		return fmt.Sprintf("/pipeline/%d", id)
	case pipe != 0:
		return boardAt(pipe, 0)
	}
	return "/pipeline"
}

// both reads the two numbers of an address.
func both(c *echo.Context, other string) (deal, id int64, err error) {
	if deal, err = shell.IDOf(c, "id"); err == nil {
		id, err = shell.IDOf(c, other)
	}
	return deal, id, err
}

// addPart has somebody take part in a deal, by their address or number.
func (s *Place) addPart(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if _, err := s.Store.Deal(c.Request().Context(), id); err != nil {
		return err
	}
	who, err := s.personOf(c, c.FormValue("who"))
	if err != nil {
		return err
	}
	if who == 0 {
		return s.NotDone(c, afterwards(c, id), "Nobody here has that email address.")
	}
	return s.changed(c, id, "They take part.",
		s.Engine.SetPart(c.Request().Context(), id, who, pipeline.Part(c.FormValue("part")), shell.UserOf(c).ID))
}

// personOf finds somebody by their email address, or their number; 0: there is nobody.
func (s *Place) personOf(c *echo.Context, text string) (int64, error) {
	text = strings.TrimSpace(text)
	if n := shell.Number(text); n > 0 {
		p, err := s.Store.Person(c.Request().Context(), n)
		if store.IsNotFound(err) {
			return 0, nil
		}
		return p.ID, err
	}
	email, err := person.Email(text)
	if err != nil {
		return 0, nil
	}
	p, err := s.Store.PersonByEmail(c.Request().Context(), email)
	if store.IsNotFound(err) {
		return 0, nil
	}
	return p.ID, err
}

func (s *Place) setPart(c *echo.Context) error {
	deal, who, err := both(c, "person")
	if err != nil {
		return err
	}
	return s.changed(c, deal, "Saved.",
		s.Engine.SetPart(c.Request().Context(), deal, who, pipeline.Part(c.FormValue("part")), shell.UserOf(c).ID))
}

func (s *Place) removePart(c *echo.Context) error {
	deal, who, err := both(c, "person")
	if err != nil {
		return err
	}
	return s.changed(c, deal, "They take no part any more.",
		s.Engine.RemovePart(c.Request().Context(), deal, who, shell.UserOf(c).ID))
}

// addFile keeps a file with a deal.
func (s *Place) addFile(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	data, name, err := shell.Uploaded(c, "file", pipeline.MaxFile)
	if err == nil && data == nil {
		err = plainly.New("choose a file first")
	}
	if err == nil {
		err = s.Engine.AttachFile(c.Request().Context(), store.DealFile{Deal: id, Name: shelf.SafeName(name),
			Type: http.DetectContentType(data)}, data, shell.UserOf(c).ID)
	}
	return s.changed(c, id, "The file is kept.", err)
}

// file answers a file, to be kept: nothing that was sent in is shown as a page of ours.
func (s *Place) file(c *echo.Context) error {
	deal, id, err := both(c, "file")
	if err != nil {
		return err
	}
	f, data, err := s.Store.DealFile(c.Request().Context(), deal, id)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
	h.Set("X-Content-Type-Options", "nosniff")
	return c.Blob(http.StatusOK, "application/octet-stream", data)
}

func (s *Place) removeFile(c *echo.Context) error {
	deal, id, err := both(c, "file")
	if err != nil {
		return err
	}
	return s.changed(c, deal, "The file is gone.",
		s.Engine.RemoveFile(c.Request().Context(), deal, id, shell.UserOf(c).ID))
}

// addNote keeps a note with whom the deal is about.
func (s *Place) addNote(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d, err := s.Store.Deal(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return s.changed(c, id, "Noted.", s.Engine.AddNote(c.Request().Context(), d.Person, shell.UserOf(c).ID,
		c.FormValue("text")))
}

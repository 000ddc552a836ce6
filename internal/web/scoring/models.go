package scoring

import (
	"net/url"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// about is what every room says of the model that it is about, and of its draft.
type about struct {
	ID      int64  // as requests name it; 0: the first
	Query   string // what addresses of its rooms end with
	Name    string
	Models  []rule.Scored // all there are, where there are several
	There   bool          // a draft is being made
	By      string
	At      time.Time
	Version int // that counts meanwhile; 0: none does yet
}

// Title is what a room is called in the window: with the model, where there are several.
func (a about) Title(room string) string {
	if len(a.Models) > 1 {
		return room + ": " + a.Name
	}
	return room
}

// modelOf is the model that a request names; 0: the first.
func modelOf(c *echo.Context) int64 { return max(shell.Number(c.FormValue("model")), 0) }

// to is an address of the model that a request is about.
func to(c *echo.Context, path string) string { return path + queryOf(modelOf(c)) }

func queryOf(model int64) string {
	if model == 0 {
		return ""
	}
	return "?" + url.Values{"model": {strconv.FormatInt(model, 10)}}.Encode()
}

// modelAndCatalogue reads the model that a request is about, and what there is to ask for. Where there is no model yet,
// it is one to begin with.
func (s *Place) modelAndCatalogue(c *echo.Context) (m store.Model, cat *rule.Catalogue, is about, err error) {
	ctx, id := c.Request().Context(), modelOf(c)
	m, err = s.Store.ModelOf(ctx, id)
	if store.IsNotFound(err) && id != 0 {
		return m, nil, is, echo.ErrNotFound
	}
	if err != nil && !store.IsNotFound(err) {
		return m, nil, is, err
	}
	if m.ID == 0 {
		m = store.Model{Model: score.Model{Name: "Engagement", Line: 15}}
	}
	if cat, err = s.Store.Catalogue(ctx); err != nil {
		return m, nil, is, err
	}
	is = about{ID: id, Query: queryOf(id), Name: m.Name, There: m.Draft != nil, By: m.DraftBy, At: m.DraftAt,
		Version: m.Version}
	if len(cat.Models) > 1 {
		is.Models = cat.Models
	}
	return m, cat, is, nil
}

// modelLine is a model in the list of them.
type modelLine struct {
	store.Model
	Query        string
	First        bool
	People, Over int64
}

type modelsData struct {
	Is   about
	List []modelLine
	Most bool // there can be no more
}

// models lists them.
func (s *Place) models(c *echo.Context) error {
	ctx := c.Request().Context()
	_, _, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	list, err := s.Store.Models(ctx)
	if err != nil {
		return err
	}
	d := modelsData{Is: is, Most: len(list) >= people.MaxModels}
	for i := range list {
		l := modelLine{Model: list[i], First: i == 0}
		if i > 0 {
			l.Query = queryOf(l.ID)
		}
		if l.People, err = s.scoredFrom(ctx, l.ID, 1); err != nil {
			return err
		}
		if l.Line > 0 {
			if l.Over, err = s.scoredFrom(ctx, l.ID, l.Line); err != nil {
				return err
			}
		}
		d.List = append(d.List, l)
	}
	return s.Page(c, "models.html", "", "Scoring", "Models", d)
}

func (s *Place) addModel(c *echo.Context) error {
	id, err := s.Engine.AddModel(c.Request().Context(), c.FormValue("name"), shell.Number(c.FormValue("like")),
		shell.UserOf(c).ID)
	if err != nil {
		return s.orSaid(c, "/scoring/models", err)
	}
	return s.Done(c, "/scoring"+queryOf(id), "It is a draft. It counts for nobody until it takes over.")
}

func (s *Place) renameModel(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.RenameModel(c.Request().Context(), id, c.FormValue("name")); err != nil {
		return s.orSaid(c, "/scoring/models", err)
	}
	return s.Done(c, "/scoring/models", "It is called so now.")
}

func (s *Place) removeModel(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if c.FormValue("sure") == "" {
		return s.NotDone(c, "/scoring/models", "Say that it may go: its rules, its versions and everybody’s score by "+
			"it are lost by that.")
	}
	if err := s.Engine.RemoveModel(c.Request().Context(), id); err != nil {
		return s.orSaid(c, "/scoring/models", err)
	}
	return s.Done(c, "/scoring/models", "It is gone. Handoffs and whatever else came of it stay.")
}

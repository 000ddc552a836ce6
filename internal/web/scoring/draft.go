package scoring

import (
	"fmt"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type draftData struct {
	Model    store.Model
	Is       about
	Changes  []score.Difference
	Work     *store.Batch   // that counts what it would change; nil: it was not asked for
	Preview  *store.Preview // what it has counted so far
	Bands    []bandCount
	Up, Down []store.Face
	Wrong    string
}

// bandCount is how many people are in a band, now and then.
type bandCount struct {
	Band      rule.Band
	Now, Then int64
}

// More is how many there are of whom nobody is named.
func (draftData) More(c store.Counted) int64 { return c.N - int64(len(c.IDs)) }

// draft shows what the draft says otherwise, and what it would change.
func (s *Place) draft(c *echo.Context) error {
	ctx := c.Request().Context()
	m, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	d := draftData{Model: m, Is: is}
	if m.Draft == nil {
		return s.Page(c, "draft.html", "draft", "Scoring", "What the draft changes", d)
	}
	d.Changes = score.Differences(&m.Model, m.Draft, cat)
	b, err := s.Store.Previewed(ctx, m.ID)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	if p := b.Detail.V.Preview; err == nil && p != nil && p.Draft == m.DraftChanges {
		d.Work, d.Preview = &b, p
		for i, band := range m.Draft.Bands {
			if i < len(p.Now) {
				d.Bands = append(d.Bands, bandCount{band, p.Now[i], p.Then[i]})
			}
		}
		if d.Up, err = s.Store.Faces(ctx, p.Up.IDs); err != nil {
			return err
		}
		if d.Down, err = s.Store.Faces(ctx, p.Down.IDs); err != nil {
			return err
		}
	}
	return s.Page(c, "draft.html", "draft", "Scoring", "What the draft changes", d)
}

func (s *Place) countDraft(c *echo.Context) error {
	if _, err := s.Engine.PreviewDraft(c.Request().Context(), modelOf(c), shell.UserOf(c).ID); err != nil {
		return s.orSaid(c, to(c, "/scoring/draft"), err)
	}
	return s.Done(c, to(c, "/scoring/draft"), "It is being counted. You can leave this page meanwhile.")
}

// orSaid tells users what was wrong where the error is for them.
func (s *Place) orSaid(c *echo.Context, back string, err error) error {
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	return s.NotDone(c, back, shell.Sentence(err))
}

func since(c *echo.Context) int { return int(shell.Number(c.FormValue("since"))) }

func (s *Place) takeOver(c *echo.Context) error {
	version, err := s.Engine.TakeOver(c.Request().Context(), modelOf(c), since(c), c.FormValue("note"),
		shell.UserOf(c).ID)
	if err != nil {
		return s.orSaid(c, to(c, "/scoring/draft"), err)
	}
	return s.Done(c, to(c, "/scoring"), fmt.Sprintf("Version %d counts now. Every score is counted again; nobody is "+
		"handed over by the change itself.", version))
}

func (s *Place) dropDraft(c *echo.Context) error {
	if c.FormValue("sure") == "" {
		return s.NotDone(c, to(c, "/scoring/draft"), "Say that it may go: what the draft says is lost by that.")
	}
	if err := s.Engine.DropDraft(c.Request().Context(), modelOf(c), since(c), shell.UserOf(c).ID); err != nil {
		return s.orSaid(c, to(c, "/scoring/draft"), err)
	}
	return s.Done(c, to(c, "/scoring"), "The draft is gone. What counts is as it was.")
}

// mostVersions is how many of a model are listed.
const mostVersions = 100

type versionsData struct {
	Model store.Model
	Is    about
	List  []versionLine
}

type versionLine struct {
	store.ModelVersion
	Changes []score.Difference
}

// versions lists how the model came to be what it is.
func (s *Place) versions(c *echo.Context) error {
	ctx := c.Request().Context()
	m, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	list, err := s.Store.ModelVersions(ctx, m.ID, mostVersions+1)
	if err != nil {
		return err
	}
	d := versionsData{Model: m, Is: is}
	for i := range list[:min(len(list), mostVersions)] {
		l := versionLine{ModelVersion: list[i]}
		if i+1 < len(list) {
			l.Changes = score.Differences(&list[i+1].Model.V, &list[i].Model.V, cat)
		}
		d.List = append(d.List, l)
	}
	return s.Page(c, "versions.html", "", "Scoring", "Versions of the points", d)
}

func (s *Place) draftFrom(c *echo.Context) error {
	number, err := shell.IDOf(c, "number")
	if err != nil {
		return err
	}
	err = s.Engine.DraftFrom(c.Request().Context(), modelOf(c), int(number), since(c), shell.UserOf(c).ID)
	if err != nil {
		return s.orSaid(c, to(c, "/scoring/versions"), err)
	}
	return s.Done(c, to(c, "/scoring"),
		fmt.Sprintf("Version %d is the draft now. It counts once it takes over.", number))
}

// mostLifted is how many are named who came over the line by a change.
const mostLifted = 500

type liftedData struct {
	Is       about
	Line     int
	List     []store.Lifted
	N, Plans int64
}

// lifted lists who came over the line because the model changed.
func (s *Place) lifted(c *echo.Context) error {
	ctx := c.Request().Context()
	m, _, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	d := liftedData{Is: is, Line: m.Line}
	if d.N, d.Plans, err = s.Store.LiftedWaiting(ctx, m.ID); err != nil {
		return err
	}
	if d.List, err = s.Store.LiftedBy(ctx, m.ID, mostLifted); err != nil {
		return err
	}
	return s.Page(c, "lifted.html", "", "Scoring", "Over the line by the change", d)
}

func (s *Place) handLifted(c *echo.Context) error {
	ctx := c.Request().Context()
	if c.FormValue("do") == "forget" {
		n, err := s.Engine.ForgetLifted(ctx, modelOf(c))
		if err != nil {
			return s.orSaid(c, to(c, "/scoring/lifted"), err)
		}
		return s.Done(c, to(c, "/scoring"), fmt.Sprintf("%d stay where they are. What they do from now on can still "+
			"bring them over the line.", n))
	}
	n, err := s.Engine.HandLifted(ctx, modelOf(c), int(shell.Number(c.FormValue("aday"))))
	if err != nil {
		return s.orSaid(c, to(c, "/scoring/lifted"), err)
	}
	return s.Done(c, to(c, "/scoring/lifted"), fmt.Sprintf("%d are handed over, day by day.", n))
}

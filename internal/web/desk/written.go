package desk

import (
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// hitsShown is how many letters a search shows at a time.
const hitsShown = 40

// writtenData is a search of everything that was written with people.
type writtenData struct {
	Room  string
	Text  string
	Hits  []store.Hit
	Older string // address of what is older; empty: nothing is
	Name  string
	Wrong string
	Copy  string // the user's secret address; empty: none
}

// Sides are who of them an audience can be made of.
func (writtenData) Sides() []store.Side { return store.Sides() }

// Marked is what was found, with its words marked.
func (writtenData) Marked(found string) template.HTML {
	s := template.HTMLEscapeString(found)
	return template.HTML(strings.NewReplacer("\ue000", "<mark>", "\ue001", "</mark>").Replace(s))
}

func (s *Place) written(c *echo.Context) error { return s.showWritten(c, http.StatusOK, writtenData{}) }

func (s *Place) showWritten(c *echo.Context, code int, d writtenData) error {
	ctx := c.Request().Context()
	d.Room = "written"
	if d.Text == "" {
		d.Text = strings.TrimSpace(c.QueryParam("q"))
	}
	d.Text = strings.ToValidUTF8(d.Text[:min(len(d.Text), 300)], "")
	before := s.Engine.Now().Add(time.Hour)
	if at := shell.Number(c.QueryParam("before")); at > 0 {
		before = time.UnixMicro(at).UTC()
	}
	var err error
	if d.Text != "" {
		if d.Hits, err = s.Store.SearchWritten(ctx, d.Text, before, hitsShown); err != nil {
			return err
		}
	}
	if n := len(d.Hits); n == hitsShown {
		d.Older = "/desk/written?" + url.Values{"q": {d.Text},
			"before": {fmt.Sprint(d.Hits[n-1].At.UnixMicro())}}.Encode()
	}
	key, err := s.Store.CopyKey(ctx, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	d.Copy = s.Engine.CopyAddress(key)
	return s.PageCode(c, code, "written.html", "", "Desk", "Letters", d)
}

// writtenAudience makes an audience of who wrote or got what was found.
func (s *Place) writtenAudience(c *echo.Context) error {
	d := writtenData{Text: c.FormValue("q"), Name: c.FormValue("name")}
	id, n, err := s.Engine.AudienceOfWritten(c.Request().Context(), d.Name, d.Text, store.Side(c.FormValue("side")))
	if _, plain := plainly.Says(err); plain {
		d.Wrong = shell.Sentence(err)
		return s.showWritten(c, http.StatusUnprocessableEntity, d)
	}
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/people/audiences/%d", id), fmt.Sprintf("It is made, of %d.", n))
}

// renewCopy gives the user another secret address for copies, or none.
func (s *Place) renewCopy(c *echo.Context) error {
	if err := s.Engine.RenewCopy(c.Request().Context(), shell.UserOf(c).ID, c.FormValue("off") != ""); err != nil {
		return err
	}
	return s.Done(c, "/desk/written", "The address of before leads nowhere any more.")
}

// writtenRoutes are those of the search of letters.
func (s *Place) writtenRoutes(in *echo.Group) {
	in.GET("/desk/written", s.written)
	in.POST("/desk/written/audience", s.writtenAudience, shell.Allow(right.Marketer, right.Lead, right.Admin))
	in.POST("/desk/written/copy", s.renewCopy)
}

package content

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/post"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type proofData struct {
	ID        int64
	P         post.Proof
	Doc       *message.Document
	Audiences []store.Audience
	In        int64
	Stopped   []stoppedLine
}

type stoppedLine struct {
	post.Stopped
	Group  string
	People string // address of the list
}

// readersOf is whom a preview or a proof is for: an audience, or everybody who
// could be written to.
func readersOf(audience int64) rule.Rule {
	if audience > 0 {
		return rule.ThingIs(rule.Audience, audience)
	}
	return rule.Rule{If: &rule.Condition{Field: person.EmailField, Op: rule.Known}}
}

func (s *Place) proof(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := proofData{ID: id, In: shell.Number(c.QueryParam("in"))}
	draft, err := s.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	d.Doc = &draft.Doc.V
	if d.Audiences, err = s.Store.Audiences(ctx); err != nil {
		return err
	}
	if d.P, err = s.Engine.Proof(ctx, d.Doc, draft.FromOwner, draft.SenderID, readersOf(d.In)); err != nil {
		return err
	}
	for _, x := range d.P.Stopped {
		d.Stopped = append(d.Stopped,
			stoppedLine{x, d.Doc.GroupName(x.Group),
				"/people?" +
					shell.ListQuery{Rule: x.Rule, Order: store.ByScore, Columns: shell.UsualColumns}.Values().Encode()})
	}
	return c.Render(http.StatusOK, "message.html#proof", s.View(c, "Content", "Proof", d))
}

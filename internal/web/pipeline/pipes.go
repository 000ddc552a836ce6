package pipeline

import (
	"net/url"
	"strconv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/web/shell"
)

// pipes is which pipeline a page shows, among all.
type pipes struct {
	List []pipeline.Pipeline
	Pipe pipeline.Pipeline // the one that is shown
}

// Many reports whether there is something to choose.
func (p pipes) Many() bool { return len(p.List) > 1 }

// pipesOf reads which pipeline is meant: the one in the address, else that of the user’s team, else the first.
func (s *Place) pipesOf(c *echo.Context) (p pipes, err error) {
	if p.List, err = s.Store.Pipelines(c.Request().Context()); err != nil || len(p.List) == 0 {
		return p, err
	}
	asked, team := shell.Number(c.FormValue("pipe")), shell.UserOf(c).Team
	p.Pipe = p.List[0]
	for i := len(p.List) - 1; i >= 0; i-- {
		if team != nil && p.List[i].Team == *team {
			p.Pipe = p.List[i]
		}
	}
	for _, x := range p.List {
		if x.ID == asked {
			p.Pipe = x
		}
	}
	return p, nil
}

// boardAt is the address of a board.
func boardAt(pipe, whole int64) string {
	v := url.Values{"pipe": {strconv.FormatInt(pipe, 10)}}
	if whole != 0 {
		v.Set("stage", strconv.FormatInt(whole, 10))
	}
	return "/pipeline?" + v.Encode()
}

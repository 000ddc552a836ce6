package people

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// behindWords says behind which figure the people of a list are.
type behindWords struct{ Key, Did, Name, Href string }

// didWords say what people behind a figure did.
var didWords = map[string]string{
	"entered": "entered", "way": "are on the way in", "ended": "ended", "handed": "were handed over by",
	"here": "are now at", "left": "left at", "passed": "came through", "sent": "got",
	"trouble": "have an email held at", "done": "were called for",
	"missed": "were not called in time for", "desk": "wait on the desk for", "opened": "opened",
	"clicked": "clicked in", "answered": "answered",
	"registered": "registered for", "cancelled": "cancelled their place at", "came": "came to",
	"away":    "stayed away from",
	"readers": "are readers of", "delivered": "got", "waiting": "still wait for", "withdrawn": "were taken out of",
	"automatic": "answered by a machine to",
	"bounced":   "bounced for", "opted out": "opted out by", "complained": "complained about",
	"machines": "were opened or clicked by machines alone in",
}

// afterWords say what people did after they took an exit of a step.
var afterWords = map[string]string{"sent": "got an email", "opened": "opened an email", "clicked": "clicked",
	"answered": "answered", "handed": "were handed over"}

// behind reads the words of a figure; nil where a list is behind none.
func (s *Place) behind(c *echo.Context, b store.Behind) (*behindWords, error) {
	ctx := c.Request().Context()
	out := &behindWords{Key: b.String(), Did: didWords[b.Which]}
	switch b.Of {
	case "":
		return nil, nil
	case "email":
		m, err := s.Store.MailingText(ctx, b.ID)
		if err != nil {
			return nil, err
		}
		out.Name, out.Href = m.Name, fmt.Sprintf("/content/emails/%d", m.ID)
		if why, ok := strings.CutPrefix(b.Which, "left "); ok {
			out.Did = "were left out (" + why + ") of"
		}
		if b.N > 0 {
			out.Did = fmt.Sprintf("pressed link %d in", b.N)
		}
		return out, nil
	case "event":
		e, err := s.Store.Event(ctx, b.ID)
		if err != nil {
			return nil, err
		}
		out.Name, out.Href = e.Name, fmt.Sprintf("/content/events/%d", e.ID)
		return out, nil
	}
	q, err := s.Store.Sequence(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	out.Name, out.Href = q.Name, fmt.Sprintf("/sequences/%d", q.ID)
	if b.Of == "step" {
		out.Href += fmt.Sprintf("?step=%d", b.N)
		plan := (*sequence.Plan)(nil)
		if q.Version != nil {
			v, err := s.Store.Version(ctx, *q.Version)
			if err != nil {
				return nil, err
			}
			plan = v.Plan.V
		}
		if plan != nil && plan.Step(sequence.StepID(b.N)) != nil {
			step := plan.Step(sequence.StepID(b.N))
			out.Name = fmt.Sprintf("“%s” of %s", step.About().Title, q.Name)
			if exit, ok := strings.CutPrefix(b.Which, "exit "); ok {
				out.Did = fmt.Sprintf("went on by “%s” from", step.Answer(sequence.Exit(exit)))
			}
			if exit, figure, ok := store.AfterExitOf(b.Which); ok {
				out.Did = fmt.Sprintf("%s after they went on by “%s” from", afterWords[figure],
					step.Answer(sequence.Exit(exit)))
			}
		}
	}
	if b.In != (store.Between{}) {
		day := func(second int64) string { return time.Unix(second, 0).In(s.Engine.Zone()).Format("2 Jan 2006") }
		out.Name += fmt.Sprintf(", %s to %s", day(b.In.From), day(b.In.To-1))
	}
	return out, nil
}

// stepPeople leads to the people behind a figure of the map.
func (s *Place) stepPeople(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	step, _ := strconv.ParseInt(c.QueryParam("step"), 10, 32) // none: of the whole sequence
	b := store.Behind{Of: "step", ID: id, N: int32(step), Which: c.QueryParam("which")}
	if step == 0 {
		b.Of = "sequence"
	} else if in := c.QueryParam("in"); in != "" {
		if b = store.ParseBehind(b.String() + "@" + in); b == (store.Behind{}) {
			return store.ErrNotFound
		}
	}
	return s.toBehind(c, b)
}

// mailingPeople leads to the people behind one of a one-off email's figures.
func (s *Place) mailingPeople(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	b := store.Behind{Of: "email", ID: id, Which: c.QueryParam("which")}
	if link, _ := strconv.ParseInt(c.QueryParam("link"), 10, 32); link > 0 { // none: all links
		b.N, b.Which = int32(link), "clicked"
	}
	return s.toBehind(c, b)
}

func (s *Place) toBehind(c *echo.Context, b store.Behind) error {
	if store.ParseBehind(b.String()) != b {
		return store.ErrNotFound
	}
	if _, err := s.behind(c, b); err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther,
		"/people?"+shell.ListQuery{Behind: b, Order: store.ByScore, Columns: shell.UsualColumns}.Values().Encode())
}

package desk

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/phone"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// onPhone is the phone beside a call that is to be made.
type onPhone struct {
	Touch    int64
	Going    bool   // it rings, or they talk
	Words    string // how far it is; empty: it was not dialled
	Suggests sequence.Outcome
	Number   string
	Wrong    string
}

// dials says that nobody needs to find the number.
const dials = "The phone dials for you"

// onPhone is what is known of it without asking: a page waits for nobody else's server, and asks from then on.
func (s *Place) onPhone(ctx context.Context, touch, user int64) (*onPhone, error) {
	x, dialled, err := s.Engine.LastCall(ctx, touch, user)
	p := &onPhone{Touch: touch, Number: dials}
	if dialled {
		if p.say(x); p.Going {
			p.Words = "On the phone …"
		}
	}
	return p, err
}

func (p *onPhone) say(x phone.Call) {
	p.Going, p.Suggests = x.State != phone.Ended, sales.CameOf(x)
	clock := fmt.Sprintf("%d:%02d", x.Seconds/60, x.Seconds%60)
	switch {
	case x.State == phone.Ringing:
		p.Words = "Ringing …"
	case x.State == phone.Talking && x.End == phone.Voicemail:
		p.Words = "Their voicemail, " + clock
	case x.State == phone.Talking:
		p.Words = "They answered, " + clock
	case x.Seconds > 0:
		p.Words = fmt.Sprintf("Over: %s, %s", x.End, clock)
	case x.End == "":
		p.Words = "Over"
	default:
		p.Words = "Over: " + string(x.End)
	}
}

func (s *Place) dial(c *echo.Context) error {
	return s.phoned(c, s.Engine.Dial)
}

func (s *Place) hangUp(c *echo.Context) error {
	return s.phoned(c, s.Engine.HangUp)
}

// phoned does something with the phone, and answers how far it is.
func (s *Place) phoned(c *echo.Context, do func(context.Context, int64, int64) (phone.Call, error)) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	p := &onPhone{Touch: id}
	x, err := do(c.Request().Context(), id, shell.UserOf(c).ID)
	switch {
	case errors.Is(err, base.ErrNotYours):
		return shell.NotYours(err)
	case store.IsNotFound(err):
		return err
	case err == nil:
		p.say(x)
	default:
		if p.Wrong = "The phone is not reached: " + base.Told(err) + "."; isPlain(err) {
			p.Wrong = shell.Sentence(err)
		}
	}
	return s.showPhone(c, p)
}

func isPlain(err error) bool { _, plain := plainly.Says(err); return plain }

func (s *Place) phoneState(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	x, dialled, err := s.Engine.OnThePhone(c.Request().Context(), id, shell.UserOf(c).ID)
	p := &onPhone{Touch: id, Number: dials}
	if err != nil { // it is somebody else's server
		p.Wrong = "The phone is not reached: " + base.Told(err) + "."
	} else if dialled {
		p.say(x)
	}
	return s.showPhone(c, p)
}

func (s *Place) showPhone(c *echo.Context, p *onPhone) error {
	return c.Render(http.StatusOK, "desk.html#phone", map[string]any{"P": p})
}

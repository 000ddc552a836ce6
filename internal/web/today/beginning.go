package today

import "github.com/labstack/echo/v5"

// beginning is a line of what there is to do until a first sequence runs.
type beginning struct {
	What string
	Href string
	Done bool
	More string
}

// beginnings lists what is done and what is still to do until a first sequence
// runs; none where one does.
func (s *Place) beginnings(c *echo.Context) ([]beginning, error) {
	b, err := s.Store.Begun(c.Request().Context())
	if err != nil || b.Running > 0 {
		return nil, err
	}
	w := s.Engine.Workspace()
	return []beginning{
		{"Say who you are and what your clock is", "/settings", w.Name != "", "Name, time zone, working hours"},
		{"Write your address under each email", "/settings", w.Address != "", "Most laws ask for it"},
		{"Send a test letter", "/settings", !w.Tried.IsZero(), "And set the DNS records, so that letters arrive"},
		{"Invite colleagues", "/settings/people", b.Users > 1, "Reps take over who becomes ready"},
		{"Name the stages of your pipeline", "/settings/stages", b.Stages > 0, "There are usual ones to begin with"},
		{"Agree what gives points, and the ready line", "/scoring", b.Model, "There is a usual model to begin with"},
		{"Bring people in, or publish a page with a form", "/people/imports", b.People > 0 || b.Pages > 0,
			"A list, a form, or by hand"},
		{"Write a first message", "/content", b.Messages > 0, ""},
		{"Draw a sequence and launch it", "/sequences", false, "It says before what it would do"},
	}, nil
}

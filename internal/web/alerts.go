package web

import (
	"github.com/labstack/echo/v5"

	"ombak/internal/store"
)

// bundle is alerts that say the same of several people, told as one.
type bundle struct {
	Words, How string
	Alerts     []store.Task
}

// bundles reads what a user is to be told, the newest first.
func (s *Server) bundles(c *echo.Context, user int64) ([]bundle, error) {
	list, err := s.Store.OpenTasks(c.Request().Context(), user, true)
	if err != nil {
		return nil, err
	}
	var out []bundle
	at := map[[2]string]int{}
	for i := len(list) - 1; i >= 0; i-- {
		a := list[i]
		key := [2]string{a.Words, a.How}
		n, ok := at[key]
		if !ok {
			n = len(out)
			at[key] = n
			out = append(out, bundle{Words: a.Words, How: a.How})
		}
		out[n].Alerts = append([]store.Task{a}, out[n].Alerts...)
	}
	return out, nil
}

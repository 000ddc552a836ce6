package shell

import (
	"fmt"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/store"
)

// Bundle is alerts that say the same of several people, told as one.
type Bundle struct {
	Words, How string
	Alerts     []store.Task
}

// Bundles reads what a user is to be told, the newest first.
func (s *Shell) Bundles(c *echo.Context, user int64) ([]Bundle, error) {
	list, err := s.Store.OpenTasks(c.Request().Context(), user, true, s.Engine.Now())
	if err != nil {
		return nil, err
	}
	var out []Bundle
	at := map[[2]string]int{}
	for i := len(list) - 1; i >= 0; i-- {
		a := list[i]
		key := [2]string{a.Words, a.How}
		n, ok := at[key]
		if !ok {
			n = len(out)
			at[key] = n
			out = append(out, Bundle{Words: a.Words, How: a.How})
		}
		out[n].Alerts = append([]store.Task{a}, out[n].Alerts...)
	}
	return out, nil
}

// IDs are the alerts' numbers, as the form that has seen them sends them.
func (b Bundle) IDs() string {
	var ids []string
	for _, a := range b.Alerts {
		ids = append(ids, fmt.Sprint(a.ID))
	}
	return strings.Join(ids, ",")
}

// Last is the newest of them.
func (b Bundle) Last() store.Task { return b.Alerts[len(b.Alerts)-1] }

package shell

import (
	"context"
	"fmt"
	"strings"

	"ombak/internal/core/desk"
	"ombak/internal/store"
)

// Bundle is alerts that say the same of several people, told as one.
type Bundle struct {
	Words, How string
	Alerts     []store.Task
}

// Bundles reads what a user is to be told, the newest first.
func (s *Shell) Bundles(ctx context.Context, user int64) ([]Bundle, error) {
	list, err := s.Store.OpenTasks(ctx, user, true, s.Engine.Now())
	if err != nil {
		return nil, err
	}
	told := make([]desk.Told, len(list))
	for i, a := range list {
		told[i] = desk.Told{Words: a.Words, How: a.How}
	}
	var out []Bundle
	for _, places := range desk.Bundle(told) {
		b := Bundle{Words: list[places[0]].Words, How: list[places[0]].How}
		for _, i := range places {
			b.Alerts = append(b.Alerts, list[i])
		}
		out = append(out, b)
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

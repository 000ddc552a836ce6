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
	Alerts     []store.Alert
	People     []store.PersonName // the first of them
}

// namesShown is how many people of a bundle are named.
const namesShown = 30

// Bundles reads what a user is to be told, the newest first.
func (s *Shell) Bundles(ctx context.Context, user int64) ([]Bundle, error) {
	list, err := s.Store.OpenAlerts(ctx, user, s.Engine.Now())
	if err != nil || len(list) == 0 {
		return nil, err
	}
	told := make([]desk.Told, len(list))
	for i, a := range list {
		told[i] = desk.Told{Words: a.Words, How: a.How}
	}
	var out []Bundle
	var named []int64
	for _, places := range desk.Bundle(told) {
		b := Bundle{Words: list[places[0]].Words, How: list[places[0]].How}
		for i, at := range places {
			b.Alerts = append(b.Alerts, list[at])
			if i < namesShown {
				named = append(named, list[at].Person)
			}
		}
		out = append(out, b)
	}
	names, err := s.Store.NamesOf(ctx, named)
	if err != nil {
		return nil, err
	}
	for i := range out {
		b := &out[i]
		for _, a := range b.Alerts[:min(len(b.Alerts), namesShown)] {
			if p, ok := names[a.Person]; ok {
				b.People = append(b.People, p)
			}
		}
	}
	return out, nil
}

// More is how many people are not named.
func (b Bundle) More() int { return max(len(b.Alerts)-namesShown, 0) }

// IDs are the alerts' numbers, as the form that has seen them sends them.
func (b Bundle) IDs() string {
	var ids []string
	for _, a := range b.Alerts {
		ids = append(ids, fmt.Sprint(a.ID))
	}
	return strings.Join(ids, ",")
}

// Last is the newest of them.
func (b Bundle) Last() store.Alert { return b.Alerts[len(b.Alerts)-1] }

package base

import (
	"context"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
)

// Fields are the merge fields of the workspace.
func (e *Base) Fields(ctx context.Context) ([]message.Field, error) {
	own, err := e.Store.OwnFields(ctx)
	if err != nil {
		return nil, err
	}
	var list []person.Definition
	for i := range own {
		list = append(list, own[i].Definition())
	}
	fields := message.Fields(list)
	items, err := e.Store.ShelfTitles(ctx)
	if err != nil {
		return nil, err
	}
	for _, i := range items {
		fields = append(fields, message.Field{Name: message.ShelfField(i.ID), Label: i.Title})
	}
	return fields, nil
}

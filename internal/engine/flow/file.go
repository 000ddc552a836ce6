package flow

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// called is what this workspace calls what plans refer to, by kind and number.
type called map[sequence.PartKind]map[int64]string

func (e *Flow) called(ctx context.Context) (called, error) {
	out := called{}
	add := func(what sequence.PartKind, id int64, name string) {
		if out[what] == nil {
			out[what] = map[int64]string{}
		}
		out[what][id] = name
	}
	messages, err := e.Store.MessageNames(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range messages {
		add(sequence.MessagePart, x.ID, x.Name)
	}
	sequences, err := e.Store.Sequences(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range sequences {
		add(sequence.SequencePart, x.ID, x.Name)
	}
	pages, err := e.Store.PageNames(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range pages {
		add(sequence.PagePart, x.ID, x.Title)
	}
	users, err := e.Store.Users(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range users {
		add(sequence.UserPart, x.ID, x.Name)
	}
	teams, err := e.Store.Teams(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range teams {
		add(sequence.TeamPart, x.ID, x.Name)
	}
	purposes, err := e.Store.Purposes(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range purposes {
		add(sequence.PurposePart, x.ID, x.Name)
	}
	stages, err := e.Store.Stages(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range stages {
		add(sequence.StagePart, x.ID, x.Name)
	}
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range cat.Audiences {
		add(sequence.AudiencePart, x.ID, x.Name)
	}
	for _, x := range cat.Events {
		add(sequence.EventPart, x.ID, x.Name)
	}
	for _, x := range cat.Tags {
		add(sequence.TagPart, x.ID, x.Name)
	}
	lists := cat.Lists()
	for what, part := range map[rule.Ref]sequence.PartKind{rule.FieldRef: sequence.FieldPart,
		rule.ModelRef: sequence.ModelPart, rule.PointsRef: sequence.PointsPart} {
		for _, x := range lists[what] {
			add(part, x.ID, x.Name)
		}
	}
	return out, nil
}

// SequenceFile is the draft of a sequence as a file, with the names of what it refers to.
func (e *Flow) SequenceFile(ctx context.Context, id int64) (*sequence.File, error) {
	q, err := e.Store.Sequence(ctx, id)
	if err != nil {
		return nil, err
	}
	draft, err := e.Store.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	names, err := e.called(ctx)
	if err != nil {
		return nil, err
	}
	f := &sequence.File{Name: q.Name, For: q.Note, Plan: draft.Plan.V, Entry: &q.Entry.V,
		Names: map[sequence.PartKind]map[string]string{}}
	note := func(what sequence.PartKind, id int64) int64 {
		if name, ok := names[what][id]; ok {
			if f.Names[what] == nil {
				f.Names[what] = map[string]string{}
			}
			f.Names[what][strconv.FormatInt(id, 10)] = name
		}
		return id
	}
	f.Plan.Refer(note)
	f.Entry.Refer(note)
	ids, _ := f.Plan.Events()
	if f.Events, err = e.Store.EventsByID(ctx, ids); err != nil {
		return nil, err
	}
	if !f.Plan.Hours.Holidays {
		f.Holidays, err = e.holidaysFrom(ctx)
	}
	if err != nil {
		return nil, err
	}
	return f, nil
}

// holidaysFrom are the holidays of every country from a year ago on, in their order.
func (e *Flow) holidaysFrom(ctx context.Context) (map[string][]calendar.Date, error) {
	all, err := e.Store.Holidays(ctx)
	if err != nil {
		return nil, err
	}
	since := e.Now().Year() - 1
	out := map[string][]calendar.Date{}
	for country, list := range all {
		for d := range list {
			if d.Year >= since {
				out[country] = append(out[country], d)
			}
		}
		slices.SortFunc(out[country], func(a, b calendar.Date) int { return strings.Compare(a.String(), b.String()) })
	}
	return out, nil
}

// maxUnknown bounds how much of what a file refers to in vain is named.
const maxUnknown = 20

// BringSequence makes a draft of a file. What it refers to is found by its name; what is
// not there is missing in the draft, and named.
func (e *Flow) BringSequence(ctx context.Context, f *sequence.File) (id int64, unknown []string, err error) {
	names, err := e.called(ctx)
	if err != nil {
		return 0, nil, err
	}
	find := func(what sequence.PartKind, id int64) int64 {
		name, ok := f.Names[what][strconv.FormatInt(id, 10)]
		if ok {
			// Of several of one name, the one that was there first.
			var found int64
			for there, n := range names[what] {
				if strings.EqualFold(n, name) && (found == 0 || there < found) {
					found = there
				}
			}
			if found != 0 {
				return found
			}
		}
		text := fmt.Sprintf("%s “%s”", what, name)
		if !ok {
			text = fmt.Sprintf("%s %d", what, id)
		}
		if !slices.Contains(unknown, text) && len(unknown) < maxUnknown {
			unknown = append(unknown, text)
		}
		return 0
	}
	plan, entry := f.Plan.Clone(), sequence.Entry{}
	if f.Entry != nil {
		entry = *f.Entry
	}
	plan.Refer(find)
	entry.Refer(find)
	if plan.Hours.Check() != nil {
		w := e.Workspace()
		plan.Hours = calendar.OfficeHours(w.From, w.To)
	}
	for _, err := range []error{plan.LongestStay.Check(), plan.Rest.Check()} {
		if err != nil {
			return 0, nil, err
		}
	}
	name := person.Name(f.Name)
	if name == "" {
		return 0, nil, plainly.New("the sequence of the file has no name")
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if id, err = tx.AddSequence(ctx, name, plan, e.Now()); err != nil {
			return err
		}
		return tx.SetSequence(ctx, id, name, person.Name(f.For), entry, e.Now())
	})
	return id, unknown, err
}

// Package engine is every way in which something changes, and what runs by itself. Its
// rooms are packages, one for each field of work; each stands on those before it:
//
//	base    clock, workspace, keys, rights
//	flow    sequences: entering, walking on, having done what steps ask for
//	people  records, lists, audiences, scores
//	post    letters out and in
//	forms   pages, forms, visits, the shelf, links in letters
//	sales   handoffs, desks, deals
//	setup   who works here, and by which words
//	social  the network on which reps reach people
//
// What changes something is a method that checks, changes and tells in one
// transaction. Engine has them all, and Work does what comes due by itself.
package engine

import (
	"context"
	"sync"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/forms"
	"ombak/internal/engine/people"
	"ombak/internal/engine/post"
	"ombak/internal/engine/sales"
	"ombak/internal/engine/setup"
	"ombak/internal/engine/social"
)

// Engine works on one database. It is safe for use by several goroutines.
type Engine struct {
	*base.Base
	*flow.Flow
	*people.People
	*post.Post
	*forms.Forms
	*sales.Sales
	*setup.Setup
	*social.Social

	turn  sync.Mutex
	enter time.Time // when rules are next asked whom they let in
}

// New readies an engine.
func New(ctx context.Context, c base.Config) (*Engine, error) {
	b, err := base.New(ctx, c)
	if err != nil {
		return nil, err
	}
	f := flow.New(b)
	p := people.New(b, f)
	t := post.New(b, f, p)
	s := sales.New(b, f, t)
	return &Engine{Base: b, Flow: f, People: p, Post: t, Forms: forms.New(b, f, p, t), Sales: s,
		Setup: setup.New(b, t), Social: social.New(b, f, t, s)}, nil
}

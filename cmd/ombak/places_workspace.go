package main

import (
	"context"
	"fmt"

	"ombak/internal/core/calendar"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	pages "ombak/internal/core/page"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/password"
	"ombak/internal/store"
)

// How many of what people make a measured workspace has, however many people there are.
const (
	placesReps      = 20
	placesMessages  = 10
	placesPages     = 200
	placesSequences = 50
	placesAudiences = 60 // live ones
)

// furnish makes by the program what a workspace has before there are people in it.
func furnish(ctx context.Context, s *store.Store, e *engine.Engine) error {
	for i := range placesReps + 3 {
		role := right.Rep
		if i < 3 {
			role = []right.Role{right.Marketer, right.Lead, right.Admin}[i]
		}
		if _, err := s.AddUser(ctx, store.User{Name: fmt.Sprintf("User %d", i), Email: placesAddress(role, i),
			Role: role, PasswordHash: password.Hash(placesPassword), Capacity: 5000}, e.Now()); err != nil {
			return err
		}
	}
	for _, begin := range []func(context.Context) error{e.UsualStages, e.UsualModel} {
		if err := begin(ctx); err != nil {
			return err
		}
	}
	_, pipe, err := e.KeepPipeline(ctx, pipeline.Pipeline{Name: "Loans"}, 1)
	if err != nil {
		return err
	}
	for _, st := range []pipeline.Stage{{Name: "Asked", Share: 20}, {Name: "Delivered", Share: 60},
		{Name: "Bought", Share: 100, Won: true}, {Name: "Returned", Lost: true}} {
		st.Pipeline = pipe
		if _, err := e.KeepStage(ctx, st); err != nil {
			return err
		}
	}
	author := int64(1)
	err = s.InTx(ctx, func(tx store.Tx) error {
		for i := range placesMessages {
			doc := message.Simple(fmt.Sprintf("Letter %d for {{ person.first_name | default: \"you\" }}", i),
				`<p>One <a href="/p/page-1">page</a>, <a href="https://bench.example/b">another</a>.</p>`)
			if _, err := tx.SaveMessage(ctx, store.Message{Name: fmt.Sprintf("Letter %d", i), SenderID: &author,
				Doc: store.JSON[message.Document]{V: doc}}, author, e.Now()); err != nil {
				return err
			}
		}
		for i := range placesPages {
			doc := pages.New(fmt.Sprintf("Page %d", i+1), "<p>Read.</p>", "Send it")
			if _, err := tx.SavePage(ctx, store.Page{Slug: fmt.Sprintf("page-%d", i+1), Offer: "Guide", Published: true,
				Doc: store.JSON[pages.Document]{V: doc}}, []byte("guide"), e.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i := range placesSequences {
		if err := launchOne(ctx, s, e, i); err != nil {
			return err
		}
	}
	purpose, msg := int64(1), int64(1)
	m := store.Mailing{Name: "Next letter", Message: &msg, Purpose: &purpose}
	m.Plan.V = mailing.NewPlan()
	_, err = e.SaveMailing(ctx, m, author)
	return err
}

// launchOne launches a sequence: emails, watches and checks one after the other, more of them in the first.
func launchOne(ctx context.Context, s *store.Store, e *engine.Engine, i int) error {
	plan := sequence.NewPlan()
	plan.LaunchHold, plan.Ground.Purpose = false, 1
	at, exit := sequence.StepID(0), sequence.Exit("")
	put := func(step sequence.Step, next sequence.Exit) (err error) {
		at, err = plan.Insert(step, at, exit)
		exit = next
		return err
	}
	rounds := 3
	if i == 0 {
		rounds = 15
	}
	for n := range rounds {
		email := &sequence.Email{Message: int64(1 + (i+n)%placesMessages)}
		email.Title = fmt.Sprintf("Letter %d", n)
		if err := put(email, sequence.Next); err != nil {
			return err
		}
		mailed := at
		if err := put(&sequence.Watch{Signal: signal.Click, Of: mailed, For: calendar.Span{N: 5, Unit: calendar.Days}},
			sequence.NotInTime); err != nil {
			return err
		}
		if err := put(&sequence.Check{Rule: rule.ScoreAtLeast(10 + n)}, sequence.No); err != nil {
			return err
		}
	}
	var id int64
	err := s.InTx(ctx, func(tx store.Tx) (err error) {
		id, err = tx.AddSequence(ctx, fmt.Sprintf("Sequence %d", i+1), plan, e.Now())
		return err
	})
	if err != nil {
		return err
	}
	if err := s.SetEntry(ctx, id, store.Entry{Hand: true}, e.Now()); err != nil {
		return err
	}
	return e.Launch(ctx, id, 1)
}

// outreach launches a sequence of what is done by hand, with people who wait for that.
func outreach(ctx context.Context, s *store.Store, e *engine.Engine, p store.Places) (int64, error) {
	plan := sequence.NewPlan()
	plan.LaunchHold, plan.Ground.Purpose = false, 1
	var steps [3]int32
	at, exit := sequence.StepID(0), sequence.Exit("")
	for i, step := range []sequence.Step{&sequence.Call{}, &sequence.Social{What: sequence.SocialNote, Text: "Hello"},
		&sequence.Task{What: "look"}} {
		id, err := plan.Insert(step, at, exit)
		if err != nil {
			return 0, err
		}
		at, exit, steps[i] = id, plan.Step(id).Exits()[0], int32(id)
	}
	var id int64
	err := s.InTx(ctx, func(tx store.Tx) (err error) {
		id, err = tx.AddSequence(ctx, "Outreach", plan, e.Now())
		return err
	})
	if err != nil {
		return 0, err
	}
	if err := s.SetEntry(ctx, id, store.Entry{Hand: true}, e.Now()); err != nil {
		return 0, err
	}
	if err := e.Launch(ctx, id, 1); err != nil {
		return 0, err
	}
	q, err := s.Sequence(ctx, id)
	if err != nil {
		return 0, err
	}
	return s.FillWork(ctx, p, id, *q.Version, steps)
}

// launchFor launches a sequence of an email and a pause for whoever an entry lets in.
func launchFor(ctx context.Context, s *store.Store, e *engine.Engine, in store.Entry) (id int64, err error) {
	plan := sequence.NewPlan()
	plan.LaunchHold, plan.Ground.Purpose = false, 1
	pause, err := plan.Insert(&sequence.Pause{For: calendar.Span{N: 5, Unit: calendar.Days}}, 0, "")
	if err == nil {
		_, err = plan.Insert(&sequence.Email{Message: 1}, pause, sequence.Next)
	}
	if err == nil {
		err = s.InTx(ctx, func(tx store.Tx) (err error) {
			id, err = tx.AddSequence(ctx, "For many", plan, e.Now())
			return err
		})
	}
	if err == nil {
		err = s.SetEntry(ctx, id, in, e.Now())
	}
	if err == nil {
		err = e.Launch(ctx, id, 1)
	}
	return id, err
}

// livePlaces are the countries of people.
var livePlaces = []string{"NO", "GB", "CA", "US", "CL", "ID", "AE", "SG", "AU", "DE", "VN", "CR"}

// liveAudiences describes those that stay current by themselves, and has them counted.
func liveAudiences(ctx context.Context, e *engine.Engine) error {
	is := func(c rule.Condition) rule.Rule { return rule.Rule{If: &c} }
	for i := range placesAudiences {
		r := rule.Rule{All: []rule.Rule{rule.FieldIs("country", livePlaces[i%len(livePlaces)])}}
		switch i / len(livePlaces) {
		case 0:
			r.All = append(r.All, rule.ScoreAtLeast(10))
		case 1:
			r.All = append(r.All, is(rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.AtLeast, N: 3,
				Days: 180}))
		case 2:
			r.All = append(r.All, is(rule.Condition{About: rule.InSequence, ID: 1, Op: rule.Is}))
		case 3:
			r.All = append(r.All, rule.ThingIs(rule.Consent, 1), is(rule.Condition{About: rule.Deal, Op: rule.IsNot}))
		default:
			r.All = append(r.All, rule.FieldIs("industry", "Ports"))
		}
		a := store.Audience{Name: fmt.Sprintf("Live %d", i), Live: true}
		a.Rule.V = r
		if _, err := e.SaveAudience(ctx, a); err != nil {
			return err
		}
	}
	for {
		n, err := e.FollowAudiences(ctx)
		if err != nil || n == 0 {
			return err
		}
	}
}

const placesPassword = "bench-bench"

func placesAddress(role right.Role, i int) string { return fmt.Sprintf("%s%d@bench.example", role, i) }

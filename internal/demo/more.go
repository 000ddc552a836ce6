package demo

import (
	"context"
	"errors"
	"fmt"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/social"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// begun is a sequence that was begun with a starter.
type begun struct {
	starter, name string
	subjects      []string // of its emails, in the order in which they are told; fewer: the others are missing
	words         []string // of its calls, tasks and messages on the network, likewise
	entry         store.Entry
	rest          sequence.Rest
	event         int64 // that it is about
}

// outreach and the others are drawn before the demo's last days are lived, and launched in
// them: one runs, one is held, one has ended, one is a draft whose parts are being made.
var (
	outreach = begun{starter: "outreach", name: "Desalination outreach",
		subjects: []string{"Membranes and oxygen, a question", "What a plant in the strait changed",
			"Shall I leave it there?"},
		entry: store.Entry{Wave: sequence.Wave{N: 12, Per: sequence.Day}}, rest: sequence.Rest{Days: 3}}
	winBack = begun{starter: "win", name: "Quiet ports, win back",
		subjects: []string{"We have not heard from the quay", "Shall we stop writing?"},
		words:    []string{"Ask what became of the turbidity alarm."},
		entry:    store.Entry{Hand: true}, rest: sequence.Rest{Days: 2}}
	welcome = begun{starter: "welcome", name: "Welcome to new readers",
		subjects: []string{"Good to have you here", "Who looks after you"}, entry: store.Entry{Hand: true, Reps: true}}
	both = begun{starter: "social", name: "Waterworks, by the network",
		subjects: []string{"The turbidity in your intake", "A last word on intakes"},
		words: []string{"Dear {{ person.first_name | default: \"colleague\" }}, thank you for connecting. " +
			"May I send you what three waterworks changed at their intakes?"},
		entry: store.Entry{Hand: true}, rest: sequence.Rest{Days: 1}}
	nextClinic = begun{starter: "event", name: "Calibration clinic in June",
		subjects: []string{"Bring the sensor that you do not trust"}}
)

// keepBegun draws a sequence from its starter, with messages for its emails.
func (d *Demo) keepBegun(ctx context.Context, b begun, marketer int64) (id int64, err error) {
	st, ok := sequence.StarterOf(b.starter)
	if !ok {
		return 0, fmt.Errorf("there is no starter %q", b.starter)
	}
	plan, now := st.Plan(), d.Clock.Now()
	plan.LaunchHold, plan.Ground.Other, plan.Rest, plan.Event = false, "legitimate interest", b.rest, b.event
	err = d.Store.InTx(ctx, func(tx store.Tx) error {
		subjects, words := b.subjects, b.words
		for _, l := range plan.Outline() {
			if l.Again {
				continue
			}
			switch s := l.Step.(type) {
			case *sequence.Email:
				if len(subjects) == 0 {
					by := calendar.DateOf(now.AddDate(0, 0, Lived+10), d.Engine.Zone())
					s.Make = sequence.Making{Who: marketer, By: by}
					continue
				}
				m := store.Message{Name: b.name + ": " + s.Title, FromOwner: true, SenderID: &marketer}
				m.Doc.V = message.Simple(subjects[0],
					`<div>Dear {{ person.first_name | default: "reader" }},</div><div><br></div>`+
						`<div>a short word about <a href="/p/oxygen-alarms">what alarms are for</a>, and a `+
						`question: who looks at yours at night?</div><div><br></div>`+
						`<div>{{ sender.name }}<br>Karang Instruments</div>`)
				subjects = subjects[1:]
				var err error
				if s.Message, err = tx.SaveMessage(ctx, m, marketer, now); err != nil {
					return err
				}
			case *sequence.Social:
				if s.What == sequence.SocialNote && len(words) > 0 {
					s.Text, words = words[0], words[1:]
				}
			case *sequence.Call:
				if len(words) > 0 {
					s.Guide, words = words[0], words[1:]
				}
			}
		}
		if id, err = tx.AddSequence(ctx, b.name, plan, now); err != nil {
			return err
		}
		return tx.SetSequence(ctx, id, b.name, st.For, b.entry, now)
	})
	return id, err
}

// keepMore draws the further sequences, and launches those that run: by rule, or with some
// people put in by hand.
func (d *Demo) keepMore(ctx context.Context, people []int64, marketer int64) error {
	plants := rule.FieldIs(person.Industry, "Desalination")
	b := outreach
	b.entry.Rule = &plants
	for _, x := range []struct {
		b   begun
		put []int64
	}{{b, nil}, {winBack, people[40:64]}, {welcome, people[70:86]}} {
		id, err := d.keepBegun(ctx, x.b, marketer)
		if err != nil {
			return err
		}
		if err := d.Engine.Launch(ctx, id, marketer); err != nil {
			return fmt.Errorf("launching “%s”: %w", x.b.name, err)
		}
		if len(x.put) > 0 {
			if _, err := d.Engine.Hand(ctx, flow.ByHand{Do: flow.PutIn, Sequence: id}, x.put...); err != nil {
				return err
			}
		}
	}
	if d.Engine.Network != nil {
		if err := d.keepNetwork(ctx, people[100:140], marketer); err != nil {
			return err
		}
	}
	clinic, err := d.keepEvents(ctx, people, marketer)
	if err != nil {
		return err
	}
	b = nextClinic
	b.event = clinic
	_, err = d.keepBegun(ctx, b, marketer)
	return err
}

// keepNetwork has people with profiles on the network, one rep who leaves it to the network to
// reach them, and a sequence that does.
func (d *Demo) keepNetwork(ctx context.Context, people []int64, marketer int64) error {
	users, err := d.Store.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range users {
		if u.Role == right.Rep {
			if err := d.Engine.SetNetworkAccount(ctx, u.ID, &social.Limits{sequence.Connect: 8}); err != nil {
				return err
			}
			break
		}
	}
	for i, id := range people {
		profile := person.Values{person.Profile: fmt.Sprintf("https://network.example/in/water-%d", 1000+37*i)}
		if err := d.Engine.ChangePerson(ctx, id, profile, marketer); err != nil {
			return err
		}
	}
	id, err := d.keepBegun(ctx, both, marketer)
	if err != nil {
		return err
	}
	if err := d.Engine.Launch(ctx, id, marketer); err != nil {
		return fmt.Errorf("launching “%s”: %w", both.name, err)
	}
	_, err = d.Engine.Hand(ctx, flow.ByHand{Do: flow.PutIn, Sequence: id}, people...)
	return err
}

// endMore holds the one and ends the other, as the demo's days come to their end.
func (d *Demo) endMore(ctx context.Context, people []int64, marketer int64) error {
	if err := d.endEvents(ctx, people, marketer); err != nil {
		return err
	}
	list, err := d.Store.Sequences(ctx)
	if err != nil {
		return err
	}
	for _, q := range list {
		switch q.Name {
		case winBack.name:
			err = errors.Join(err, d.Engine.Hold(ctx, q.ID))
		case welcome.name:
			_, end := d.Engine.EndSequence(ctx, q.ID)
			err = errors.Join(err, end)
		}
	}
	return err
}

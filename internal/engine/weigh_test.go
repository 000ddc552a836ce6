package engine

import (
	"fmt"
	"strings"
	"testing"

	"ombak/internal/core/desk"
	"ombak/internal/core/mailbox"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/social"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// What a draft would meet with is counted: who fits, whom a merge field keeps an email from,
// fields nobody has, and days with more than mailboxes send and reps take. What is mended is
// not said any more.
func TestWhatADraftMeets(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	for i := range 5 {
		id := w.fill(fmt.Sprint("P", i), fmt.Sprintf("p%d@weigh.example", i))
		country, city := "NO", ""
		if i == 4 {
			country = "SE"
		}
		_, err := w.s.DB().ExecContext(w.ctx, "update person set country = $2, city = $3, title = $4 where id = $1", id,
			country, city, []string{"Biologist", ""}[i%2])
		w.must(err)
	}
	message := func(name, subject string, owner bool) (id int64) {
		w.tx(func(tx store.Tx) (err error) {
			id, err = tx.SaveMessage(w.ctx, store.Message{Name: name, FromOwner: owner, SenderID: &w.marketer,
				Doc: store.JSON[message.Document]{V: message.Simple(subject, "<div>Read.</div>")}}, w.marketer, day0)
			return err
		})
		return id
	}
	needy, plain := message("Needy", "As {{ person.title }}", true), message("Plain", "Now", false)
	broken := w.first // its link leads to a file that is not there
	w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: 3}))
	w.must(w.e.SetMailbox(w.ctx, w.rep1, mailbox.Box{Daily: 1}))
	w.must(w.e.SetMailbox(w.ctx, w.rep2, mailbox.Box{Daily: 2}))
	one := store.JSON[desk.Worker]{V: desk.Worker{Most: map[desk.Kind]int{desk.Call: 1, desk.Social: 2}}}
	_, err := w.s.DB().ExecContext(w.ctx, "update app_user set work = $1", one)
	w.must(err)
	plan := w.plan(&sequence.Email{Common: sequence.Common{Title: "One"}, Message: plain},
		&sequence.Email{Common: sequence.Common{Title: "Two"}, Message: needy},
		&sequence.Check{Common: sequence.Common{Title: "Where?"}, Rule: rule.FieldIs(person.City, "Bergen")},
		&sequence.Call{Common: sequence.Common{Title: "Ring"}})
	q := store.Sequence{ID: w.seq}
	q.Entry.V.Rule = ruleOf("NO")
	check := func(what string, fits int64, want ...string) {
		t.Helper()
		got, err := w.e.Weigh(w.ctx, q, plan)
		w.must(err)
		var said []string
		for _, p := range got.Warnings {
			title := "all"
			if p.Step != 0 {
				title = plan.Step(p.Step).About().Title
			}
			said = append(said, title+": "+p.Text)
		}
		if got.Fits != fits || len(said) != len(want) {
			t.Errorf("%s: %d fit, %q", what, got.Fits, said)
			return
		}
		for i := range want {
			if !strings.Contains(said[i], want[i]) {
				t.Errorf("%s: %q, want %q", what, said[i], want[i])
			}
		}
	}
	check("a draft with all of it", 4, "Two: “Needy” does not go out to 2 of the 4", "Where?: asks for city",
		"One: up to 4 emails come due on one day, and Ines Radu sends at most 3",
		"Two: up to 4 emails come due on one day, and the reps together send at most 3",
		"all: 4 calls come up on one day: up to 2 to Tomas Vale, who has time for 1; up to 2 to Uma Okoye, who has time for 1")
	q.Entry.V.Wave = sequence.Wave{N: 2, Per: sequence.Day}
	check("in waves", 4, "Two: “Needy”", "Where?")
	_, err = w.s.DB().ExecContext(w.ctx, "update person set city = 'Bergen', title = 'Biologist'")
	w.must(err)
	check("mended", 4)
	_, err = plan.Insert(&sequence.Social{Common: sequence.Common{Title: "Ask"}, What: sequence.Connect}, plan.Start,
		sequence.Next)
	w.must(err)
	check("by hand, on the network", 4)
	_, err = w.s.DB().ExecContext(w.ctx, "insert into network_account (user_id, limits) values ($1, $2)", w.rep1,
		store.JSON[social.Limits]{V: social.Limits{sequence.Connect: 1}})
	w.must(err)
	q.Entry.V.Wave = sequence.Wave{}
	w.must(w.e.SetMailbox(w.ctx, w.rep1, mailbox.Box{Daily: 9}))
	w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: 9}))
	_, err = w.s.DB().ExecContext(w.ctx, "update app_user set work = '{}'")
	w.must(err)
	check("left to the network", 4, "Ask: up to 4 come due on one day, and the network does at most 1")
	_, err = w.s.DB().ExecContext(w.ctx, "delete from network_account")
	w.must(err)
	q.Entry.V = store.Entry{Page: w.page.ID}
	check("by a form", 0)
	plan.Step(plan.Start).(*sequence.Email).Message = broken
	check("with a link that leads nowhere", 0, "One: “Guide”: the link “is” leads to /g/alarms")
}

package browser_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/answer"
	"ombak/internal/core/booking"
	"ombak/internal/core/person"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/sales"
	"ombak/internal/mail"
	"ombak/internal/store"

	"github.com/chromedp/chromedp/kb"
)

// A rep empties the list by keys: what is ringed is what is shown and what a key
// acts on, however fast they are, and accepting can be taken back. On the
// pipeline a deal moves on with each key.
func TestTheDeskByKeys(t *testing.T) {
	h := open(t)
	var names []string
	for i := range 6 {
		name := fmt.Sprintf("Person%d", i)
		names = append(names, name)
		var id int64
		h.must(h.s.InTx(t.Context(), func(tx store.Tx) (err error) {
			id, _, err = tx.MeetPerson(t.Context(),
				store.NewPerson{First: name, Last: "Moe", Email: person.Name(name) + "@kelp.example"}, h.d.Clock.Now())
			return err
		}))
		h.must(h.d.Engine.HandOver(t.Context(), id))
	}
	h.signsIn("Uma Okoye", "uma.okoye@karang.example") // the lead sees everybody's
	h.goes("/desk")
	h.sees("Handoffs 6", "Person0 Moe")
	// Three down and accept, as fast as the machine types.
	h.key("jjja")
	h.sees("Accepted. A deal stands on the pipeline.", "Handoffs 5")
	var accepted string
	h.must(h.s.DB().QueryRow("select p.first_name from handoff h join person p on p.id = h.person_id where h.state = " +
		"'accepted'").Scan(&accepted))
	if accepted != names[3] {
		t.Errorf("after three down %s was accepted", accepted)
	}
	h.key("u")
	h.sees("It is back on the desk.", "Handoffs 6")
	shown, err := h.tab.Eval(`document.querySelector('[data-shown] h1').textContent`)
	if h.must(err); !strings.HasPrefix(shown, accepted) {
		t.Errorf("after the undo %s is shown, not %s", shown, accepted)
	}
	ringed := `document.activeElement.closest('[data-follow]')?.dataset.follow === ` +
		`document.querySelector('[data-shown]').dataset.shown`
	h.key("k")
	h.must(h.tab.Until("what is ringed to be shown", ringed))
	h.key("a")
	h.sees("Handoffs 5")

	h.goes("/pipeline")
	h.sees("Accepted 1")
	if _, err := h.tab.Eval(`document.querySelector('[data-deal]').focus()`); err != nil {
		t.Fatal(err)
	}
	for _, stage := range []string{"Talking 1", "Buoy on loan 1", "Offer 1"} {
		h.key("]")
		h.sees(stage)
		h.must(h.tab.Until("the deal to keep the focus", `document.activeElement?.matches('[data-deal]')`))
	}
}

// A rep empties a desk of forty items of every kind by keys alone. What each key does shows in
// the sequence, the score and the deals.
func TestFortyItemsByKeys(t *testing.T) {
	h := open(t)
	ctx, e := t.Context(), h.d.Engine
	users, err := h.s.Users(ctx)
	h.must(err)
	me := users[slices.IndexFunc(users, func(u store.User) bool { return u.Name == "Tomas Vale" })].ID
	const each = 8 // of handoffs, calls, social touches and tasks; six answers and two meetings make forty
	kinds := []sequence.Step{nil, &sequence.Call{Guide: "Ask {{ person.first_name }} for the depth."},
		&sequence.Social{What: sequence.Connect, Text: "Hello {{ person.first_name }}"}, &sequence.Task{What: "Send the form."}}
	sequences := make([]int64, len(kinds))
	for k, step := range kinds {
		var people []int64
		for i := range each {
			h.must(h.s.InTx(ctx, func(tx store.Tx) error {
				name := fmt.Sprintf("%c%d", 'A'+k, i)
				id, _, err := tx.MeetPerson(ctx, store.NewPerson{First: name, Last: "Moe", Phone: fmt.Sprintf("+44207946%02d%02d", 10+k, i),
					Email: name + "@kelp.example"}, h.d.Clock.Now())
				people = append(people, id)
				return err
			}))
		}
		_, err := h.s.DB().ExecContext(ctx, "update person set owner_id = $2, profile = 'https://net.example/' || id "+
			"where id = any ($1)", people, me)
		h.must(err)
		if step == nil {
			for _, id := range people {
				h.must(e.HandOver(ctx, id))
			}
			continue
		}
		plan := sequence.NewPlan()
		plan.LaunchHold, plan.Ground.Other = false, "existing customers"
		_, err = plan.Insert(step, 0, "")
		h.must(err)
		h.must(h.s.InTx(ctx, func(tx store.Tx) (err error) {
			sequences[k], err = tx.AddSequence(ctx, step.Kind().Word, plan, h.d.Clock.Now())
			return err
		}))
		h.must(h.s.SetEntry(ctx, sequences[k], store.Entry{Hand: true}, h.d.Clock.Now()))
		h.must(e.Launch(ctx, sequences[k], me))
		h.must(h.s.InTx(ctx, func(tx store.Tx) error {
			q, err := tx.RunningSequence(ctx, sequences[k])
			if err != nil {
				return err
			}
			return e.Enter(ctx, tx, q, people...)
		}))
	}
	for i := range answer.Sorts() {
		name := fmt.Sprintf("Q%d", i)
		h.must(h.s.InTx(ctx, func(tx store.Tx) error {
			_, _, err := tx.MeetPerson(ctx, store.NewPerson{First: name, Email: name + "@kelp.example"}, h.d.Clock.Now())
			return err
		}))
		h.must(e.Receive(ctx, mail.Received{ID: name, From: name + "@kelp.example", Subject: "Hello", Said: "What now?", Text: "What now?"}))
	}
	_, err = h.s.DB().ExecContext(ctx, "update incoming set rep_id = $1", me)
	h.must(err)
	page := store.BookingPage{User: me, Slug: "tomas"}
	page.Plan.V = booking.Plan{Title: "Talk", Minutes: 5, Step: 5, Horizon: 2}
	h.must(e.KeepBookingPage(ctx, page))
	for range 2 {
		times, _, err := e.FreeTimes(ctx, &page, 0)
		h.must(err)
		_, err = e.Book(ctx, &page, sales.Pick{At: times[0].UTC(), Person: 1})
		h.must(err)
	}
	h.must(h.until("all to be on the desk", func() bool {
		d, err := e.Day(ctx, sales.Ask{User: me})
		return err == nil && len(d.Items) >= 40
	}))
	m, err := h.s.Model(ctx)
	h.must(err)
	m.Rules = append(m.Rules, score.Rule{On: signal.Pattern{Kind: signal.CallAnswered}, Points: 5})
	h.must(e.SaveModel(ctx, m))
	h.signsIn("Tomas Vale", "tomas.vale@karang.example")
	h.goes("/desk")
	did := map[string]int{}
	for n := range 41 {
		shown, err := h.tab.Eval(`document.querySelector('[data-shown]')?.dataset.shown ?? ''`)
		h.must(err)
		if shown == "" || did["later"] > 0 && n == 40 {
			break // what was put off stands below, and is the last that is left
		}
		of, err := h.tab.Eval(`document.querySelector('[data-shown] input[name=of]').value`)
		h.must(err)
		switch {
		case of == "handoff" && did["handoff"]%5 == 4:
			h.key("b")
			h.must(h.tab.Until("the reason to be asked for", `document.activeElement?.name === 'reason'`))
			h.key("no budget\r")
		case of == "handoff":
			h.key("a")
		case of == "answer" && did["answer"] == 1: // not now, until when
			h.key("d")
			h.must(h.tab.Until("until when to be asked for", `document.activeElement?.name === 'until'`))
			h.key("in 4 weeks\r")
		case of == "answer" && did["answer"] == 2: // written back to, and not interested
			h.key("w")
			h.must(h.tab.Until("the words to be asked for", `document.activeElement?.name === 'text'`))
			h.key("Understood.")
			h.key(kb.Escape)
			h.key("3")
		case of == "answer":
			h.key(fmt.Sprint(did["answer"] + 1))
		case of == "task" && did["later"] == 0:
			h.key("l")
			h.must(h.tab.Until("when to be asked for", `document.activeElement?.name === 'when'`))
			h.key("tomorrow 10\r")
			of = "later"
		default:
			h.key("1")
		}
		did[of]++
		h.must(h.tab.Until("the next item", `document.readyState === 'complete' && `+
			`document.querySelector('[data-shown]')?.dataset.shown !== '`+shown+`'`))
	}
	if did["handoff"] != each || did["call"] != each || did["social touch"] != each || did["task"] != each-1 ||
		did["later"] != 1 || did["answer"] != 6 || did["meeting"] != 2 {
		t.Errorf("by keys were done %v", did)
	}
	h.sees("1 to do", "put off: tomorrow 10:00")
	h.must(h.until("what was done to show", func() bool {
		n := 0
		err := h.s.DB().QueryRow("select count(*) from enrolment where ended_at is not null").Scan(&n)
		if err != nil || n != 3*each-1 {
			return false
		}
		err = h.s.DB().QueryRow("select count(*) from standing where score = 5").Scan(&n)
		return err == nil && n == each
	}))
	for what, c := range map[string]struct {
		query string
		want  int
	}{
		"deals":                    {"select count(*) from deal", each - 1 + 1},
		"sent back":                {"select count(*) from handoff where state = 'sent back' and reason = 'no budget'", 1},
		"went on after the work":   {"select count(*) from enrolment_log where exit = 'done'", 3*each - 1},
		"calls that were taken":    {fmt.Sprintf("select count(*) from signal where kind = %d", signal.CallAnswered), each},
		"tasks done":               {fmt.Sprintf("select count(*) from signal where kind = %d", signal.TaskDone), each - 1},
		"answers of each sort":     {"select count(distinct answer) from incoming where answer <> ''", 6},
		"said they are interested": {fmt.Sprintf("select count(*) from signal where kind = %d", signal.SaidInterested), 1},
		"away for four weeks":      {"select count(*) from person where away_until > '2026-05-10'", 1},
		"opted out":                {"select count(*) from person where opted_out_at is not null", 1},
		"written back":             {"select count(*) from letter where answers is not null", 1},
		"meetings held":            {fmt.Sprintf("select count(*) from signal where kind = %d", signal.MeetingHeld), 2},
		"times kept of its pace":   {"select count(distinct kind) from desk_time", 0},
	} {
		n := 0
		h.must(h.s.DB().QueryRow(c.query).Scan(&n))
		if n != c.want {
			t.Errorf("%s: %d, want %d", what, n, c.want)
		}
	}
}

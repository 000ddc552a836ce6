package browser_test

import (
	"testing"

	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// TestHandedOverAndBack has an admin say who gets whom and where whoever is lost goes; somebody crosses the line from 9
// to 11 by an answer, their rep lets the clock run out, the next one accepts, loses the deal, and nurture goes on.
func TestHandedOverAndBack(t *testing.T) {
	if testing.Short() {
		t.Skip("a browser takes its time")
	}
	h := open(t)
	ctx, e := t.Context(), h.d.Engine
	m, err := h.s.Model(ctx)
	h.must(err)
	m.Line, m.Rules = 10, []score.Rule{{On: signal.Pattern{Kind: signal.Click}, Points: 9},
		{On: signal.Pattern{Kind: signal.Reply}, Points: 2}}
	h.must(e.SaveModel(ctx, m))
	plan := sequence.NewPlan()
	plan.LaunchHold, plan.Ground.Other = false, "existing customers"
	_, err = plan.Insert(&sequence.Task{What: "Think of them."}, 0, "")
	h.must(err)
	var q, ana int64
	h.must(h.s.InTx(ctx, func(tx store.Tx) (err error) {
		if q, err = tx.AddSequence(ctx, "Quiet water", plan, h.d.Clock.Now()); err != nil {
			return err
		}
		ana, _, err = tx.MeetPerson(ctx, store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example",
			Country: "NO", Company: "Fjord Farms"}, h.d.Clock.Now())
		return err
	}))
	h.must(h.s.SetEntry(ctx, q, store.Entry{Hand: true}, h.d.Clock.Now()))
	h.must(e.Launch(ctx, q, 1))

	// An admin: a territory, a quick clock, a stage, and where whoever is lost goes.
	h.signsIn("Wira Sandoval")
	h.goes("/settings/handing")
	h.types(`form[action="/settings/handing"] [name=respond]`, "1")
	h.types(`form[action="/settings/handing"] [name=next]`, "1")
	h.must(h.tab.Click(`form[action="/settings/handing"] .btn.main`))
	h.sees("Saved.")
	h.goes("/settings/handing/territories/new")
	h.types("#name", "North Sea")
	h.presses("a condition")
	h.types(`input[name="v.r.0"]`, "Norway")
	h.key("\t")
	h.sees("1 person now")
	h.chooses(`select[name=to]`, "Signe Aalto")
	h.presses("Save")
	h.sees("North Sea", "country is Norway", "Signe Aalto")
	h.goes("/settings/stages")
	h.types(`form[action="/settings/stages"] [name=name]`, "Second talk")
	h.types(`form[action="/settings/stages"] [name=share]`, "30")
	h.presses("Add")
	h.must(h.tab.Until("the stage", `document.querySelector('input[name=name][value="Second talk"]')`))
	h.chooses(`select[name=nurture]`, "Quiet water")
	h.types(`input[name=after]`, "1")
	h.must(h.tab.Run(`document.querySelector('select[name=nurture]').form.requestSubmit()`))
	h.must(h.tab.Until("it to be kept", `document.querySelector('input[name=after]')?.defaultValue === '1'`))

	// 9 points are below the line of 10, and 11 over it.
	did := func(k signal.Kind) {
		h.must(e.Record(ctx, store.Signal{Person: ana, Signal: signal.Signal{At: h.d.Clock.Now(), Kind: k}}))
	}
	did(signal.Click)
	h.goes("/people/1")
	h.sees("9 points, 1 to go to the ready line")
	h.presses("Who would get them?")
	h.sees("Signe Aalto has the territory “North Sea”")
	did(signal.Reply)
	h.goes("/people/1")
	h.sees("11 points, over the ready line of 10", "Handed over to Signe Aalto")

	// Nobody answers: two hours later it is the next one's.
	for range 2 {
		h.movesClock("Forward an hour")
	}
	h.must(h.until("the next one to have it", func() bool {
		list, err := h.s.HandoffsOf(ctx, store.Of(ana))
		return err == nil && len(list) == 1 && list[0].RepName == "Tomas Vale"
	}))
	h.signsIn("Tomas Vale")
	h.goes("/desk?kind=handoff")
	h.sees("Ana Strand", "in turn")
	h.presses("Why you")
	h.sees("Signe Aalto did not answer in time", "Tomas Vale is next in turn")
	h.key("a")
	h.sees("Accepted. A deal stands on the pipeline", "Nothing of that is to be done")
	h.goes("/pipeline")
	h.presses("Fjord Farms")
	h.sees("How it came here", "Accepted")
	h.chooses(`form[action$="/move"] select`, "Lost")
	h.sees("It was lost because")
	h.types(`input[name=reason]`, "no budget")
	h.presses("Save")
	h.sees("reason: nothing → no budget")

	// A day later they are back, and their page says why.
	h.movesClock("Forward a day")
	h.movesClock("Forward an hour")
	h.must(h.until("nurture to go on", func() bool {
		ways, err := h.s.PersonWays(ctx, ana)
		return err == nil && len(ways) == 1 && ways[0].Sequence == q
	}))
	h.goes("/people/1")
	h.sees("Entered “Quiet water”", "reason: no budget")
}

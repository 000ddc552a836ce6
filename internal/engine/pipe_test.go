package engine

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/engine/setup"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// lead adds one.
func (w *world) lead() int64 {
	w.t.Helper()
	id, err := w.e.AddUser(w.ctx, store.User{Name: "Lea", Email: "lea@karang.example", Role: "lead"})
	w.must(err)
	return id
}

// Stages belong to pipelines; what a team’s reps accept begins in theirs; pipelines come, change and go, and all of
// it can be taken back.
func TestSeveralPipelines(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	_, err := w.e.KeepTeam(w.ctx, store.Team{Name: "Service"}, lead)
	w.must(err)
	teams, err := w.s.Teams(w.ctx)
	w.must(err)
	team := teams[0].ID
	change, pipe, err := w.e.KeepPipeline(w.ctx, pipeline.Pipeline{Name: " Service  contracts ", Team: team}, lead)
	w.must(err)
	if _, _, err := w.e.KeepPipeline(w.ctx, pipeline.Pipeline{Name: "service contracts"}, lead); err == nil {
		t.Error("two pipelines of one name")
	}
	if _, _, err := w.e.KeepPipeline(w.ctx, pipeline.Pipeline{ID: 999, Name: "x"}, lead); !store.IsNotFound(err) {
		t.Errorf("a pipeline that is not there: %v", err)
	}
	due, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Due", Share: 40, Pipeline: pipe})
	w.must(err)
	if _, err := w.s.DB().ExecContext(w.ctx, "update app_user set team_id = $1 where id = $2", team,
		w.rep2); err != nil {
		t.Fatal(err)
	}
	stageOf := func(id int64) int64 {
		d, err := w.s.Deal(w.ctx, id)
		w.must(err)
		return d.Stage
	}
	ana := w.dealOf("Ana")
	p := w.caller("Ben", "NO", w.rep2)
	w.must(w.e.HandOver(w.ctx, p))
	ben, err := w.e.Accept(w.ctx, w.handoffOf(p).ID, w.rep2)
	w.must(err)
	if stageOf(ana) == due || stageOf(ben) != due {
		t.Errorf("the deals begin in %d and %d", stageOf(ana), stageOf(ben))
	}
	if a, err := w.e.AheadOf(w.ctx, pipe, 0, 3, 10); err != nil || len(a.Deals) != 1 || len(a.Stages) != 1 {
		t.Errorf("ahead of the second: %+v, %v", a, err)
	}
	// A deal can go to another pipeline's stage, and comes among its deals.
	w.must(w.e.MoveDeal(w.ctx, ana, due, 0, w.rep1))
	board, err := w.s.Board(w.ctx, store.BoardQuery{Pipeline: pipe, Each: 9})
	w.must(err)
	if len(board) != 2 {
		t.Errorf("%d on the second board", len(board))
	}
	// Stages change places within their pipeline alone.
	if _, err := w.e.MoveStage(w.ctx, due, -1, lead); err != nil {
		t.Error(err)
	}
	list, err := w.s.Stages(w.ctx)
	w.must(err)
	if list[len(list)-1].ID != due {
		t.Errorf("a stage left its pipeline: %+v", list)
	}
	if _, err := w.e.RemovePipeline(w.ctx, pipe, lead); !errors.Is(err, setup.ErrStagesIn) {
		t.Errorf("a pipeline with stages went: %v", err)
	}
	if err := w.e.UndoSetting(w.ctx, change, lead); !errors.Is(err, setup.ErrStagesIn) {
		t.Errorf("its coming was taken back: %v", err)
	}
	_, third, err := w.e.KeepPipeline(w.ctx, pipeline.Pipeline{Name: "Third"}, lead)
	w.must(err)
	gone, err := w.e.RemovePipeline(w.ctx, third, lead)
	w.must(err)
	w.must(w.e.UndoSetting(w.ctx, gone, lead))
	pipes, err := w.s.Pipelines(w.ctx)
	w.must(err)
	if len(pipes) != 3 || pipes[2] != (pipeline.Pipeline{ID: third, Name: "Third"}) {
		t.Errorf("after taking back: %+v", pipes)
	}
}

// TestWorthInSQL holds what the database says deals are worth against pipeline.Worth, over generated deals and
// rates, at the edges of days, in zones far apart.
func TestWorthInSQL(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(7, 61))
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	codes := []string{"EUR", "NOK", "JPY", "BHD", "USD"}
	noon := w.clock.Now().UTC().Truncate(24 * time.Hour)
	for i := range 60 {
		p := w.meet(store.NewPerson{First: "P", Email: fmt.Sprintf("p%d@n.example", i)})
		var closed *time.Time
		if i%3 > 0 {
			at := noon.AddDate(0, 0, -rnd.IntN(9)).Add([]time.Duration{0, -time.Microsecond, 10*time.Hour - 1000,
				-14 * time.Hour, -14*time.Hour - 1000}[rnd.IntN(5)])
			closed = &at
		}
		_, err := w.s.DB().ExecContext(w.ctx, `
			insert into deal (person_id, stage_id, name, amount, currency, opened_at, moved_at, closed_at)
			values ($1, $2, 'D', $3, $4, $5, $5, $6)`, p, stages[0].ID, rnd.Int64N(1e9), codes[rnd.IntN(len(codes))],
			noon.AddDate(0, -1, 0), closed)
		w.must(err)
	}
	for round := range 12 {
		var rates []pipeline.Rate
		for range 6 {
			r := pipeline.Rate{Currency: codes[1+rnd.IntN(3)], Base: []string{"EUR", "NOK"}[round%2],
				Day:   calendar.DateOf(noon, time.UTC).Add(-rnd.IntN(9)),
				Value: fmt.Sprintf("%d.%04d", rnd.IntN(12), 1+rnd.IntN(9998))}
			if r.Currency != r.Base {
				rates = append(rates, r)
			}
		}
		base := []string{"EUR", "NOK"}[round%2]
		zone, err := time.LoadLocation([]string{"UTC", "Pacific/Kiritimati", "Pacific/Honolulu"}[round%3])
		w.must(err)
		w.tx(func(tx store.Tx) error {
			if err := tx.KeepRates(w.ctx, rates); err != nil {
				return err
			}
			return tx.RateDeals(w.ctx, nil, base, zone, w.clock.Now())
		})
		known, err := w.s.Rates(w.ctx, base)
		w.must(err)
		deals, err := w.s.Deals(w.ctx, store.DealQuery{State: store.EveryDeal}, 100)
		w.must(err)
		if len(deals) != 60 {
			t.Fatalf("%d deals", len(deals))
		}
		for _, d := range deals {
			at := w.clock.Now()
			if d.Closed != nil {
				at = *d.Closed
			}
			want, rated := pipeline.Worth(d.Amount, d.Currency, base, known, calendar.DateOf(at, zone))
			if d.Worth != want || d.Rated != rated {
				t.Fatalf("%d %s closed %v in %s: %d %v, want %d %v by %+v", d.Amount, d.Currency, d.Closed, base,
					d.Worth, d.Rated, want, rated, known)
			}
		}
	}
}

// A deal has a currency of its own; sums are in the workspace's, by rates that can be set, changed and taken back.
func TestDealsInOtherMoney(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	ana := w.dealOf("Ana")
	w.must(w.e.SetAmount(w.ctx, ana, 10_000_00, "NOK", w.rep1))
	worth := func() (int64, bool) {
		d, err := w.s.Deal(w.ctx, ana)
		w.must(err)
		return d.Worth, d.Rated
	}
	if got, rated := worth(); got != 0 || rated {
		t.Errorf("without a rate: %d, %v", got, rated)
	}
	today := calendar.DateOf(w.clock.Now(), w.e.Zone())
	set := func(day calendar.Date, value string) int64 {
		change, err := w.e.SetRate(w.ctx, pipeline.Rate{Currency: "NOK", Day: day, Value: value}, lead)
		w.must(err)
		return change
	}
	set(today.Add(-10), "0.08")
	change := set(today, "0.09")
	if got, _ := worth(); got != 900_00 {
		t.Errorf("by today's rate: %d", got)
	}
	w.must(w.e.UndoSetting(w.ctx, change, lead))
	if got, _ := worth(); got != 800_00 {
		t.Errorf("when that is taken back: %d", got)
	}
	if _, err := w.e.SetRate(w.ctx, pipeline.Rate{Currency: "NOK", Day: today.Add(1), Value: "1"}, lead); err == nil {
		t.Error("a rate of tomorrow")
	}
	if n, err := w.e.SetRates(w.ctx, []pipeline.Rate{{Currency: "AUD", Day: today, Value: "0.6"},
		{Currency: "AUD", Day: today, Value: "cheap"}}); err == nil || !strings.Contains(err.Error(), "line 2") ||
		n != 0 {
		t.Errorf("a bad file: %d, %v", n, err)
	}
	// What is closed counts by the rate of its closing, whatever comes later.
	lost, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Lost", Lost: true})
	w.must(err)
	w.must(w.e.MoveDeal(w.ctx, ana, lost, 0, w.rep1))
	w.clock.set(w.clock.Now().AddDate(0, 0, 5))
	set(today.Add(5), "0.5")
	if got, _ := worth(); got != 800_00 {
		t.Errorf("closed: %d", got)
	}
	sums, err := w.s.StageSums(w.ctx, w.clock.Now().AddDate(0, 0, -30))
	w.must(err)
	if len(sums) != 1 || sums[0].Amount != 800_00 {
		t.Errorf("sums %+v", sums)
	}
	// In other money of the workspace the rates are others, and those that were stay for when it is back.
	ws := w.e.Workspace()
	ws.Currency = "NOK"
	back, err := w.e.ChangeWorkspace(w.ctx, ws, lead)
	w.must(err)
	if got, rated := worth(); got != 10_000_00 || !rated {
		t.Errorf("in kroner: %d, %v", got, rated)
	}
	w.must(w.e.UndoSetting(w.ctx, back, lead))
	if got, _ := worth(); got != 800_00 {
		t.Errorf("in euros again: %d", got)
	}
	for _, bad := range []string{"XXQ", "nok", "EURO"} {
		if w.e.SetAmount(w.ctx, ana, 1, bad, w.rep1) == nil {
			t.Errorf("an amount in %s", bad)
		}
	}
}

// People take part in deals: they are behind them, are not handed over meanwhile, and what asks for deals asks of
// them too. Whoever is accepted can join a deal that is open.
func TestPeopleTakePart(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.dealOf("Ana")
	eve, fay := w.caller("Eve", "NO", w.rep1), w.caller("Fay", "NO", w.rep1)
	w.must(w.e.SetPart(w.ctx, ana, eve, pipeline.Decides, w.rep1))
	w.must(w.e.SetPart(w.ctx, ana, eve, pipeline.Pays, w.rep1))
	d, err := w.s.Deal(w.ctx, ana)
	w.must(err)
	for who, part := range map[int64]pipeline.Part{d.Person: pipeline.Pays, fay: "signs", 99999: pipeline.Pays} {
		if w.e.SetPart(w.ctx, ana, who, part, w.rep1) == nil {
			t.Errorf("%d takes part as %q", who, part)
		}
	}
	if err := w.e.SetPart(w.ctx, ana, fay, pipeline.Pays, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another says who takes part: %v", err)
	}
	if err := w.e.HandOver(w.ctx, eve); !errors.Is(err, sales.ErrHanded) {
		t.Errorf("she is handed over: %v", err)
	}
	records, err := w.s.Records(w.ctx, []int64{eve})
	w.must(err)
	if len(records[eve].Deals) != 1 {
		t.Errorf("her deals: %+v", records[eve].Deals)
	}
	w.must(w.e.HandOver(w.ctx, fay))
	h := w.handoffOf(fay)
	if _, err := w.e.AcceptInto(w.ctx, h.ID, w.rep1, ana); err == nil {
		t.Error("she joins a deal of another company")
	}
	_, err = w.s.DB().ExecContext(w.ctx, `
		with c as (insert into company (name, domain, created_at) values ('Fjord', 'fjord.example',
			now()) returning id),
		p as (update person set company_id = c.id from c where person.id = $1)
		update deal set company_id = c.id from c where deal.id = $2`, fay, ana)
	w.must(err)
	got, err := w.e.AcceptInto(w.ctx, h.ID, w.rep1, ana)
	w.must(err)
	people, err := w.s.DealPeople(w.ctx, ana)
	w.must(err)
	if got != ana || len(people) != 2 || people[0].Part != "pays" || people[1].Person != fay {
		t.Errorf("%d: %+v", got, people)
	}
	w.must(w.e.TakeBack(w.ctx, h.ID, w.rep1))
	if people, err = w.s.DealPeople(w.ctx, ana); err != nil || len(people) != 1 || w.handoffOf(fay).State != "open" {
		t.Errorf("after taking it back: %+v, %v", people, err)
	}
	w.must(w.e.RemovePart(w.ctx, ana, eve, w.rep1))
	changes, err := w.s.DealChanges(w.ctx, ana)
	w.must(err)
	if len(changes) < 3 || changes[0].What != "takes part" || changes[0].Was != "Eve pays" || changes[0].Became != "" {
		t.Errorf("the history: %+v", changes)
	}
	// Two records of one person are in a deal once, and as before when that is taken back.
	w.must(w.e.SetPart(w.ctx, ana, eve, pipeline.Decides, w.rep1))
	batch, err := w.e.Merge(w.ctx, d.Person, eve, nil, w.marketer)
	w.must(err)
	if people, _ = w.s.DealPeople(w.ctx, ana); len(people) != 0 {
		t.Errorf("merged: %+v", people)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	if people, _ = w.s.DealPeople(w.ctx, ana); len(people) != 1 || people[0].Person != eve ||
		people[0].Part != "decides" {
		t.Errorf("parted again: %+v", people)
	}
}

// A step opens a deal in a stage, for the owner, about whoever has none; then they leave the sequences, as when a rep
// opens one.
func TestAStepOpensADeal(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	p := sequence.NewPlan()
	p.LaunchHold = false
	_, err = p.Insert(&sequence.Change{Acts: []act.Kept{{Act: act.OpenDeal{Stage: stages[1].ID}}}}, 0, "")
	w.must(err)
	q := w.running("To the pipeline", p)
	other := w.running("Nurture", w.twoEmails())
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	has := w.caller("Ben", "NO", w.rep1)
	w.must(w.e.HandOver(w.ctx, has))
	old, err := w.e.Accept(w.ctx, w.handoffOf(has).ID, w.rep1)
	w.must(err)
	w.enters(other, ana)
	w.enters(q, ana, has)
	w.settle()
	list, err := w.s.PersonDeals(w.ctx, ana)
	w.must(err)
	if len(list) != 1 || list[0].Stage != stages[1].ID || list[0].Sequence != q || list[0].Currency != "EUR" {
		t.Errorf("her deals: %+v", list)
	}
	if list, _ = w.s.PersonDeals(w.ctx, has); len(list) != 1 || list[0].ID != old {
		t.Errorf("his deals: %+v", list)
	}
	if n := w.count("select count(*) from enrolment where person_id = $1 and sequence_id = $2 and ended_at is not null "+
		"and reason = $3", ana, other, string(sequence.DealOpened)); n != 1 {
		t.Error("she is on the other sequence still")
	}
}

// Deals are opened by hand about whoever has none, by reps for themselves; files and their bounds.
func TestADealByHand(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	if _, err := w.e.OpenByHand(w.ctx, store.NewDeal{Person: ana, Rep: w.marketer}, w.marketer); err == nil {
		t.Error("a marketer opens one")
	}
	id, err := w.e.OpenByHand(w.ctx, store.NewDeal{Person: ana, Rep: w.rep1, Name: " Three pens ", Amount: 5_00,
		Currency: "EUR"}, w.rep1)
	w.must(err)
	if _, err := w.e.OpenByHand(w.ctx, store.NewDeal{Person: ana, Rep: w.rep1}, w.rep1); !errors.Is(err,
		sales.ErrHasDeal) {
		t.Errorf("a second: %v", err)
	}
	d, err := w.s.Deal(w.ctx, id)
	w.must(err)
	if d.Name != "Three pens" || d.Worth != 5_00 || *d.Rep != w.rep1 {
		t.Errorf("opened %+v", d)
	}
	// Whoever was lost and has another by now keeps that one open.
	lost, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Lost", Lost: true})
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	w.must(w.e.MoveDeal(w.ctx, id, lost, 0, w.rep1))
	_, err = w.e.OpenByHand(w.ctx, store.NewDeal{Person: ana, Rep: w.rep1}, w.rep1)
	w.must(err)
	if err := w.e.MoveDeal(w.ctx, id, stages[0].ID, 0, w.rep1); !errors.Is(err, store.ErrTwoOpen) {
		t.Errorf("two open: %v", err)
	}
	w.must(w.e.AttachFile(w.ctx, store.DealFile{Deal: id, Name: "offer.pdf", Type: "application/pdf"}, []byte("%PDF"),
		w.rep1))
	for _, bad := range [][]byte{nil, make([]byte, pipeline.MaxFile+1)} {
		if w.e.AttachFile(w.ctx, store.DealFile{Deal: id, Name: "x"}, bad, w.rep1) == nil {
			t.Errorf("%d bytes are kept", len(bad))
		}
	}
	files, err := w.s.DealFiles(w.ctx, id)
	w.must(err)
	_, data, err := w.s.DealFile(w.ctx, id, files[0].ID)
	if err != nil || string(data) != "%PDF" || len(files) != 1 || files[0].Size != 4 {
		t.Errorf("the file: %+v, %q, %v", files, data, err)
	}
	if err := w.e.RemoveFile(w.ctx, id, files[0].ID, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's file: %v", err)
	}
	w.must(w.e.RemoveFile(w.ctx, id, files[0].ID, w.rep1))
}

package engine

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
	"ombak/internal/roster"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// dealFile is a file of deals, with | between cells.
func dealFile(rows ...string) []byte {
	return []byte(strings.ReplaceAll(strings.Join(rows, "\n"), "|", ";") + "\n")
}

// A file of deals opens some and changes some, says of each row that cannot be why, teaches what its columns say, and
// is taken back as far as nobody has touched what came of it.
func TestDealsOfAFile(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	won, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Won", Share: 100, Won: true})
	w.must(err)
	_, err = w.e.SetRate(w.ctx, pipeline.Rate{Currency: "NOK", Day: calendar.Date{Year: 2026, Month: time.January,
		Day: 1}, Value: "0.1"}, lead)
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	first, second := stages[0], stages[1]
	known := w.dealOf("Known")
	same := w.dealOf("Same")
	other := w.dealOf("Other")
	names := map[string]int64{}
	for _, n := range []string{"ana", "bo", "cy", "dee"} {
		names[n] = w.meet(store.NewPerson{First: strings.ToUpper(n), Email: n + "@pens.example"})
	}
	rep, err := w.s.User(w.ctx, w.rep2)
	w.must(err)
	file := dealFile("deal|person|name|stage|amount|currency|rep|opened|closed|expected|"+first.Name+"|"+second.Name,
		"|ana@pens.example|Pumps|Won|1000|NOK|"+rep.Email+"|2026-01-05|2026-03-01||2026-01-05|2026-02-01",
		"|ana@pens.example|More pumps|"+second.Name+"|||nobody|2026-03-02||2026-09-01||",
		"|bo@pens.example||||||||||",
		"|bo@pens.example||||||||||",
		"|nobody@pens.example||||||||||",
		fmt.Sprintf("%d||Renamed|%s|77|NOK|%s|||||", known, second.Name, rep.Email),
		fmt.Sprintf("%d||||||||||||", same),
		fmt.Sprintf("%d||Twice|||||||||", known),
		"999999|||||||||||",
		fmt.Sprintf("%d||||||x@y.example|||||", other),
		"|cy@pens.example||Nowhere||||||||",
		fmt.Sprintf("%d|dee@pens.example|Stolen||||||||||", other), // as a file from another workspace has it
	)
	if _, err := w.e.CheckDeals(w.ctx, "deals.csv", file, w.rep1); err == nil {
		t.Error("a rep imports deals")
	}
	id, err := w.e.CheckDeals(w.ctx, "deals.csv", file, lead)
	w.must(err)
	i, err := w.s.DealImport(w.ctx, id)
	w.must(err)
	c := i.Counts.V
	if c.Rows != 12 || c.Opens != 3 || c.Closed != 1 || c.Changes != 1 || c.Same != 1 || c.Wrong != 7 || !c.Passes {
		t.Fatalf("it comes to %+v", c)
	}
	for n, says := range []string{"line 4 opens a deal", "nobody here has the address", "line 7 is about the same",
		"none with the number", "has the address “x@y.example”", "none called “Nowhere”",
		"is about somebody else"} {
		if !strings.Contains(i.Problems.V[n].Why, says) {
			t.Errorf("row %d: %s", i.Problems.V[n].Line, i.Problems.V[n].Why)
		}
	}
	var mend bytes.Buffer
	w.must(w.e.DealsToMend(w.ctx, id, &mend))
	if !strings.Contains(mend.String(), "nobody@pens.example") || strings.Count(mend.String(), "\n") != 8 {
		t.Errorf("to mend: %s", &mend)
	}
	if w.count("select count(*) from deal") != 3 {
		t.Fatal("a check opened deals")
	}

	// Somebody else opens one about Bo before the file is imported, and the known deal is lost on the way.
	_, err = w.e.OpenByHand(w.ctx, store.NewDeal{Person: names["bo"], Rep: lead}, lead)
	w.must(err)
	at := w.clock.Now()
	c, err = w.e.ImportDeals(w.ctx, id, lead)
	w.must(err)
	if c.Opened != 2 || c.Changed != 1 || c.Since != 1 {
		t.Fatalf("imported: %+v", c)
	}
	if _, err := w.e.ImportDeals(w.ctx, id, lead); err == nil {
		t.Error("imported twice")
	}
	deals, err := w.s.PersonDeals(w.ctx, names["ana"])
	w.must(err)
	open, closed := deals[0], deals[1]
	if open.Closed != nil {
		open, closed = closed, open
	}
	if closed.Stage != won || closed.Amount != 100000 || closed.Worth != 10000 || *closed.Rep != w.rep2 ||
		closed.Closed.Format(time.DateOnly) != "2026-03-01" || !closed.Moved.Equal(*closed.Closed) {
		t.Errorf("the one that was won: %+v", closed)
	}
	if open.Stage != second.ID || open.Rep != nil || open.Expected.Format(time.DateOnly) != "2026-09-01" ||
		open.Opened.Format(time.DateOnly) != "2026-03-02" {
		t.Errorf("the open one: %+v", open)
	}
	d, err := w.s.Deal(w.ctx, known)
	w.must(err)
	if d.Name != "Renamed" || d.Stage != second.ID || d.Amount != 7700 || d.Worth != 770 || *d.Rep != w.rep2 {
		t.Errorf("the one that was changed: %+v", d)
	}
	moves, err := w.s.DealMoves(w.ctx, closed.ID)
	w.must(err)
	if len(moves) != 3 || moves[0].Stage != "Won" || moves[1].Stage != second.Name || moves[2].Stage != first.Name {
		t.Errorf("it came through %+v", moves)
	}
	w.settle()
	if w.count("select count(*) from deal where leaving") != 0 || w.count("select count(*) from comeback") != 0 {
		t.Error("somebody has still to leave, or comes back")
	}

	// What is exported can be imported: nothing changes.
	var out bytes.Buffer
	w.must(w.e.ExportDeals(w.ctx, store.DealQuery{State: store.EveryDeal}, roster.XLSX, &out))
	again, err := w.e.CheckDeals(w.ctx, "again.xlsx", out.Bytes(), lead)
	w.must(err)
	i, err = w.s.DealImport(w.ctx, again)
	w.must(err)
	if c := i.Counts.V; c.Same != 6 || c.Rows != 6 || len(c.Unread) != 0 || !c.Passes {
		t.Errorf("the export comes to %+v, %+v", c, i.Problems.V)
	}

	// The open one is moved on; what nobody touched goes, and what was changed is as before.
	w.clock.set(at.Add(time.Hour))
	w.must(w.e.MoveDeal(w.ctx, open.ID, first.ID, 0, lead))
	back, since, err := w.e.UndoDealImport(w.ctx, id, lead)
	w.must(err)
	if back != 2 || since != 1 {
		t.Errorf("%d back, %d stay", back, since)
	}
	d, err = w.s.Deal(w.ctx, known)
	w.must(err)
	if d.Name == "Renamed" || d.Stage != first.ID || d.Currency != w.e.Workspace().Currency || *d.Rep != w.rep1 {
		t.Errorf("taken back: %+v", d)
	}
	if _, err := w.s.Deal(w.ctx, closed.ID); !store.IsNotFound(err) {
		t.Errorf("the one that was opened is there: %v", err)
	}
	if _, _, err := w.e.UndoDealImport(w.ctx, id, lead); err == nil {
		t.Error("taken back twice")
	}
	w.must(w.s.ForgetDealImports(w.ctx, w.clock.Now().Add(time.Minute)))
	if list, err := w.s.DealImports(w.ctx, 10); err != nil || len(list) != 1 || list[0].Counts.V.Opened != 2 ||
		w.count("select jsonb_array_length(problems) from deal_import") != 0 {
		t.Errorf("what is left: %+v (%v)", list, err)
	}
}

// A file can be as long as it may, and no longer; what is no file of deals is refused whole.
func TestFilesThatAreNoDeals(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	for says, file := range map[string][]byte{"needs a column": dealFile("name", "x"), "no rows": dealFile("person"),
		"cards name people": []byte("BEGIN:VCARD\nVERSION:4.0\nFN:A\nEND:VCARD\n"),
		"more than 5000":    dealFile("person", strings.Repeat("a@b.example\n", 5001))} {
		if _, err := w.e.CheckDeals(w.ctx, "x", file, lead); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", says, err)
		}
	}
	if n := w.count("select count(*) from deal_import"); n != 0 {
		t.Errorf("%d were kept", n)
	}
}

// A stage that goes between the look at a file and its import: what the file opens in it is left out, and a deal that it
// would bring there stays where it is, with all else that its row says.
func TestAStageGoesBeforeTheImport(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	gone, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Soon gone", Share: 30})
	w.must(err)
	deal := w.dealOf("Ana")
	w.meet(store.NewPerson{First: "Bo", Email: "bo@pens.example"})
	id, err := w.e.CheckDeals(w.ctx, "deals.csv", dealFile("deal|person|name|stage",
		fmt.Sprintf("%d||Renamed|Soon gone", deal), "|bo@pens.example||Soon gone"), lead)
	w.must(err)
	was, err := w.s.Deal(w.ctx, deal)
	w.must(err)
	_, err = w.s.DB().ExecContext(w.ctx, "delete from stage where id = $1", gone)
	w.must(err)
	c, err := w.e.ImportDeals(w.ctx, id, lead)
	w.must(err)
	is, err := w.s.Deal(w.ctx, deal)
	w.must(err)
	if c.Opened != 0 || c.Changed != 1 || is.Name != "Renamed" || is.Stage != was.Stage {
		t.Errorf("%+v; the deal is %+v", c, is)
	}
	if back, _, err := w.e.UndoDealImport(w.ctx, id, lead); err != nil || back != 1 {
		t.Errorf("%d are taken back, %v", back, err)
	}
}

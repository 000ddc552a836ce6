package store_test

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/handoff"
	"ombak/internal/core/message"
	"ombak/internal/core/news"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

var at = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

// kept is a database with the means to use it briefly.
type kept struct {
	t   *testing.T
	ctx context.Context
	*store.Store
}

func open(t *testing.T) kept { return kept{t, t.Context(), storetest.New(t)} }

func (k kept) must(err error) {
	k.t.Helper()
	if err != nil {
		k.t.Fatal(err)
	}
}

// run runs a statement, as somebody who writes into the tables by hand.
func (k kept) run(q string, args ...any) {
	k.t.Helper()
	if _, err := k.DB().ExecContext(k.ctx, q, args...); err != nil {
		k.t.Fatalf("%.200s: %v", q, err)
	}
}

func (k kept) tx(f func(store.Tx) error) {
	k.t.Helper()
	k.must(k.InTx(k.ctx, f))
}

func (k kept) user(name, role string) int64 {
	k.t.Helper()
	id, err := k.AddUser(k.ctx,
		store.User{Name: name, Email: name + "@karang.example", Role: right.Role(role), PasswordHash: "x"},
		at)
	k.must(err)
	return id
}

func (k kept) meet(p store.NewPerson) (id int64, fresh bool) {
	k.t.Helper()
	k.tx(func(tx store.Tx) error {
		var err error
		id, fresh, err = tx.MeetPerson(k.ctx, p, at)
		return err
	})
	return id, fresh
}

func TestMeetingAgainFillsGapsOnly(t *testing.T) {
	k := open(t)
	a, fresh := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord Farms",
		Domain: "fjord.example"})
	if !fresh {
		t.Error("somebody new is not fresh")
	}
	b, fresh := k.meet(store.NewPerson{First: "Anna", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord",
		Domain: "fjord.example", Country: "NO"})
	if a != b || fresh {
		t.Errorf("met twice: %d and %d, fresh %v", a, b, fresh)
	}
	p, err := k.Person(k.ctx, a)
	k.must(err)
	if p.First != "Ana" || p.Last != "Strand" || p.Company != "Fjord Farms" || p.Country != "NO" {
		t.Errorf("%+v", p)
	}
	c, _ := k.meet(store.NewPerson{Email: "ben@fjord.example", Domain: "fjord.example"})
	q, err := k.Person(k.ctx, c)
	k.must(err)
	if *q.CompanyID != *p.CompanyID {
		t.Error("colleagues are at two companies")
	}
	// A free-mail address tells no company; its name does.
	d, _ := k.meet(store.NewPerson{Email: "c@freemail.example", Company: "FJORD FARMS"})
	if r, err := k.Person(k.ctx, d); err != nil || *r.CompanyID != *p.CompanyID {
		t.Errorf("the same name made another company: %+v, %v", r, err)
	}
}

func TestDraftsUndoAndRedo(t *testing.T) {
	k := open(t)
	var id int64
	k.tx(func(tx store.Tx) (err error) {
		id, err = tx.AddSequence(k.ctx, "Guide", sequence.NewPlan(), at)
		return err
	})
	save := func(n int, what string) (ok bool) {
		k.tx(func(tx store.Tx) (err error) {
			p := sequence.NewPlan()
			p.LastID = sequence.StepID(100 + n)
			ok, err = tx.SaveDraft(k.ctx, id, n, p, what, at)
			return err
		})
		return ok
	}
	move := func(by int) (ok bool) {
		k.tx(func(tx store.Tx) (err error) {
			ok, err = tx.MoveDraft(k.ctx, id, by, at)
			return err
		})
		return ok
	}
	is := func(name string, n, last int, what string) {
		t.Helper()
		d, err := k.Draft(k.ctx, id)
		if err != nil || d.N != n || d.Last != last || d.What != what {
			t.Errorf("%s: state %d of %d after %q, %v; want %d of %d after %q", name, d.N, d.Last, d.What, err, n, last,
				what)
		}
	}
	if !save(0, "one") || !save(1, "two") {
		t.Fatal("not saved")
	}
	is("after two changes", 2, 2, "two")
	if save(1, "late") {
		t.Error("a change of a state that is past was taken")
	}
	if !move(-1) || !move(-1) || move(-1) {
		t.Error("undo goes back twice and no further")
	}
	is("undone", 0, 2, "new")
	if !move(1) {
		t.Error("redo")
	}
	is("redone", 1, 2, "one")
	if !save(1, "another") {
		t.Error("a change after undo")
	}
	is("what could have been redone is gone", 2, 2, "another")
	if move(1) {
		t.Error("redo after a change")
	}
}

func TestSavedMessagesKeepTheirVersions(t *testing.T) {
	k := open(t)
	u := k.user("ines", "marketer")
	var id int64
	for n, subject := range []string{"One", "Two"} {
		k.tx(func(tx store.Tx) (err error) {
			id, err = tx.SaveMessage(k.ctx,
				store.Message{ID: id, Name: "Guide", Doc: store.JSON[message.Document]{V: message.Simple(subject, "x")},
					SenderID: &u}, u, at.Add(time.Duration(n)*time.Hour))
			return err
		})
	}
	m, err := k.Message(k.ctx, id)
	k.must(err)
	if m.Version != 2 || m.Subject != "Two" || m.Sender != "ines" {
		t.Errorf("%+v", m)
	}
	var one string
	k.must(k.DB().QueryRow("select subject from message_version where message_id = $1 and version = 1", id).Scan(&one))
	if one != "One" {
		t.Errorf("the first version is now %q", one)
	}
}

func TestPagesHaveAddressesOfTheirOwn(t *testing.T) {
	k := open(t)
	keep := func(p store.Page, file []byte) (id int64, err error) {
		p.Doc.V = page.New("A", "<p>a</p>", "x")
		err = k.InTx(k.ctx, func(tx store.Tx) error {
			id, err = tx.SavePage(k.ctx, p, file, at)
			return err
		})
		return id, err
	}
	id, err := keep(store.Page{Slug: "guide", Offer: "B", FileName: "a.txt", FileType: "text/plain"}, []byte("file"))
	k.must(err)
	if _, err := keep(store.Page{Slug: "guide"}, nil); !errors.Is(err, store.ErrTaken) {
		t.Errorf("the same address: %v", err)
	}
	_, err = keep(store.Page{ID: id, Slug: "guide", Offer: "C"}, nil)
	k.must(err)
	p, err := k.PageBySlug(k.ctx, "guide")
	k.must(err)
	if p.Offer != "C" || p.Title != "A" || p.FileName != "a.txt" || p.FileSize != 4 {
		t.Errorf("saving without a file lost it: %+v", p)
	}
}

func TestDealsKeepTheOrderTheyAreDraggedInto(t *testing.T) {
	k := open(t)
	rep := k.user("tomas", "rep")
	var stages []int64
	for _, s := range []pipeline.Stage{{Name: "Accepted"}, {Name: "Talking"}, {Name: "Won", Won: true}} {
		id, err := k.AddStage(k.ctx, s)
		k.must(err)
		stages = append(stages, id)
	}
	var deals []int64
	for n := range 4 {
		p, _ := k.meet(store.NewPerson{First: fmt.Sprint("P", n), Email: fmt.Sprintf("p%d@x.example", n)})
		k.tx(func(tx store.Tx) error {
			h := store.NewHandoff{Person: p, Rep: rep, MadeBy: "hand", How: string(handoff.InTurn), At: at}
			if _, err := tx.AddHandoffs(k.ctx, []store.NewHandoff{h}); err != nil {
				return err
			}
			list, err := k.HandoffsOf(k.ctx, store.Of(p))
			if err != nil || len(list) != 0 { // not committed yet
				return fmt.Errorf("%d handoffs seen from outside, %v", len(list), err)
			}
			return nil
		})
		open, err := k.OpenHandoffs(k.ctx, rep, store.MostHandoffs)
		k.must(err)
		k.tx(func(tx store.Tx) error {
			h, err := tx.DecideHandoff(k.ctx, open[0].ID, rep, "accepted", "", at)
			if err != nil {
				return err
			}
			n := store.NewDeal{Person: h.Person, Rep: rep, Handoff: h.ID, Currency: "EUR"}
			d, fresh, err := tx.OpenDeal(k.ctx, n, at)
			deals = append(deals, d)
			again, anew, err2 := tx.OpenDeal(k.ctx, n, at)
			if again != d || !fresh || anew {
				t.Errorf("a second deal was opened for one person: %d and %d", d, again)
			}
			return errors.Join(err, err2)
		})
	}
	move := func(deal, stage, before int64) {
		k.tx(func(tx store.Tx) error {
			_, err := tx.MoveDeal(k.ctx, deal, stage, before, rep, at.Add(time.Hour))
			return err
		})
	}
	order := func(stage int64) (out []int64) {
		board, err := k.Board(k.ctx, store.BoardQuery{Pipeline: 1, ClosedSince: at, Each: 20})
		k.must(err)
		for _, d := range board {
			if d.Stage == stage {
				out = append(out, d.ID)
			}
		}
		return out
	}
	a, b, c, d := deals[0], deals[1], deals[2], deals[3]
	if got, want := fmt.Sprint(order(stages[0])), fmt.Sprint([]int64{d, c, b, a}); got != want {
		t.Errorf("the newest come first: %s, want %s", got, want)
	}
	move(a, stages[1], 0)
	move(b, stages[1], 0)
	move(c, stages[1], b) // between a and b
	move(d, stages[1], a) // before all
	if got, want := fmt.Sprint(order(stages[1])), fmt.Sprint([]int64{d, a, c, b}); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	move(a, stages[2], 0)
	board, err := k.Board(k.ctx, store.BoardQuery{Pipeline: 1, ClosedSince: at, Each: 20})
	k.must(err)
	for _, x := range board {
		if (x.Closed != nil) != (x.ID == a) {
			t.Errorf("deal %d closed: %v", x.ID, x.Closed)
		}
	}
	move(a, stages[1], 0)
	if list, err := k.PersonMoves(k.ctx, board[0].Person); err != nil || len(list) < 2 {
		t.Errorf("%d moves, %v", len(list), err)
	}
}

func TestOneOpenHandoffEach(t *testing.T) {
	k := open(t)
	rep, other := k.user("tomas", "rep"), k.user("uma", "rep")
	p, _ := k.meet(store.NewPerson{Email: "a@x.example"})
	hand := func(n int) (made []int64) {
		list := slices.Repeat([]store.NewHandoff{{Person: p, Rep: rep, MadeBy: "hand", How: string(handoff.InTurn),
			At: at}}, n)
		k.tx(func(tx store.Tx) (err error) {
			made, err = tx.AddHandoffs(k.ctx, list)
			return err
		})
		return made
	}
	// Asked for twice at once, and once more.
	if len(hand(2)) != 1 || len(hand(1)) != 0 {
		t.Error("two open handoffs for one person")
	}
	list, err := k.OpenHandoffs(k.ctx, rep, store.MostHandoffs)
	k.must(err)
	if n, err := k.OpenHandoffs(k.ctx, other, store.MostHandoffs); err != nil || len(n) != 0 {
		t.Errorf("another rep sees %d, %v", len(n), err)
	}
	if of, err := workOwner(k, list[0].ID); err != nil || of.User == nil || *of.User != rep {
		t.Errorf("it is of %v, %v", of, err)
	}
	k.tx(func(tx store.Tx) error {
		_, err := tx.DecideHandoff(k.ctx, list[0].ID, rep, "sent back", "no site", at)
		return err
	})
	if len(hand(1)) != 1 {
		t.Error("after it was sent back they can be handed over again")
	}
	if _, err := workOwner(k, list[0].ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("decided, it is still work: %v", err)
	}
}

func workOwner(k kept, handoff int64) (of store.Whose, err error) {
	err = k.InTx(k.ctx, func(tx store.Tx) error {
		of, err = tx.OwnerOfWork(k.ctx, store.HandoffWork, handoff)
		return err
	})
	return of, err
}

func TestSignalsFindTheirMonth(t *testing.T) {
	k := open(t)
	p, _ := k.meet(store.NewPerson{Email: "a@x.example"})
	k.must(k.EnsureMonths(k.ctx, at, at.AddDate(0, 1, 0)))
	k.must(k.EnsureMonths(k.ctx, at, at.AddDate(0, 1, 0)))
	// the last has no month yet: nothing is lost
	for _, when := range []time.Time{at, at.AddDate(0, 1, 0), at.AddDate(2, 0, 0)} {
		k.tx(func(tx store.Tx) error {
			return tx.AddSignals(k.ctx,
				[]store.Signal{{Person: p,
					Signal: signal.Signal{At: when, Kind: signal.Open, Place: signal.Place{Page: 3}}}})
		})
	}
	list, err := k.PersonSignals(k.ctx, p)
	k.must(err)
	if len(list) != 3 || list[0].Page != 3 || !list[0].At.Equal(at) {
		t.Errorf("%+v", list)
	}
	var elsewhere int
	k.must(k.DB().QueryRow("select count(*) from signal_other").Scan(&elsewhere))
	if elsewhere != 1 {
		t.Errorf("%d signals are in no month", elsewhere)
	}
	// What came before its month had room moves there, and stays what it was.
	for range 2 {
		k.must(k.EnsureMonths(k.ctx, at.AddDate(2, 0, 0), at.AddDate(2, 0, 0)))
	}
	k.must(k.DB().QueryRow("select count(*) from signal_other").Scan(&elsewhere))
	moved, err := k.PersonSignals(k.ctx, p)
	k.must(err)
	if elsewhere != 0 || !reflect.DeepEqual(moved, list) {
		t.Errorf("%d are left in the catch-all; moved: %+v", elsewhere, moved)
	}
}

func TestIncomingOnce(t *testing.T) {
	k := open(t)
	for n, want := range []bool{true, false} {
		k.tx(func(tx store.Tx) error {
			fresh, err := tx.AddIncoming(k.ctx,
				store.Incoming{MailID: "a@x.example", At: at, Kind: signal.Reply, Sender: "a@x.example"})
			if fresh != want {
				t.Errorf("time %d: fresh %v", n+1, fresh)
			}
			return err
		})
	}
}

func TestSettingsAndTelling(t *testing.T) {
	k := open(t)
	var v string
	if there, err := k.Setting(k.ctx, "x", &v); there || err != nil {
		t.Errorf("%v, %v", there, err)
	}
	k.must(k.InitSetting(k.ctx, "x", "one"))
	k.must(k.InitSetting(k.ctx, "x", "two"))
	if _, err := k.Setting(k.ctx, "x", &v); v != "one" || err != nil {
		t.Errorf("%q, %v", v, err)
	}
	ctx, cancel := context.WithTimeout(k.ctx, 10*time.Second)
	defer cancel()
	heard := make(chan string, 8)
	go k.Listen(ctx, func(topic string) { heard <- topic })
	for {
		k.must(k.Tell(ctx, news.Desk))
		select {
		case topic := <-heard:
			if topic != "desk" {
				t.Errorf("heard %q", topic)
			}
			return
		case <-time.After(50 * time.Millisecond): // not listening yet
		case <-ctx.Done():
			t.Fatal("nothing was heard")
		}
	}
}

// The rule of who may be reached, in SQL against the core, over every
// combination of what is known of somebody, and so who may enter a sequence.
func TestWhoMayBeReachedInSQL(t *testing.T) {
	k := open(t)
	var purpose int64
	k.must(k.DB().QueryRow("insert into purpose (name) values ('News about buoys') returning id").Scan(&purpose))
	var other int64
	k.must(k.DB().QueryRow("insert into purpose (name) values ('News about fish') returning id").Scan(&other))
	n := 0
	for bits := range 1 << 7 {
		for consent := contact.Nothing; consent <= contact.Withdrawn; consent++ {
			n++
			has := func(i int) bool { return bits>>i&1 == 1 }
			f := contact.Facts{Erased: has(0), Email: has(1), DoNotContact: has(2), OptedOut: has(3), Bounced: has(4),
				Phone: has(5), NoCalls: has(6), Consents: contact.Consents{{Purpose: purpose, Is: consent}}}
			p, _ := k.meet(store.NewPerson{First: "P", Email: fmt.Sprintf("p%d@x.example", n)})
			_, err := k.DB().Exec(`
				update person
				set erased_at = case when $2 then $6::timestamptz end, email = case when $3 then email else '' end,
				do_not_contact = $4, opted_out_at = case when $5 then $6::timestamptz end, bounced_at = case
					when $7 then $6::timestamptz end, phone = case when $8 then '+4755500100' else '' end
					, no_calls_at = case when $9 then $6::timestamptz end
				where id = $1`,
				p, f.Erased, f.Email, f.DoNotContact, f.OptedOut, at, f.Bounced, f.Phone, f.NoCalls)
			k.must(err)
			if n%2 == 0 { // they agreed to what a single email asks
				f.Consents = append(f.Consents, contact.Said{Purpose: other, Is: contact.Agreed})
				_, err := k.DB().Exec("insert into consent (person_id, purpose_id, given, current, at, how) values "+
					"($1, $2, true, true, $3, 'by hand')", p, other, at)
				k.must(err)
			}
			if consent != contact.Nothing {
				_, err := k.DB().Exec("insert into consent (person_id, purpose_id, given, current, at, how) values "+
					"($1, $2, $3, true, $4, 'by hand')", p, purpose, consent == contact.Agreed, at)
				k.must(err)
			}
			for _, g := range []contact.Ground{{Purpose: purpose}, {Other: "customer"}, {Request: true},
				{Claimed: true}, {}} {
				for _, by := range []contact.Channel{contact.Email, contact.Call} {
					got, err := k.WhyNot(k.ctx, p, by, g)
					k.must(err)
					if want := contact.Why(f, by, g); got != want {
						t.Errorf("%+v on %+v: %q, the core says %q", f, g, got, want)
					}
				}
				for _, steps := range [][]sequence.Step{{&sequence.Call{}}, {&sequence.Call{}, &sequence.Email{}},
					{&sequence.Email{}, &sequence.Email{Request: true}}, {&sequence.Email{Purpose: other}},
					{&sequence.Email{Purpose: other}, &sequence.Call{}}} {
					plan := &sequence.Plan{Ground: g, Steps: steps}
					got, err := k.WhyNotEnter(k.ctx, p, plan.Ways())
					k.must(err)
					if want := plan.WhyNot(f); got != want {
						t.Errorf("%+v enters %v on %+v: %q, the core says %q", f, plan.Ways(), g, got, want)
					}
				}
			}
			k.tx(func(tx store.Tx) error {
				reach, err := tx.Reachable(k.ctx, []int64{p})
				if reach[p] != contact.Reachable(f) {
					t.Errorf("%+v is reachable: %v", f, reach[p])
				}
				return err
			})
		}
	}
}

// Words are found anywhere, in any order, without accents and whatever stands
// between them; of many people alike too.
func TestSearch(t *testing.T) {
	t.Run("few have it", testSearch)
	back := store.AskRows(4000)
	t.Run("many have it", testSearch)
	back()
	defer store.AskRows(3)()
	t.Run("many have it, further down", testSearch)
}

func testSearch(t *testing.T) {
	k := open(t)
	owen, _ := k.meet(store.NewPerson{First: "Owen", Last: "Munro", Email: "owen@north.example",
		Company: "North Reservoirs Ltd", Domain: "north.example"})
	kuhl, _ := k.meet(store.NewPerson{First: "Zoë", Last: "Kühl-Strauß", Email: "z@x.example"})
	for i := range 30 {
		k.meet(store.NewPerson{First: "Anna", Last: fmt.Sprintf("Vik%d", i),
			Email: fmt.Sprintf("vik%d@farm.example", i)})
	}
	for text, want := range map[string][]int64{
		"Munro, Owen": {owen}, "owen munro": {owen}, "unr": {owen}, "reservoir": {owen}, "NORTH mun": {owen},
		"north.example": {owen},
		"Kuhl":          {kuhl}, "kühl": {kuhl}, "zoe": {kuhl}, "strauss": {kuhl}, "Strauß": {kuhl}, "hl-st": {kuhl},
		"mu": {owen}, "o": {owen}, "nr": nil,
		"munro reservoir owen": {owen}, "munro kuhl": nil, "%": nil, "o_en": nil, "\\": nil, "vik29": {32}, "()": nil,
	} {
		for _, order := range []store.Order{store.ByName, store.ByScore, store.ByEmail, store.ByCompany, store.Newest} {
			list, _, err := k.People(k.ctx, store.PeopleQuery{Text: text, Order: order, Limit: 10, Now: at})
			k.must(err)
			var got []int64
			for _, p := range list {
				got = append(got, p.ID)
			}
			if !slices.Equal(got, want) {
				t.Errorf("%q finds %v by %s, want %v", text, got, order, want)
			}
		}
		n, err := k.CountPeople(k.ctx, store.PeopleQuery{Text: text, Now: at})
		if k.must(err); n != int64(len(want)) {
			t.Errorf("%q counts %d, want %d", text, n, len(want))
		}
	}
	list, _, err := k.People(k.ctx, store.PeopleQuery{Text: "anna farm", Order: store.Newest, Limit: 50, Now: at})
	if k.must(err); len(list) != 30 {
		t.Errorf("many alike: %d", len(list))
	}
	// Words follow the record and its company.
	for _, q := range []string{"update person set last_name = 'Njål' where id = $1",
		"update company set name = 'Söder Dæms' where id = (select company_id from person where id = $1)"} {
		_, err := k.DB().Exec(q, owen)
		k.must(err)
	}
	lost := k.unlikeTheRecords()
	for text, want := range map[string]int64{"owen njal": 1, "soder daems": 1, "so nj": 1, "munro": 0, "reservoir": 0} {
		n, err := k.CountPeople(k.ctx, store.PeopleQuery{Text: text, Now: at})
		if k.must(err); n != want || lost != 0 {
			t.Errorf("changed, %q counts %d, want %d; %d rows are not as they should be", text, n, want, lost)
		}
	}
	_, err = k.DB().Exec("update person set company_id = null where id = $1", owen)
	k.must(err)
	if n, err := k.CountPeople(k.ctx, store.PeopleQuery{Text: "daems", Now: at}); err != nil || n != 0 {
		t.Errorf("who has left a company is found by it: %d, %v", n, err)
	}
	// And what they are put in order by follows too.
	k.tx(func(tx store.Tx) error {
		m, err := tx.SaveModel(k.ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15}}, store.Made{At: at})
		return errors.Join(err, tx.MarkStandings(k.ctx, []int64{owen, kuhl, 7, 9, 11}, at), tx.KeepStandings(k.ctx,
			m.ID,
			[]store.Standing{{Person: owen, Score: 7.5}, {Person: kuhl, Score: 12}, {Person: 7, Score: 12},
				{Person: 9, Score: -3},
				{Person: 11, Score: 1e-7}}))
	})
	if n := k.unlikeTheRecords(); n != 0 {
		t.Errorf("%d rows are not as they should be after scores changed", n)
	}
	k.meet(store.NewPerson{First: "Anna", Last: "Nobody", Company: "Anna's"})
	// Page by page in each order comes the same as at once, and as the list of all has it.
	for _, order := range store.Orders() {
		for _, text := range []string{"anna", "ann a"} {
			q := store.PeopleQuery{Text: text, Order: order, Limit: 100, Now: at}
			once := k.pages(q)
			q.Limit = 4
			fours := k.pages(q)
			q.Rule = rule.Rule{None: []rule.Rule{rule.FieldIs(person.City, "nowhere")}}
			ruled := k.pages(q)
			all := k.pages(store.PeopleQuery{Order: order, Limit: 7, Now: at})
			all = slices.DeleteFunc(all, func(id int64) bool { return !slices.Contains(once, id) })
			if len(once) != 31 || !slices.Equal(once, fours) || !slices.Equal(once, ruled) || !slices.Equal(once, all) {
				t.Errorf("%q by %s: at once %v, by four %v, with a rule %v, as all are listed %v", text, order, once,
					fours, ruled, all)
			}
		}
	}
	k.tx(func(tx store.Tx) error { return tx.Erase(k.ctx, kuhl, nil, nil, at) })
	var left int
	k.must(k.DB().QueryRow("select count(*) from person_search where person_id = $1", kuhl).Scan(&left))
	if left != 0 || k.unlikeTheRecords() != 0 {
		t.Errorf("who was erased is still looked through: %d", left)
	}
}

// pages lists whom a query is about, page by page.
func (k kept) pages(q store.PeopleQuery) (ids []int64) {
	for {
		list, last, err := k.People(k.ctx, q)
		k.must(err)
		for i := range list {
			ids = append(ids, list[i].ID)
		}
		if len(list) < q.Limit {
			return ids
		}
		if q.After = store.ParseKey(last.String()); q.After != last || len(ids) > 1000 {
			k.t.Fatalf("the key %q does not lead on", last)
		}
	}
}

// unlikeTheRecords counts the rows of what people are found by that are not what
// their records say.
func (k kept) unlikeTheRecords() (n int) {
	k.must(k.DB().QueryRow(`select count(*) from person p left join company c on c.id = p.company_id
		left join standing s on s.person_id = p.id and s.model_id = (select min(id) from score_model)
		full join person_search x on x.person_id = p.id
		where p.erased_at is null and (x.last_name, x.first_name, x.email, x.company_id, x.company, x.score, x.words)
			is distinct from (lower(p.last_name collate "C"), lower(p.first_name collate "C"), p.email, p.company_id,
				coalesce(lower(c.name), ''), coalesce(s.score, 0),
				search_words(p.first_name, p.last_name, p.email, c.name, c.domain))`).Scan(&n))
	return n
}

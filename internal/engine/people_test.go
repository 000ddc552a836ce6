package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/roster"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

func (w *world) meet(p store.NewPerson) (id int64) {
	w.t.Helper()
	w.tx(func(tx store.Tx) error {
		var err error
		id, _, err = store.MeetPerson(w.ctx, tx, p, w.clock.Now())
		return err
	})
	return id
}

func (w *world) audience(name string, r rule.Rule) int64 {
	w.t.Helper()
	a := store.Audience{Name: name, Live: true}
	a.Rule.V = r
	id, err := w.e.SaveAudience(w.ctx, a)
	w.must(err)
	return id
}

// in lists who is in an audience, and holds that against what its rule finds now.
func (w *world) in(audience int64) []int64 {
	w.t.Helper()
	list, _, err := w.s.People(w.ctx, store.PeopleQuery{Rule: rule.ThingIs(rule.Audience, audience), Order: store.Newest, Limit: 1000, Now: w.clock.Now()})
	w.must(err)
	var ids []int64
	for _, p := range list {
		ids = append(ids, p.ID)
	}
	slices.Sort(ids)
	a, err := w.s.Audience(w.ctx, audience)
	w.must(err)
	if int(a.Members) != len(ids) {
		w.t.Errorf("%s says it has %d members and has %d", a.Name, a.Members, len(ids))
	}
	return ids
}

func did(k signal.Kind, n, days int) rule.Rule {
	return rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: k}, Op: rule.AtLeast, N: n, Days: days}}
}

func (w *world) clicks(p int64, at time.Time) {
	w.t.Helper()
	w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: at, Kind: signal.Click}}))
}

// TestLiveAudiencesFollow changes people in every way that a rule can ask for
// and holds who is in the audiences after each.
func TestLiveAudiencesFollow(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord", Domain: "fjord.example", Country: "NO"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	norway := w.audience("Norway", rule.FieldIs(person.Country, "NO"))
	keen := w.audience("Keen", did(signal.Click, 2, 30))
	hot := w.audience("Hot", rule.ScoreAtLeast(6))
	industry := w.audience("Farms", rule.FieldIs(person.Industry, "Fish farming"))
	dealing := w.audience("Dealing", rule.Rule{If: &rule.Condition{About: rule.Deal, Op: rule.Is}})
	others := w.audience("Norway, not keen", rule.Rule{All: []rule.Rule{rule.ThingIs(rule.Audience, norway), {None: []rule.Rule{rule.ThingIs(rule.Audience, keen)}}}})
	expect := func(when string, audience int64, want ...int64) {
		t.Helper()
		if got := w.in(audience); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", when, got, want)
		}
	}
	w.settle()
	expect("at first", norway, ana)
	expect("at first", others, ana)
	expect("at first", keen)

	w.must(w.e.ChangePerson(w.ctx, bo, person.Values{person.Country: "Norway"}, w.marketer))
	w.settle()
	expect("moved to Norway", norway, ana, bo)
	expect("moved to Norway", others, ana, bo)

	w.clicks(ana, w.clock.Now())
	w.clicks(ana, w.clock.Now())
	w.settle()
	expect("clicked twice", keen, ana)
	expect("an audience of an audience", others, bo)
	expect("the score followed", hot, ana)

	w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Industry: "Fish farming"}, w.marketer))
	w.settle()
	expect("the company's industry", industry, ana)

	w.must(w.e.HandOver(w.ctx, bo))
	h, err := w.s.PersonHandoffs(w.ctx, bo)
	w.must(err)
	_, err = w.e.Accept(w.ctx, h[0].ID, *h[0].Rep)
	w.must(err)
	w.settle()
	expect("a deal was opened", dealing, bo)

	w.must(w.e.TagPerson(w.ctx, bo, "fair", w.marketer))
	tag := w.audience("Tagged", rule.ThingIs(rule.Tag, 1))
	w.settle()
	expect("tagged before the audience was made", tag, bo)
	w.must(w.e.TagPerson(w.ctx, ana, "FAIR", w.marketer))
	w.settle()
	expect("tagged after", tag, ana, bo)

	// A changed rule is counted again.
	a, err := w.s.Audience(w.ctx, norway)
	w.must(err)
	a.Rule.V = rule.FieldIs(person.FirstName, "bo")
	_, err = w.e.SaveAudience(w.ctx, a)
	w.must(err)
	w.settle()
	expect("another rule", norway, bo)
}

// TestTimeAloneMovesPeople lets windows run out: who leaves, and with what
// instant, without anybody doing anything.
func TestTimeAloneMovesPeople(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	keen := w.audience("Keen", did(signal.Click, 1, 10))
	quiet := w.audience("Quiet", rule.Rule{None: []rule.Rule{did(signal.Click, 1, 10)}})
	fresh := w.audience("New", rule.Rule{If: &rule.Condition{Field: person.Created, Op: rule.Within, Days: 3}})
	w.clicks(ana, day0)
	w.settle()
	if len(w.in(keen)) != 1 || len(w.in(quiet)) != 0 || len(w.in(fresh)) != 1 {
		t.Fatal("at first")
	}
	w.clock.set(day0.AddDate(0, 0, 10)) // exactly at the end of the window she still is
	w.settle()
	if len(w.in(keen)) != 1 || len(w.in(quiet)) != 0 {
		t.Error("a click exactly 10 days ago does not count")
	}
	if len(w.in(fresh)) != 0 {
		t.Error("met 10 days ago, she is new")
	}
	w.clock.set(day0.AddDate(0, 0, 25))
	w.settle()
	if len(w.in(keen)) != 0 || len(w.in(quiet)) != 1 {
		t.Error("nobody left when the window had run out")
	}
	moves, err := w.s.Moves(w.ctx, keen, 10)
	w.must(err)
	if want := day0.AddDate(0, 0, 10).Add(time.Microsecond); len(moves) != 2 || moves[0].Joined || !moves[0].At.Equal(want) {
		t.Errorf("she left at %v, want %v", moves[0].At, want)
	}
}

// TestAudiencesNeverDrift changes people at random, over weeks, and holds who
// is in each audience against what its rule finds.
func TestAudiencesNeverDrift(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(9, 9))
	var people []int64
	for i := range 25 {
		people = append(people, w.meet(store.NewPerson{Email: fmt.Sprintf("p%d@x.example", i), Country: []string{"NO", "CA"}[i%2]}))
	}
	none := func(r ...rule.Rule) rule.Rule { return rule.Rule{None: r} }
	rules := []rule.Rule{
		did(signal.Click, 2, 7), none(did(signal.Open, 1, 5)), {All: []rule.Rule{rule.FieldIs(person.Country, "NO"), did(signal.Open, 1, 14)}}, rule.ScoreAtLeast(5),
		{Any: []rule.Rule{rule.ThingIs(rule.Tag, 1), {If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}, Op: rule.Exactly, N: 1, Days: 3}}}}, none(rule.ThingIs(rule.Audience, 1), rule.ThingIs(rule.Audience, 2)),
	}
	w.must(w.e.TagPerson(w.ctx, people[0], "fair", w.marketer))
	var audiences []int64
	for i, r := range rules {
		audiences = append(audiences, w.audience(fmt.Sprintf("A%d", i), r))
	}
	for step := range 120 {
		p := people[rnd.IntN(len(people))]
		switch rnd.IntN(5) {
		case 0:
			w.clicks(p, w.clock.Now())
		case 1:
			w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Open}}))
		case 2:
			w.must(w.e.ChangePerson(w.ctx, p, person.Values{person.Country: []string{"NO", "CA", ""}[rnd.IntN(3)]}, w.marketer))
		case 3:
			w.must(w.e.Mark(w.ctx, p, person.Mark(person.TagMark, int64(1)), rnd.IntN(2) == 0, w.marketer))
		case 4:
			w.clock.set(w.clock.Now().Add(time.Duration(rnd.IntN(60)) * time.Hour))
		}
		if step%6 != 5 {
			continue
		}
		w.settle()
		for i, r := range rules {
			var want []int64
			w.tx(func(tx store.Tx) error {
				var err error
				want, err = store.AllIDs(w.ctx, tx, store.PeopleQuery{Rule: r, Now: w.clock.Now()})
				return err
			})
			if got := w.in(audiences[i]); !slices.Equal(got, want) {
				t.Fatalf("step %d, %s: members %v, the rule finds %v", step, r.Words(nil), got, want)
			}
		}
	}
}

// bring imports a file by the guessed mapping, changed by adjust.
func (w *world) bring(name string, file []byte, adjust func(*intake.Mapping)) int64 {
	w.t.Helper()
	id, err := w.e.NewImport(w.ctx, name, bytes.NewReader(file), w.marketer)
	w.must(err)
	i, err := w.s.Import(w.ctx, id)
	w.must(err)
	m := i.Options.V
	if adjust != nil {
		adjust(&m)
	}
	w.must(w.e.CheckImport(w.ctx, id, m))
	w.must(w.e.RunBatch(w.ctx, id))
	w.must(w.e.StartImport(w.ctx, id))
	w.must(w.e.RunBatch(w.ctx, id))
	b, err := w.s.Batch(w.ctx, id)
	w.must(err)
	if b.State != "done" {
		w.t.Fatalf("the import is %s: %s", b.State, b.Trouble)
	}
	return id
}

// TestPoliciesOfAnImport holds what becomes of somebody who is known, by each policy.
func TestPoliciesOfAnImport(t *testing.T) {
	file := []byte("Email,Title,City,Industry,Company size,Tags,Phone,Phone 2\nana@fjord.example,Head,Oslo,Ports,12,fair; key,+44 20 7946 0102,+44 20 7946 0103\nnew@fjord.example,Buyer,Oslo,Ports,12,fair,,\n")
	for _, c := range []struct {
		policy                      intake.Policy
		title, city, industry       string
		updated, unchanged, created int64
	}{
		{intake.Fill, "Biologist", "Oslo", "Fish farming", 1, 0, 1}, {intake.Replace, "Head", "Oslo", "Ports", 1, 0, 1}, {intake.Leave, "Biologist", "", "Fish farming", 0, 1, 1},
	} {
		w := newWorld(t, mailserver.Options{})
		ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Title: "Biologist", Company: "Fjord", Domain: "fjord.example"})
		w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Industry: "Fish farming"}, w.marketer))
		before, err := w.s.Person(w.ctx, ana)
		w.must(err)
		id := w.bring("list.csv", file, func(m *intake.Mapping) { m.Policy, m.Purpose, m.Ground = c.policy, 1, "a test" })
		i, err := w.s.Import(w.ctx, id)
		w.must(err)
		if n := i.Counts.V; n.New != c.created || n.Updated != c.updated || n.Unchanged != c.unchanged || n.Rejected != 0 {
			t.Errorf("%s: %+v", c.policy, n)
		}
		p, err := w.s.Person(w.ctx, ana)
		w.must(err)
		if p.Title != c.title || p.City != c.city || p.Industry != c.industry {
			t.Errorf("%s: title %q, city %q, industry %q", c.policy, p.Title, p.City, p.Industry)
		}
		fresh, err := w.s.PersonByEmail(w.ctx, "new@fjord.example")
		w.must(err)
		if fresh.Company != "Fjord" || fresh.Title != "Buyer" {
			t.Errorf("%s: the new one is at %q", c.policy, fresh.Company)
		}
		tags, err := w.s.PersonTags(w.ctx, ana)
		w.must(err)
		also, err := w.s.ContactPoints(w.ctx, ana)
		w.must(err)
		consents, err := w.s.PersonConsents(w.ctx, ana)
		w.must(err)
		if len(tags) != 2 || len(also) != 1 || len(consents) != 1 || consents[0].Ground != "import: list.csv" && consents[0].Ground != "a test" {
			t.Errorf("%s: tags %v, also at %v, consents %v", c.policy, tags, also, consents)
		}
		// Undone, everything is as it was.
		w.must(w.e.UndoBatch(w.ctx, id, w.marketer))
		w.must(w.e.RunBatch(w.ctx, id))
		p, err = w.s.Person(w.ctx, ana)
		w.must(err)
		if !maps.Equal(p.Values(), before.Values()) {
			t.Errorf("%s, undone: %v, was %v", c.policy, p.Values(), before.Values())
		}
		if _, err := w.s.PersonByEmail(w.ctx, "new@fjord.example"); !store.IsNotFound(err) {
			t.Errorf("%s, undone: the new one is still here: %v", c.policy, err)
		}
		for what, n := range map[string]int{"person_tag": 0, "contact_point": 0, "consent": 0} {
			if got := w.count("select count(*) from " + what); got != n {
				t.Errorf("%s, undone: %d rows of %s", c.policy, got, what)
			}
		}
	}
}

// TestUndoLeavesWhatSomethingElseTouched imports, lets life go on, and undoes.
func TestUndoLeavesWhatSomethingElseTouched(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	id := w.bring("list.csv", []byte("Email,City\nana@fjord.example,Oslo\nbo@fjord.example,Oslo\ncy@fjord.example,Oslo\ndi@fjord.example,Oslo\nei@fjord.example,Oslo\n"), nil)
	called := func(email string) store.Person {
		p, err := w.s.PersonByEmail(w.ctx, email)
		w.must(err)
		return p
	}
	w.must(w.e.ChangePerson(w.ctx, ana, person.Values{person.City: "Bergen"}, w.marketer))
	w.clicks(called("cy@fjord.example").ID, day0)
	w.must(w.e.ChangePerson(w.ctx, called("di@fjord.example").ID, person.Values{person.Title: "Head"}, w.marketer))
	w.must(w.e.UndoBatch(w.ctx, id, w.marketer))
	w.must(w.e.RunBatch(w.ctx, id))
	b, err := w.s.Batch(w.ctx, id)
	w.must(err)
	if b.State != "undone" || b.Detail.V.Undone != 2 || b.Detail.V.Kept != 3 {
		t.Errorf("%s: %d set back, %d kept; want 2 and 3", b.State, b.Detail.V.Undone, b.Detail.V.Kept)
	}
	if called("ana@fjord.example").City != "Bergen" || called("cy@fjord.example").City != "Oslo" || called("di@fjord.example").Title != "Head" {
		t.Error("what something else had touched was taken back")
	}
	if p, err := w.s.Person(w.ctx, bo); err != nil || p.City != "" {
		t.Errorf("what nothing had touched stayed: %q, %v", p.City, err)
	}
	if _, err := w.s.PersonByEmail(w.ctx, "ei@fjord.example"); !store.IsNotFound(err) {
		t.Error("a new person whom nothing had touched stayed")
	}
	if err := w.e.UndoBatch(w.ctx, id, w.marketer); !errors.Is(err, store.ErrOver) {
		t.Errorf("undone twice: %v", err)
	}
}

// TestAnImportThatIsCutOffGoesOn ends a process in the middle of an import,
// and lets another go on: everybody is there once.
func TestAnImportThatIsCutOffGoesOn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var b bytes.Buffer
	b.WriteString("Email,City\n")
	const n = 35_000
	for i := range n {
		fmt.Fprintf(&b, "p%d@x.example,Oslo\n", i)
	}
	id, err := w.e.NewImport(w.ctx, "list.csv", &b, w.marketer)
	w.must(err)
	i, err := w.s.Import(w.ctx, id)
	w.must(err)
	w.must(w.e.CheckImport(w.ctx, id, i.Options.V))
	w.must(w.e.RunBatch(w.ctx, id))
	w.must(w.e.StartImport(w.ctx, id))
	ctx, cancel := context.WithCancel(w.ctx)
	go func() {
		for ctx.Err() == nil {
			if b, err := w.s.Batch(w.ctx, id); err == nil && b.Done > 0 {
				cancel()
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	if err := w.e.RunBatch(ctx, id); err == nil {
		t.Log("it was over before it could be cut off")
	}
	cancel()
	w.must(w.e.RunBatch(w.ctx, id))
	batch, err := w.s.Batch(w.ctx, id)
	w.must(err)
	i, err = w.s.Import(w.ctx, id)
	w.must(err)
	if got := w.count("select count(*) from person where batch_id = $1", id); got != n || batch.State != "done" || batch.Done != n || i.Counts.V.New != n {
		t.Errorf("%d people, %s, %d done, %d new; want %d", got, batch.State, batch.Done, i.Counts.V.New, n)
	}
	if left := w.count("select count(*) from import_row") + w.count("select count(*) from import_piece"); left != 0 {
		t.Errorf("%d rows and pieces of the file are left", left)
	}
}

// TestAnImportIsStopped stops one half way; what is there can be undone.
func TestAnImportIsStopped(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var b bytes.Buffer
	b.WriteString("Email\n")
	for i := range 60_000 {
		fmt.Fprintf(&b, "p%d@x.example\n", i)
	}
	id, err := w.e.NewImport(w.ctx, "list.csv", &b, w.marketer)
	w.must(err)
	i, err := w.s.Import(w.ctx, id)
	w.must(err)
	w.must(w.e.CheckImport(w.ctx, id, i.Options.V))
	w.must(w.e.RunBatch(w.ctx, id))
	w.must(w.e.StartImport(w.ctx, id))
	w.must(w.s.StopBatch(w.ctx, id))
	w.must(w.e.RunBatch(w.ctx, id))
	batch, err := w.s.Batch(w.ctx, id)
	w.must(err)
	if batch.State != "stopped" || batch.Done == 60_000 {
		t.Fatalf("%s after %d", batch.State, batch.Done)
	}
	w.must(w.e.UndoBatch(w.ctx, id, w.marketer))
	w.must(w.e.RunBatch(w.ctx, id))
	if got := w.count("select count(*) from person"); got != 0 {
		t.Errorf("stopped and undone, %d people are here", got)
	}
}

// TestWhatIsTakenOutComesBack exports everybody in each form, imports the file
// into another, empty Ombak, exports again, and holds the two files against
// each other.
func TestWhatIsTakenOutComesBack(t *testing.T) {
	fields := func(w *world) {
		w.tx(func(tx store.Tx) error {
			for _, ty := range person.OwnTypes() {
				f := store.OwnField{Name: "Own " + string(ty), Type: ty}
				f.Options.V = []string{"sea", "lake"}
				if _, err := store.AddOwnField(w.ctx, tx, f); err != nil {
					return err
				}
			}
			return nil
		})
	}
	a := newWorld(t, mailserver.Options{})
	fields(a)
	cat, err := a.s.Catalogue(a.ctx)
	a.must(err)
	texts := []string{"Ngô", "=1+2", "@cmd", "'tis", "O’Neil, \"Bo\"", "a; b", "-5", "Straße", "+1", `back\slash`}
	for i := range 12 {
		id := a.meet(store.NewPerson{Email: fmt.Sprintf("p%d@c%d.example", i, i%3), Company: "Company " + texts[i%3], Domain: fmt.Sprintf("c%d.example", i%3)})
		set := person.Values{person.FirstName: texts[i%len(texts)], person.LastName: texts[(i+3)%len(texts)], person.Title: texts[(i+5)%len(texts)], person.PhoneField: fmt.Sprintf("+442079460%03d", i), person.Country: []string{"NO", "VN", ""}[i%3],
			person.Language: "nb-NO", person.Zone: "Europe/Oslo", person.Profile: "https://profiles.example/p", person.City: texts[(i+7)%len(texts)], person.Campaign: "spring", person.Owner: "Tomas Vale", person.Department: "Lab; north"}
		for _, d := range cat.Own {
			set[d.Field] = map[person.Type]string{person.Text: texts[(i+1)%len(texts)], person.Number: "2.5", person.Date: "2026-04-14", person.YesNo: "yes", person.OneOf: "sea", person.SeveralOf: "sea; lake"}[d.Type]
		}
		a.must(a.e.ChangePerson(a.ctx, id, set, a.marketer))
		a.must(a.e.TagPerson(a.ctx, id, "fair", a.marketer))
		a.must(a.e.TagPerson(a.ctx, id, "key account", a.marketer))
		a.must(a.e.AddContact(a.ctx, id, fmt.Sprintf("also%d@x.example", i), a.marketer))
		if i%4 == 0 {
			a.must(a.e.Mark(a.ctx, id, person.DoNotContact, true, a.marketer))
		}
	}
	for c := range 3 {
		a.must(a.e.ChangeCompany(a.ctx, int64(c+1), person.Values{person.Industry: "Ports", person.Size: "120", person.Revenue: "1–10 M", person.CompanyCountry: "NO"}, a.marketer))
	}
	everybody := store.PeopleQuery{Now: day0}
	out := func(w *world, f roster.Form) []byte {
		var b bytes.Buffer
		n, err := w.e.Export(w.ctx, everybody, f, &b)
		w.must(err)
		if n != 12 {
			t.Fatalf("%s: %d people taken out", f, n)
		}
		return b.Bytes()
	}
	for _, f := range []roster.Form{roster.CSV, roster.XLSX, roster.VCard} {
		file := out(a, f)
		b := newWorld(t, mailserver.Options{})
		fields(b)
		id := b.bring("again"+roster.Ends[f], file, nil)
		if i, err := b.s.Import(b.ctx, id); err != nil || i.Counts.V.New != 12 || i.Counts.V.Rejected != 0 {
			rejects, _ := b.s.Rejects(b.ctx, id, 0, 3)
			t.Fatalf("%s: %+v, %v, %+v", f, i.Counts.V, err, rejects)
		}
		want, got := string(out(a, roster.CSV)), string(out(b, roster.CSV))
		if f == roster.VCard {
			// A card has no place for everything; what it has comes back.
			want, got = string(out(a, roster.VCard)), string(out(b, roster.VCard))
		}
		if got != want {
			wl, gl := strings.Split(want, "\r\n"), strings.Split(got, "\r\n")
			for i := range wl {
				if i < len(gl) && wl[i] != gl[i] {
					t.Fatalf("%s: line %d\n%s\nwas\n%s", f, i, gl[i], wl[i])
				}
			}
			t.Fatalf("%s: %d lines, was %d", f, len(gl), len(wl))
		}
	}
}

// TestErasedMeansErased erases somebody with everything that a person can
// have, and looks through the whole database for what tells who they were.
func TestErasedMeansErased(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Zebulon", "zebulon@fjord.example")
	w.settle()
	w.press("zebulon@fjord.example", 1)
	w.must(w.e.ChangePerson(w.ctx, p, person.Values{person.LastName: "Quagga", person.PhoneField: "+442079460177", person.Title: "Zookeeper"}, w.marketer))
	w.must(w.e.AddContact(w.ctx, p, "zeb@other.example", w.marketer))
	w.must(w.e.TagPerson(w.ctx, p, "fair", w.marketer))
	w.tx(func(tx store.Tx) error {
		return store.AddNote(w.ctx, tx, p, w.marketer, "Zebulon asks for the price", w.clock.Now())
	})
	id, err := w.e.NewImport(w.ctx, "bad.csv", strings.NewReader("Email,Country\nzebulon@fjord.example,Atlantis\n"), w.marketer)
	w.must(err)
	i, err := w.s.Import(w.ctx, id)
	w.must(err)
	w.must(w.e.CheckImport(w.ctx, id, i.Options.V))
	w.must(w.e.RunBatch(w.ctx, id))
	w.audience("Fair", rule.ThingIs(rule.Tag, 1))
	w.settle()
	sent := w.count("select count(*) from touch")
	signals := w.count("select count(*) from signal where person_id = $1", p)
	w.must(w.e.Erase(w.ctx, p))
	w.settle()
	// Everything there is, as text.
	rows, err := w.s.DB().QueryContext(w.ctx, "select table_name from information_schema.tables where table_schema = 'public' and table_type = 'BASE TABLE' and table_name not like 'river%'")
	w.must(err)
	var tables []string
	for rows.Next() {
		var name string
		w.must(rows.Scan(&name))
		tables = append(tables, name)
	}
	w.must(rows.Err())
	for _, name := range tables {
		for _, word := range []string{"zebulon", "quagga", "zeb@other", "2079460177", "zookeeper"} {
			if n := w.count("select count(*) from "+name+" x where lower(x::text) like $1", "%"+word+"%"); n > 0 {
				t.Errorf("%s still says %q in %d rows", name, word, n)
			}
		}
	}
	if w.count("select count(*) from touch") != sent || w.count("select count(*) from signal where person_id = $1", p) != signals {
		t.Error("counts of what was sent and done have changed")
	}
	if w.count("select count(*) from never_again") != 2 {
		t.Error("the hashed addresses are not kept")
	}
	// A list does not bring them back; they themselves do.
	w.meet(store.NewPerson{Email: "other@fjord.example"})
	again := w.bring("list.csv", []byte("Email\nzebulon@fjord.example\nnew@fjord.example\n"), nil)
	list, err := w.s.Rejects(w.ctx, again, 0, 5)
	w.must(err)
	if len(list) != 1 || !strings.Contains(list[0].Reason, "asked to be erased") {
		t.Errorf("brought in again: %+v", list)
	}
	back := w.fill("Zebulon", "zebulon@fjord.example")
	third := w.bring("list.csv", []byte("Email,City\nzebulon@fjord.example,Oban\n"), nil)
	if list, err = w.s.Rejects(w.ctx, third, 0, 5); err != nil || len(list) != 0 {
		t.Errorf("come back by themselves, a list may not say more of them: %+v, %v", list, err)
	}
	if who, err := w.s.Person(w.ctx, back); err != nil || who.City != "Oban" || who.DoNotContact {
		t.Errorf("come back: %q, do not contact %v, %v", who.City, who.DoNotContact, err)
	}
}

func TestMergesAndTheirUndo(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	a := w.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", City: "Bergen"})
	b := w.fill("Ana", "ana.s@fjord.example")
	w.settle()
	w.clicks(b, w.clock.Now())
	w.must(w.e.TagPerson(w.ctx, b, "fair", w.marketer))
	w.tx(func(tx store.Tx) error {
		if err := store.SetConsent(w.ctx, tx, 1, a, true, "x", store.Author{How: "by hand", At: day0}); err != nil {
			return err
		}
		return store.SetConsent(w.ctx, tx, 1, b, false, "y", store.Author{How: "by hand", At: day0.Add(time.Hour)})
	})
	w.settle()
	state := func() string {
		var all []string
		for _, id := range []int64{a, b} {
			x, err := w.e.Everything(w.ctx, id)
			if err != nil {
				all = append(all, err.Error())
				continue
			}
			all = append(all, fmt.Sprint(x.Record, x.Also, x.Tags, len(x.Signals), len(x.Touches), len(x.Sequences), len(x.Consents), x.Score))
		}
		return strings.Join(all, "\n")
	}
	before := state()
	batch, err := w.e.Merge(w.ctx, a, b, person.Values{person.EmailField: "ana.s@fjord.example"}, w.marketer)
	w.must(err)
	w.settle()
	p, err := w.s.Person(w.ctx, a)
	w.must(err)
	if p.Email != "ana.s@fjord.example" || p.City != "Bergen" || p.Score == 0 {
		t.Errorf("merged: %q, %q, score %g", p.Email, p.City, p.Score)
	}
	if w.count("select count(*) from consent where person_id = $1 and current and given", a) != 0 || w.count("select count(*) from consent where person_id = $1 and current", a) != 1 {
		t.Error("of two consents the later one does not stand")
	}
	if who, err := w.s.PersonByEmail(w.ctx, "ana@fjord.example"); err != nil || who.ID != a {
		t.Errorf("the other address leads to %d, %v", who.ID, err)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.settle()
	if after := state(); after != before {
		t.Errorf("undone:\n%s\nwas\n%s", after, before)
	}
	// Two open deals are two deals.
	for _, id := range []int64{a, b} {
		w.must(w.e.HandOver(w.ctx, id))
		h, err := w.s.PersonHandoffs(w.ctx, id)
		w.must(err)
		_, err = w.e.Accept(w.ctx, h[0].ID, *h[0].Rep)
		w.must(err)
	}
	if _, err := w.e.Merge(w.ctx, a, b, nil, w.marketer); !errors.Is(err, store.ErrTwoDeals) {
		t.Errorf("two open deals: %v", err)
	}
	if _, err := w.e.Merge(w.ctx, a, a, nil, w.marketer); err == nil {
		t.Error("a record was merged into itself")
	}
}

// TestNobodyWithoutAnAddressIsSentTo brings people in by telephone number alone.
func TestNobodyWithoutAnAddressIsSentTo(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.bring("calls.csv", []byte("First name,Last name,Phone\nAna,Strand,+44 20 7946 0101\nAna,Strand,+44 20 7946 0102\nBo,Vik,+44 20 7946 0101\n"), nil)
	if n := w.count("select count(*) from person where email = ''"); n != 3 {
		t.Fatalf("%d people without an address, want 3: a number can be shared", n)
	}
	again := w.bring("calls.csv", []byte("First name,Last name,Phone,City\nAna,STRAND,+44 20 7946 0102,Oban\n"), nil)
	if i, err := w.s.Import(w.ctx, again); err != nil || i.Counts.V.Updated != 1 {
		t.Errorf("by number and last name somebody is not found again: %+v, %v", i.Counts.V, err)
	}
	first := int64(w.count("select min(id) from person"))
	w.tx(func(tx store.Tx) error {
		q, err := w.s.Sequence(w.ctx, w.seq)
		if err != nil {
			return err
		}
		_, err = store.Enrol(w.ctx, tx, w.seq, *q.Version, w.email, []int64{first}, w.clock.Now())
		return err
	})
	w.settle()
	if n := w.count("select count(*) from touch where person_id = $1 and state = 'stopped' and trouble = 'the reader has no email address'", first); n != 1 {
		t.Error("an email to nobody was not stopped")
	}
}

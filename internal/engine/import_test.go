package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/roster"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

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
	file := []byte("Email,Title,City,Industry,Company size,Tags,Phone,Phone " +
		"2\nana@fjord.example,Head,Oslo,Ports,12,fair; key,+44 20 7946 0102,+44 20 7946 " +
		"0103\nnew@fjord.example,Buyer,Oslo,Ports,12,fair,,\n")
	for _, c := range []struct {
		policy                      intake.Policy
		title, city, industry       string
		updated, unchanged, created int64
	}{
		{intake.Fill, "Biologist", "Oslo", "Fish farming", 1, 0, 1}, {intake.Replace, "Head", "Oslo", "Ports", 1, 0, 1},
		{intake.Leave, "Biologist", "", "Fish farming", 0, 1, 1},
	} {
		w := newWorld(t, mailserver.Options{})
		ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Title: "Biologist", Company: "Fjord",
			Domain: "fjord.example"})
		w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Industry: "Fish farming"}, w.marketer))
		before, err := w.s.Person(w.ctx, ana)
		w.must(err)
		id := w.bring("list.csv", file, func(m *intake.Mapping) {
			m.Policy, m.Purpose, m.Ground = c.policy, 1, "a test"
		})
		i, err := w.s.Import(w.ctx, id)
		w.must(err)
		if n := i.Counts.V; n.New != c.created || n.Updated != c.updated || n.Unchanged != c.unchanged ||
			n.Rejected != 0 {
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
		if len(tags) != 2 || len(also) != 1 || len(consents) != 1 || consents[0].Ground != "import: list.csv" &&
			consents[0].Ground != "a test" {
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
	id := w.bring("list.csv",
		[]byte("Email,City\nana@fjord.example,Oslo\nbo@fjord.example,Oslo\ncy@fjord.example,Oslo\ndi@fjord.example,"+
			"Oslo\nei@fjord.example,Oslo\n"), nil)
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
	if called("ana@fjord.example").City != "Bergen" || called("cy@fjord.example").City != "Oslo" ||
		called("di@fjord.example").Title != "Head" {
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
	if got := w.count("select count(*) from person where batch_id = $1", id); got != n || batch.State != "done" ||
		batch.Done != n || i.Counts.V.New != n {
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
				if _, err := tx.AddOwnField(w.ctx, f); err != nil {
					return err
				}
				f.Name, f.Company = "Theirs "+string(ty), true
				if _, err := tx.AddOwnField(w.ctx, f); err != nil {
					return err
				}
			}
			_, err := tx.AddPurpose(w.ctx, "Invitations")
			return err
		})
	}
	a := newWorld(t, mailserver.Options{})
	fields(a)
	cat, err := a.s.Catalogue(a.ctx)
	a.must(err)
	texts := []string{"Ngô", "=1+2", "@cmd", "'tis", "O’Neil, \"Bo\"", "a; b", "-5", "Straße", "+1", `back\slash`}
	for i := range 12 {
		id := a.meet(store.NewPerson{Email: fmt.Sprintf("p%d@c%d.example", i, i%3), Company: "Company " + texts[i%3],
			Domain: fmt.Sprintf("c%d.example", i%3)})
		set := person.Values{person.FirstName: texts[i%len(texts)], person.LastName: texts[(i+3)%len(texts)],
			person.Title: texts[(i+5)%len(texts)], person.PhoneField: fmt.Sprintf("+442079460%03d", i),
			person.Country:  []string{"NO", "VN", ""}[i%3],
			person.Language: "nb-NO", person.Zone: "Europe/Oslo", person.Profile: "https://profiles.example/p",
			person.City: texts[(i+7)%len(texts)], person.Campaign: "spring", person.Owner: "Tomas Vale",
			person.Department: "Lab; north"}
		for _, d := range cat.Own {
			if !d.Company {
				set[d.Field] = ownValueOf(d.Type, texts[(i+1)%len(texts)])
			}
		}
		a.must(a.e.ChangePerson(a.ctx, id, set, a.marketer))
		a.must(a.e.TagPerson(a.ctx, id, "fair", a.marketer))
		a.must(a.e.TagPerson(a.ctx, id, "key account", a.marketer))
		a.must(a.e.AddContact(a.ctx, id, fmt.Sprintf("also%d@x.example", i), a.marketer))
		if i%4 == 0 {
			a.must(a.e.Mark(a.ctx, id, person.DoNotContact, true, a.marketer))
		}
		if i%3 > 0 {
			a.must(a.e.SetConsent(a.ctx, id, 1, true, "by form", "ticked: "+texts[i%len(texts)], a.marketer))
			a.must(a.e.SetConsent(a.ctx, id, 2, i%3 == 1, "by hand", "", a.marketer))
		}
		for n := range i % 3 {
			a.tx(func(tx store.Tx) error {
				return tx.AddNote(a.ctx, id, a.marketer,
					fmt.Sprintf("%s\n— %d\n\\%s", texts[i%len(texts)], n, texts[(i+n)%len(texts)]),
					a.clock.Now().Add(time.Duration(n)*time.Minute))
			})
		}
	}
	for c := range 3 {
		set := person.Values{person.Industry: "Ports", person.Size: "120", person.Revenue: "1–10 M",
			person.CompanyCountry: "NO"}
		for _, d := range cat.Own {
			if d.Company {
				set[d.Field] = ownValueOf(d.Type, texts[(c+4)%len(texts)])
			}
		}
		a.must(a.e.ChangeCompany(a.ctx, int64(c+1), set, a.marketer))
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
			rejects, _ := b.s.Rejects(b.ctx, id, false, 0, 3)
			t.Fatalf("%s: %+v, %v, %+v", f, i.Counts.V, err, rejects)
		}
		if n := b.count("select count(*) from consent where current and how = 'by form' and ground like 'ticked: %' "+
			"and at = $1", day0); n != 8 && f != roster.VCard {
			t.Errorf("%s: %d of 8 consents came back with when, how and on what ground", f, n)
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

// ownValueOf is some value of an own field of a type.
func ownValueOf(t person.Type, text string) string {
	return map[person.Type]string{person.Text: text, person.Number: "2.5", person.Date: "2026-04-14",
		person.YesNo: "yes", person.OneOf: "sea", person.SeveralOf: "sea; lake"}[t]
}

// TestAListFillsOwnFieldsOfCompanies: what a file says of companies that are
// known follows the policy, stands in their history and can be undone.
func TestAListFillsOwnFieldsOfCompanies(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var partner, pens int64
	w.tx(func(tx store.Tx) error {
		var err error
		if partner, err = tx.AddOwnField(w.ctx,
			store.OwnField{Name: "Partner", Type: person.Text, Company: true}); err != nil {
			return err
		}
		pens, err = tx.AddOwnField(w.ctx, store.OwnField{Name: "Pens", Type: person.Number, Company: true})
		return err
	})
	id := w.meet(store.NewPerson{Email: "ana@fjord.example", Company: "Fjord", Domain: "fjord.example"})
	w.must(w.e.ChangeCompany(w.ctx, 1, person.Values{person.Own(partner): "Tern"}, w.marketer))
	if err := w.e.ChangePerson(w.ctx, id, person.Values{person.Own(partner): "x"}, w.marketer); err == nil {
		t.Error("a company's field was changed on a person")
	}
	if err := w.e.ChangeCompany(w.ctx, 1, person.Values{person.Own(pens): "many"}, w.marketer); err == nil {
		t.Error("a number that is none was kept")
	}
	known := func() person.Values {
		c, err := w.s.Company(w.ctx, 1)
		w.must(err)
		return c.Values()
	}
	file := []byte("email,Partner,Pens\nbo@fjord.example,Gull,12\n")
	batch := w.bring("fill.csv", file, nil)
	if v := known(); v[person.Own(partner)] != "Tern" || v[person.Own(pens)] != "12" {
		t.Errorf("filling gaps: %v", v)
	}
	p, err := w.s.PersonByEmail(w.ctx, "bo@fjord.example")
	w.must(err)
	if v := p.Values(); v[person.Own(pens)] != "12" {
		t.Errorf("a person does not show the company's: %v", v)
	}
	h, err := w.s.CompanyChanges(w.ctx, 1)
	w.must(err)
	if len(h) == 0 || h[0].After.V[person.Own(pens)] != "12" || h[0].After.V[person.Own(partner)] != "" {
		t.Errorf("history: %+v", h)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.must(w.e.RunBatch(w.ctx, batch))
	if v := known(); v[person.Own(pens)] != "" || v[person.Own(partner)] != "Tern" {
		t.Errorf("after undoing: %v", v)
	}
	w.bring("replace.csv", file, func(m *intake.Mapping) { m.Policy = intake.Replace })
	if v := known(); v[person.Own(partner)] != "Gull" {
		t.Errorf("replacing: %v", v)
	}
	w.tx(func(tx store.Tx) error { return tx.RemoveOwnField(w.ctx, partner) })
	if v := known(); v[person.Own(partner)] != "" || v[person.Own(pens)] != "12" {
		t.Errorf("after removing the field: %v", v)
	}
}

// One bad value is left out without its row where that is wanted, and named; one
// that says whom not to contact never is, and a row that is not taken says so
// once. A number that can be dialled within a town alone is none.
func TestABadValueIsLeftOutWithoutItsRow(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	file := []byte("Email,Phone,Country,Do not contact\n" +
		"a@x.example,12345,NO,\n" + // too short
		"b@x.example,,Atlantis,\n" +
		"c@x.example,,,perhaps\n" +
		"not an address,,,\n" +
		"d@x.example,+44 20 7946 0102,GB,\n")
	columns := []string{"email", "phone", "country", string(person.DoNotContact)}
	for _, loose := range []bool{false, true} {
		id := w.bring("l.csv", file, func(m *intake.Mapping) { m.Columns, m.Loose = columns, loose })
		i, err := w.s.Import(w.ctx, id)
		w.must(err)
		want := map[bool]int64{false: 4, true: 2}[loose]
		if i.Counts.V.Rejected != want {
			t.Errorf("loose %v: %d not taken, want %d", loose, i.Counts.V.Rejected, want)
		}
		out, err := w.s.Rejects(w.ctx, id, true, 0, 10)
		w.must(err)
		if loose && (len(out) != 2 || out[0].N != 1 || !strings.EqualFold(out[0].Field, "phone") || out[1].N != 2) ||
			!loose && len(out) != 0 {
			t.Errorf("loose %v: left out %+v", loose, out)
		}
	}
	if n := w.count("select count(*) from person where email in ('a@x.example', 'b@x.example') and phone = '' and " +
		"country in ('NO', '')"); n != 2 {
		t.Errorf("%d were taken without their bad value", n)
	}
	if n := w.count("select count(*) from person where email = 'c@x.example'"); n != 0 {
		t.Error("somebody who perhaps must not be contacted was taken")
	}
	reasons, err := w.s.RejectReasons(w.ctx, 2)
	w.must(err)
	if len(reasons) != 4 || reasons[0].Taken || !reasons[3].Taken || reasons[0].N != 1 {
		t.Errorf("by reason: %+v", reasons)
	}
}

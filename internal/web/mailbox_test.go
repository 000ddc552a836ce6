package web

import (
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"ombak/internal/core/sequence"
	"ombak/internal/seal"
	"ombak/internal/standin/unruly"
	"ombak/internal/store"
)

func TestMailboxesByForm(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("lead")
	users, err := x.s.Users(t.Context())
	x.must(err)
	at := fmt.Sprintf("/content/mailboxes/%d", users[0].ID)
	for _, bad := range []url.Values{{"daily": {"many"}}, {"daily": {"10"}, "begin": {"50"}, "step": {"5"}},
		{"gap": {"-1"}}} {
		if res, body := v.do("POST", at, bad); res.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(body, `role="alert"`) {
			t.Errorf("%v: %s", bad, res.Status)
		}
	}
	if res, _ := v.do("POST", at,
		url.Values{"daily": {"200"}, "begin": {"20"}, "step": {"10"},
			"gap": {"30"}}); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("keeping: %s", res.Status)
	}
	_, body := v.do("GET", "/content/mailboxes", nil)
	for _, want := range []string{"200 a day, from 20 on, 10 more each day, 30 s apart", "0 of 20", users[0].Email} {
		if !strings.Contains(body, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	if res, _ := v.do("POST", "/content/mailboxes/999",
		url.Values{"daily": {"1"}}); res.StatusCode != http.StatusNotFound {
		t.Errorf("nobody's: %s", res.Status)
	}
}

// TestChoosingWhatOneGets follows the line at the end of an email: some
// purposes, then none; and the one click of RFC 8058 (section 3.2: a POST with
// exactly this body, without cookies).
func TestChoosingWhatOneGets(t *testing.T) {
	x := newSite(t)
	id := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	bo := x.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		_, err := tx.AddPurpose(t.Context(), "Invitations")
		return err
	}))
	users, err := x.s.Users(t.Context())
	x.must(err)
	x.must(x.e.SetConsent(t.Context(), id, 1, true, "by form", "", users[0].ID))
	links := map[int64]string{}
	for _, p := range []int64{id, bo} {
		var touch int64
		x.must(x.s.DB().QueryRowContext(t.Context(), `
			with q as (insert into sequence (name, created_at, updated_at) values ('S', $2, $2) returning id),
			v as (
				insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at)
				select id, 1, $3, '{}', '{}', $2
				from q
				returning id, sequence_id),
			e as (
				insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at)
				select sequence_id, id, $1, 1, $2, $2
				from v
				returning id, sequence_id, version_id),
			t as (insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at,
				done_at, message_id, message_version)
				select id, sequence_id, version_id, $1, 1, 'email', 'sent', $2, $2, 1, 1 from e returning id)
			insert into letter (touch_id, lane, phase, ready_at) select id, 2, 'over', $2 from t returning touch_id`,
			p, now, store.JSON[*sequence.Plan]{V: sequence.NewPlan()}).Scan(&touch))
		links[p] = strings.TrimPrefix(x.e.OptOutURL(touch), x.e.URL)
	}
	v := x.visitor()
	_, body := v.do("GET", links[id], nil)
	if !strings.Contains(body, "ana@fjord.example") || !strings.Contains(body, `value="1" checked`) ||
		!strings.Contains(body, "Invitations") {
		t.Fatalf("the page: %s", body)
	}
	v.do("POST", links[id], url.Values{"do": {"choose"}, "purpose": {"2"}})
	said, err := x.s.PersonConsents(t.Context(), id)
	x.must(err)
	if len(said) != 3 || !said[0].Given && !said[1].Given {
		t.Errorf("what she chose: %+v", said)
	}
	given := map[int64]bool{}
	for _, c := range said {
		if c.Current {
			given[c.PurposeID] = c.Given
		}
	}
	if given[1] || !given[2] {
		t.Errorf("she agrees to %v", given)
	}
	if p, err := x.s.Person(t.Context(), id); err != nil || p.OptedOut != nil {
		t.Errorf("choosing opted her out: %v", err)
	}
	if res, _ := v.do("POST", links[bo],
		url.Values{"List-Unsubscribe": {"One-Click"}}); res.StatusCode != http.StatusOK {
		t.Errorf("one click: %s", res.Status)
	}
	if p, err := x.s.Person(t.Context(), bo); err != nil || p.OptedOut == nil {
		t.Errorf("one click did nothing: %v", err)
	}
	if _, body := v.do("GET", links[bo], nil); !strings.Contains(body, "You get no more mail from us") {
		t.Error("the page does not say so")
	}
	changed := links[id][:len(links[id])-2] + "xx"
	for _, method := range []string{"GET", "POST"} {
		if res, _ := v.do(method, changed, url.Values{"do": {"choose"}}); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s of a changed address: %s", method, res.Status)
		}
	}
}

// TestAServerOfOnesOwnByForm tries the server before it keeps it, never shows a password again, and says what is tried
// again.
func TestAServerOfOnesOwnByForm(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("lead")
	users, err := x.s.Users(t.Context())
	x.must(err)
	at := fmt.Sprintf("/content/mailboxes/%d/server", users[0].ID)
	try := func(server string) (int, string) {
		res, body := v.do("POST", at,
			url.Values{"server": {server}, "login": {"ines<b>"}, "password": {"pens-at-14-m"}})
		return res.StatusCode, body
	}
	if code, body := try("smtp.karang.example:587"); code != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "the key to seal them with is missing") {
		t.Errorf("without a key: %d", code)
	}
	x.e.Seal, err = seal.File(filepath.Join(t.TempDir(), "secret"))
	x.must(err)
	code, body := try("127.0.0.1:1")
	if code != http.StatusUnprocessableEntity || !strings.Contains(body, "No mail server answered") ||
		!strings.Contains(body, `value="127.0.0.1:1"`) || !strings.Contains(body, `value="ines&lt;b&gt;"`) ||
		strings.Contains(body, "pens-at-14-m") {
		t.Errorf("a server that is not there: %d", code)
	}
	srv, err := unruly.Start(func(string) string { return "" })
	x.must(err)
	defer srv.Close()
	if code, _ := try(srv.Addr()); code != http.StatusSeeOther {
		t.Errorf("one that lets us in: %d", code)
	}
	_, body = v.do("GET", "/content/mailboxes", nil)
	if !strings.Contains(body, "It let us in.") || !strings.Contains(body, srv.Addr()) ||
		strings.Contains(body, "pens-at-14-m") {
		t.Error("the page does not show it, or shows the password")
	}
	if code, _ := try(""); code != http.StatusSeeOther {
		t.Errorf("given up: %d", code)
	}
	if _, body = v.do("GET", "/content/mailboxes", nil); strings.Contains(body, srv.Addr()) {
		t.Error("it is still there")
	}
	// What its server did not take yet.
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	_, err = x.s.DB().ExecContext(t.Context(), `
		with t as (
			insert into touch (person_id, step, kind, state, made_at)
			values ($1, 0, 'email', 'ready', now())
			returning id)
		insert into letter (touch_id, lane, ready_at, tries, sender_id, trouble)
		select id, 1, now(), 2, $2, 'the mail server: 451 come <later>'
		from t`, ana, users[0].ID)
	x.must(err)
	for _, path := range []string{"/content/mailboxes", fmt.Sprintf("/people/%d", ana)} {
		if _, body := v.do("GET", path, nil); !strings.Contains(body,
			"tried again: the mail server: 451 come &lt;later&gt;") {
			t.Errorf("%s does not say what is tried again", path)
		}
	}
	if res, _ := v.do("POST", "/content/mailboxes/99/server", url.Values{}); res.StatusCode != http.StatusNotFound {
		t.Errorf("nobody’s: %s", res.Status)
	}
}

// TestAStoppedOutbox is shown where one looks, to whoever writes, and let go on by a lead.
func TestAStoppedOutbox(t *testing.T) {
	x := newSite(t)
	lead, marketer := x.visitor().signIn("lead"), x.visitor().signIn("marketer")
	_, err := x.s.DB().ExecContext(t.Context(),
		"insert into outbox (user_id, stopped_at, why) values (0, now(), 'it says “550 <relaying> denied”')")
	x.must(err)
	for _, path := range []string{"/today", "/content/mailboxes"} {
		_, body := lead.do("GET", path, nil)
		if !strings.Contains(body, "everybody’s mail server") ||
			!strings.Contains(body, "550 &lt;relaying&gt; denied") ||
			!strings.Contains(body, `action="/content/mailboxes/open"`) {
			t.Errorf("%s does not show it", path)
		}
		if _, body := marketer.do("GET", path, nil); !strings.Contains(body,
			"A lead or an admin can let them go out again.") ||
			strings.Contains(body, `action="/content/mailboxes/open"`) {
			t.Errorf("%s for a marketer", path)
		}
	}
	for outbox, want := range map[string]int{"x": http.StatusNotFound, "-1": http.StatusNotFound,
		"": http.StatusNotFound, "0": http.StatusSeeOther} {
		if res, _ := lead.do("POST", "/content/mailboxes/open",
			url.Values{"outbox": {outbox}}); res.StatusCode != want {
			t.Errorf("%q: %s, want %d", outbox, res.Status, want)
		}
	}
	if _, body := lead.do("GET", "/content/mailboxes", nil); !strings.Contains(body, "Letters go out by it again.") ||
		strings.Contains(body, "everybody’s mail server since") {
		t.Error("it is still stopped")
	}
}

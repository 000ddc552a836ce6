package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// A rep puts people into a sequence that is open to reps, and sees before what goes out first, with who is not
// let in; into others they put nobody. They take out who is theirs, with the reason.
func TestARepPutsPeopleIn(t *testing.T) {
	x := newSite(t)
	ctx := t.Context()
	rep := x.visitor().signIn("rep")
	users, err := x.s.Users(ctx)
	x.must(err)
	var me, other int64
	for _, u := range users {
		if u.Role == "rep" {
			me = u.ID
		} else {
			other = u.ID
		}
	}
	ana, ben := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"}), x.meet(store.NewPerson{First: "Ben", Email: "ben@fjord.example"})
	_, err = x.s.DB().ExecContext(ctx, "update person set opted_out_at = now() where id = $1", ben)
	x.must(err)
	make := func(name string, open bool) (id int64) {
		x.must(x.s.InTx(ctx, func(tx store.Tx) error {
			m, err := tx.SaveMessage(ctx, store.Message{Name: name, SenderID: &me, Doc: store.JSON[message.Document]{
				V: message.Simple("Hello {{ person.first_name }} <b>", "<p>A short word.</p>")}}, me, now)
			if err != nil {
				return err
			}
			p := sequence.NewPlan()
			p.LaunchHold, p.Ground.Other = false, "existing customers"
			if _, err := p.Insert(&sequence.Email{Message: m}, 0, ""); err != nil {
				return err
			}
			id, err = tx.AddSequence(ctx, name, p, now)
			return err
		}))
		x.must(x.s.SetEntry(ctx, id, store.Entry{Hand: true, Reps: open}, now))
		x.must(x.e.Launch(ctx, id, me))
		return id
	}
	open, shut := make("Open one", true), make("Shut one", false)
	to := fmt.Sprintf("/people/put-in?id=%d&id=%d", ana, ben)
	page := rep.follow(to, nil)
	if !strings.Contains(page, "Open one") || strings.Contains(page, "Shut one") {
		t.Error("offered is what is not open, or not what is")
	}
	page = rep.follow(fmt.Sprintf("%s&sequence=%d", to, open), nil)
	for _, want := range []string{"Hello Ana &lt;b&gt;", "A short word.", "not let in: opted out", "Put in 1"} {
		if !strings.Contains(page, want) {
			t.Errorf("the look lacks %q", want)
		}
	}
	if strings.Contains(page, "No more mail from us") {
		t.Error("what stands below every letter is shown to them")
	}
	if res, _ := rep.do("POST", "/people/put-in", url.Values{"id": {fmt.Sprint(ana)}, "sequence": {fmt.Sprint(shut)}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("into one that is not open: %s", res.Status)
	}
	// Words for one alone stand in what is looked at.
	edit := rep.follow(fmt.Sprintf("/content/messages/1/readers/%d", ana), nil)
	if !strings.Contains(edit, "A short word.") {
		t.Error("a rep cannot change the words for one")
	}
	if page = rep.follow("/people/put-in", url.Values{"id": {fmt.Sprint(ana), fmt.Sprint(ben)}, "sequence": {fmt.Sprint(open)}}); !strings.Contains(page, "Put in: 1 of 2.") {
		t.Error("they are not put in")
	}
	if page = rep.follow("/people/put-in/choose", url.Values{"id": {fmt.Sprint(ana)}}); !strings.Contains(page, "choose a sequence") {
		t.Error("ticked on the list, they cannot be put in")
	}
	out := fmt.Sprintf("/people/%d/take-out", ana)
	if page = rep.follow(out, url.Values{"sequence": {fmt.Sprint(open)}, "why": {"no reason"}}); !strings.Contains(page, "Say why") {
		t.Error("they are taken out for nothing")
	}
	_, err = x.s.DB().ExecContext(ctx, "update person set owner_id = $2 where id = $1", ana, other)
	x.must(err)
	if res, _ := rep.do("POST", out, url.Values{"sequence": {fmt.Sprint(open)}, "why": {string(sequence.ByPhone)}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("who is another’s is taken out: %s", res.Status)
	}
	_, err = x.s.DB().ExecContext(ctx, "update person set owner_id = $2 where id = $1", ana, me)
	x.must(err)
	if page = rep.follow(out, url.Values{"sequence": {fmt.Sprint(open)}, "why": {string(sequence.ByPhone)}}); !strings.Contains(page, "taken out: answered by phone") {
		t.Error("taken out, it does not say why")
	}
}

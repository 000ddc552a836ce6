package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

func (w *world) found(text string) (out []string) {
	w.t.Helper()
	list, err := w.s.SearchWritten(w.ctx, text, w.clock.Now().Add(time.Hour), 40)
	w.must(err)
	for _, h := range list {
		side := "sent to "
		if h.In {
			side = "from "
		}
		out = append(out, side+h.First)
	}
	return out
}

// Everything written with people is found by its words, in their forms by the language of each
// letter: what came, what went out, and what a user wrote outside. An audience is made of them.
func TestLettersAreFoundByTheirWords(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, _ := w.answered("Ana", "We are looking at two moorings, and have asked for the prices of your buoys.")
	ben, _ := w.answered("Ben", "Wir haben nicht die Zeit, und die Bojen sind für uns zu teuer; bitte schreiben Sie im Herbst.")
	for text, want := range map[string]string{
		"mooring":              "from Ana",
		"price buoy":           "from Ana",
		"Boje":                 "from Ben",
		"guide":                "from Ben, sent to Ben, from Ana, sent to Ana", // in the subject
		`"two moorings"`:       "from Ana",
		`"moorings two"`:       "",
		"mooring or Boje":      "from Ben, from Ana",
		"mooring -price":       "",
		"mooring -lighthouse":  "from Ana",
		"nothing of the kind":  "",
		"'; drop table person": "",
		":*&|!()":              "",
	} {
		if got := strings.Join(w.found(text), ", "); got != want {
			t.Errorf("%q finds %q, want %q", text, got, want)
		}
	}
	for side, want := range map[store.Side]int64{store.WroteIt: 2, store.GotIt: 2, store.Either: 2} {
		id, n, err := w.e.AudienceOfWritten(w.ctx, "Guide "+string(side), "guide", side)
		if w.must(err); n != want || int64(w.count("select members from audience where id = $1", id)) != want {
			t.Errorf("%s: %d are in the audience, want %d", side, n, want)
		}
	}
	if _, n, err := w.e.AudienceOfWritten(w.ctx, "Moorings", "moorings", store.WroteIt); err != nil || n != 1 {
		t.Errorf("who wrote of moorings are %d, %v", n, err)
	}
	for _, x := range []struct {
		name, text string
		side       store.Side
	}{{"", "guide", store.GotIt}, {"x", " ", store.GotIt}, {"x", "guide", "both"}, {"Moorings", "guide", store.GotIt}} {
		if _, _, err := w.e.AudienceOfWritten(w.ctx, x.name, x.text, x.side); err == nil {
			t.Errorf("%+v is made", x)
		}
	}
	// Who is erased is found by nothing.
	w.must(w.e.Erase(w.ctx, ana))
	if got := w.found("mooring or guide"); len(got) != 2 || strings.Contains(strings.Join(got, ""), "Ana") {
		t.Errorf("erased, %q is found (%d)", got, ben)
	}
}

// A hidden copy to a user's secret address keeps a letter with everybody known whom it is to, once;
// what answers it is theirs without anybody having to say so.
func TestCopiesOfOnesOwnMail(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, ben := w.caller("Ana", "NO", w.rep1), w.caller("Ben", "NO", w.rep1)
	w.must(w.e.RenewCopy(w.ctx, w.rep1, false))
	key, err := w.s.CopyKey(w.ctx, w.rep1)
	w.must(err)
	to := w.e.CopyAddress(key)
	if len(key) < 20 || !strings.HasSuffix(to, "@mail.karang.example") {
		t.Errorf("the address is %q", to)
	}
	letter := mail.Read([]byte("From: Tomas <tomas@karang.example>\r\nTo: Ana <Ana@desk.example>, x@nobody.example\r\nCc: Ben@desk.example\r\n" +
		"Message-Id: <own1@karang.example>\r\nSubject: The winch\r\n\r\nIt holds two tonnes.\r\n"))
	letter.Envelope("tomas@karang.example", []string{strings.ToUpper(to[:10]) + to[10:]})
	for range 2 {
		w.must(w.e.Receive(w.ctx, letter))
	}
	for _, who := range []int64{ana, ben} {
		list, err := w.s.PersonOutside(w.ctx, who)
		if w.must(err); len(list) != 1 || list[0].Subject != "The winch" || list[0].By != "Tomas Vale" {
			t.Errorf("kept is %+v", list)
		}
	}
	if got := strings.Join(w.found("tonnes"), ", "); got != "sent to Ben, sent to Ana" && got != "sent to Ana, sent to Ben" {
		t.Errorf("found is %q", got)
	}
	if n := w.count("select count(*) from incoming"); n != 0 {
		t.Errorf("%d copies lie among what came", n)
	}
	w.must(w.e.Receive(w.ctx, mail.Received{ID: "b@desk.example", From: "ana@desk.example", Subject: "Re: The winch", Said: "Good", Text: "Good",
		References: []string{"own1@karang.example"}}))
	if n := w.count("select count(*) from incoming where person_id = $1 and not unsure and rep_id = $2", ana, w.rep1); n != 1 {
		t.Error("what answers it is not theirs, or on nobody’s desk")
	}
	// An address that is nobody's any more keeps nothing; one that was made up keeps nothing.
	w.must(w.e.RenewCopy(w.ctx, w.rep1, true))
	for i, to := range []string{to, "copy+@mail.karang.example", "copy+x@mail.karang.example"} {
		letter.ID = fmt.Sprint("own", i+2)
		letter.Envelope("tomas@karang.example", []string{to})
		w.must(w.e.Receive(w.ctx, letter))
	}
	if n := w.count("select count(*) from outside_letter"); n != 2 {
		t.Errorf("%d letters are kept", n)
	}
	// Merged, both stay with the one that is kept.
	_, err = w.e.Merge(w.ctx, ana, ben, nil, w.marketer)
	w.must(err)
	if list, err := w.s.PersonOutside(w.ctx, ana); err != nil || len(list) != 2 {
		t.Errorf("merged, %d are kept with the one that stays, %v", len(list), err)
	}
}

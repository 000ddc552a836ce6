package browser_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"ombak/internal/core/booking"
	"ombak/internal/core/calendar"
	"ombak/internal/core/folder"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/sales"
	"ombak/internal/engine/setup"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// furnish puts something of everything into a house, so that every view has
// something to show.
func (h *house) furnish() {
	h.t.Helper()
	ctx, e := h.t.Context(), h.d.Engine
	users, err := h.s.Users(ctx)
	h.must(err)
	me := users[0].ID
	var people []int64
	h.must(h.s.InTx(ctx, func(tx store.Tx) error {
		for i := range 3 {
			id, _, err := tx.MeetPerson(ctx,
				store.NewPerson{First: "Ana", Last: fmt.Sprintf("Strand%d", i),
					Email:   fmt.Sprintf("ana%d@fjord.example", i),
					Company: "Fjord Farms", Domain: "fjord.example", Country: "NO", Phone: "+44 20 7946 0101"},
				h.d.Clock.Now())
			if err != nil {
				return err
			}
			people = append(people, id)
		}
		_, err := tx.SavePage(ctx,
			store.Page{Slug: "alarms",
				Doc:       store.JSON[page.Document]{V: page.New("Oxygen alarms", "<p>Read.</p>", "Send it")},
				Published: true}, nil, h.d.Clock.Now())
		return err
	}))
	msg, err := e.NewMessage(ctx, "Guide", message.Simple("Your guide", `<p><a href="/p/alarms">Here</a></p>`), true,
		me)
	h.must(err)
	h.must(e.KeepMessage(ctx, msg, me))
	a := store.Audience{Name: "Norway", Live: true}
	a.Rule.V = rule.FieldIs(person.Country, "NO")
	_, err = e.SaveAudience(ctx, a)
	h.must(err)
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	first, err := p.Insert(&sequence.Email{Message: msg}, 0, "")
	h.must(err)
	watch, err := p.Insert(&sequence.Watch{Signal: 5, Of: first, For: calendar.Span{N: 5, Unit: calendar.Days}}, first,
		sequence.Next)
	h.must(err)
	_, err = p.Insert(sequence.New("call"), watch, sequence.NotInTime)
	h.must(err)
	call := sequence.NewPlan()
	call.LaunchHold, call.Ground.Other = false, "existing customers"
	call.Hours = calendar.OfficeHours(0, 24*60) // it is night in Norway
	_, err = call.Insert(sequence.New("call"), 0, "")
	h.must(err)
	for i, plan := range []*sequence.Plan{p, call} {
		var id int64
		h.must(h.s.InTx(ctx, func(tx store.Tx) (err error) {
			id, err = tx.AddSequence(ctx, []string{"Guide", "Ring them"}[i], plan, h.d.Clock.Now())
			return err
		}))
		r := rule.FieldIs(person.Country, "NO")
		h.must(h.s.SetEntry(ctx, id, store.Entry{Rule: &r}, h.d.Clock.Now()))
		h.must(e.Launch(ctx, id, me))
	}
	_, err = e.SaveMailing(ctx, store.Mailing{Name: "News", Plan: store.JSON[mailing.Plan]{V: mailing.NewPlan()}}, me)
	h.must(err)
	offer := store.BookingPage{User: me, Slug: "talk", Shown: true}
	offer.Plan.V = booking.Usual()
	offer.Plan.V.Notice = 0
	h.must(e.KeepBookingPage(ctx, offer))
	times, _, err := e.FreeTimes(ctx, &offer, 0)
	h.must(err)
	_, err = e.Book(ctx, &offer, sales.Pick{At: times[0].UTC(), Person: people[0]})
	h.must(err)
	h.must(e.Receive(ctx, mail.Received{ID: "a@b", From: "ana1@fjord.example", Subject: "Hello", Said: "No thanks",
		Text: "No thanks"}))
	_, err = e.KeepSnippet(ctx, store.Snippet{Name: "Thanks", Body: "Thank you."}, me)
	h.must(err)
	h.must(h.until("a call on the desk", func() bool {
		calls, err := h.s.DeskWork(ctx, 0)
		return err == nil && len(calls) > 0
	}))
	for _, path := range []string{"Spring / Clinics", "Spring"} {
		_, _, err = e.File(ctx, setup.Filing{Kind: folder.Message, ID: msg, Path: path})
		h.must(err)
	}
	h.must(e.HandOver(ctx, people[0]))
	h.must(e.HandOver(ctx, people[1]))
	list, err := h.s.OpenHandoffs(ctx, 0, 9)
	h.must(err)
	_, err = e.Accept(ctx, list[0].ID, *list[0].Rep)
	h.must(err)
}

// TestAccessibility holds every main view, in both schemes, against axe-core's
// rules for WCAG 2.2 at level AA.
func TestAccessibility(t *testing.T) {
	h := open(t)
	h.furnish()
	axe, err := os.ReadFile("testdata/axe.min.js")
	h.must(err)
	h.signsIn("Wira Sandoval", "wira.sandoval@karang.example")
	views := []string{"/today", "/people", "/people/1", "/people/new", "/people/companies", "/people/companies/1",
		"/people/audiences", "/people/audiences/1", "/people/audiences/1/edit",
		"/people/tags", "/people/tags/1", "/people/imports", "/people/doubles", "/people/work", "/content",
		"/content/messages/1",
		"/content/messages/1?at=1", "/content/messages/1/preview", "/content/emails", "/content/emails/1",
		"/content/pages", "/content/pages/1", "/content/shelf", "/content/groups", "/content/sites",
		"/content/folders", "/content/folders?folder=2", "/content/folders/file?kind=message&id=1",
		"/content/mailboxes", "/sequences", "/sequences/1", "/sequences/1?view=draft",
		"/sequences/1?view=draft&step=2", "/sequences/1/launch", "/sequences/1/end", "/sequences/hold-all", "/scoring",
		"/scoring/fit", "/scoring/draft", "/scoring/versions", "/scoring/figures", "/scoring/lifted", "/scoring/models",
		"/settings/handing", "/settings/handing/territories/new", "/pipeline/handoffs", "/people/1/hand-over",
		"/pipeline/course", "/pipeline/1", "/pipeline/list", "/pipeline/new", "/pipeline/imports",
		"/settings/rates", "/desk",
		"/desk?kind=call", "/desk?kind=task", "/desk?kind=answer", "/desk?kind=meeting",
		"/desk/snippets", "/desk/suggestions?try=no+thanks", "/desk/booking", "/desk/written?q=guide",
		"/desk/load", "/b/talk?zone=Asia/Tokyo", "/pipeline",
		"/settings", "/settings/people", "/settings/people/1/hours", "/settings/teams", "/settings/hours",
		"/settings/holidays?country=NO",
		"/settings/changes", "/settings/stages", "/settings/grounds", "/signature", "/p/alarms"}
	h.must(h.tab.Run("document.cookie = 'ombak_scheme=light; path=/'"))
	for _, view := range views {
		h.goes(view)
		h.must(h.tab.Until("the page to be whole",
			`document.readyState === 'complete' && !document.querySelector('.htmx-request')`))
		h.must(h.tab.Run(string(axe)))
		// What the dark scheme changes is colours alone, by one attribute.
		for _, x := range []struct{ scheme, rules string }{
			{"light", `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']`},
			{"dark", `{ type: 'rule', values: ['color-contrast'] }`},
		} {
			h.must(h.tab.Run(`window.ombakAxe = null; document.documentElement.dataset.scheme = '` + x.scheme + `';
				axe.run(document, { runOnly: ` + x.rules + `, resultTypes: ['violations'], preload: false })
				.then((r) => { window.ombakAxe = JSON.stringify(r.violations.map((v) => ({ id: v.id, help: v.help,
					nodes: v.nodes.map((n) => n.html.slice(0, 160) + ' — ' + (n.any[0]?.message || n.all[0]?.message ||
					n.none[0]?.message || '')) }))); })
				.catch((e) => { window.ombakAxe = JSON.stringify([{ id: 'failed', help: String(e), nodes: [] }]); })`))
			h.must(h.tab.Until("axe", `window.ombakAxe !== null`))
			raw, err := h.tab.Eval(`window.ombakAxe`)
			h.must(err)
			var found []struct {
				ID, Help string
				Nodes    []string
			}
			h.must(json.Unmarshal([]byte(raw), &found))
			for _, v := range found {
				t.Errorf("%s, %s: %s (%s), %d times:\n    %s", view, x.scheme, v.Help, v.ID, len(v.Nodes),
					strings.Join(v.Nodes[:min(3, len(v.Nodes))], "\n    "))
			}
		}
	}
}

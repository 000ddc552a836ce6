package demo

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/standin/readers"
	"ombak/internal/store"
)

// keepPages keeps the page that offers the field guide, which a sequence begins
// with, and the one that keeps places at the clinic, which sends its own email.
func keepPages(ctx context.Context, st *store.Store, m *made, marketer int64, at time.Time) error {
	own, err := st.OwnFields(ctx)
	if err != nil {
		return err
	}
	var further []person.Field
	for _, f := range own {
		if f.Name == "Pens or intakes" || f.Name == "Water" {
			further = append(further, person.Own(f.ID))
		}
	}
	guide := page.New("Your alarm goes off at three in the morning. Is it the right one?",
		"<div>Oxygen falls fastest when nobody is on the water. Our field guide shows where to hang a sensor, how "+
			"low is too low for which fish, and how to set alarms that people still believe after a month.</div>",
		"Send me the field guide").WithLadder(append([]person.Field{person.Title},
		append(further, person.PhoneField)...)...)
	put := func(d *page.Document, k message.Kind, c message.Content) {
		d.Last++
		d.Blocks = append(d.Blocks, page.Block{ID: d.Last, Kind: k, Content: c})
	}
	put(&guide, message.List,
		message.Content{Items: []string{"Three alarms that saved a pen", "Where to measure, by depth and current",
			"A table of limits to hang beside the feed plan"}})
	put(&guide, message.Quote,
		message.Content{Text: "<div>We had eleven false alarms a week. Now we have one, and we get up for it.</div>",
			By: "Site manager of a trout farm"})
	guide.Form.Thanks = "<h2>Thank you. The field guide is on its way to your mailbox.</h2>"
	guide.Form.Consents = []page.Consent{{Purpose: 1,
		Words: "Yes, write to me when there is something new about water quality."}}
	for i, q := range guide.Form.Questions {
		switch q.Field {
		case person.Title:
			guide.Form.Questions[i].Label = "What you do there"
		case person.PhoneField:
			guide.Form.Questions[i].Help = "Only where you would like to be called."
		}
	}
	clinic := page.New("Bring your worst sensor",
		"<div>On 12 May we take apart, live, what drifts in a dissolved-oxygen sensor, and put it right with the "+
			"readings you bring. 45 minutes, online.</div>", "Keep me a place").WithLadder(person.Title)
	put(&clinic, message.List,
		message.Content{Ordered: true,
			Items: []string{"Two points or one? What calibration each sensor wants",
				"Fouling, and what it looks like in the readings", "Your questions, by their readings"}})
	clinic.Form.Title, clinic.Form.Message, clinic.Form.Proved = "Keep me a place", m.place, true
	clinic.Form.Thanks = "<h2>Nearly there.</h2><div>Press the button in the email that we have just sent you, and " +
		"your place is kept.</div>"
	clinic.Form.Consents = []page.Consent{{Purpose: 2, Words: "Invite me to the next clinics too."}}
	clinic.Form.Acts = []act.Kept{
		{Act: act.Tag{Name: "clinic May"}},
		{Act: act.Task{Words: "Ask which sensor they bring to the clinic"}},
		{Act: act.Alert{Words: "Took a place at the clinic", To: marketer}},
	}
	return st.InTx(ctx, func(tx store.Tx) error {
		p := store.Page{Slug: "oxygen-alarms", Published: true, Offer: "Field guide to dissolved-oxygen alarms",
			FileName: "dissolved-oxygen-alarms.pdf", FileType: "application/pdf"}
		p.Doc.V = guide
		var err error
		if m.page, err = tx.SavePage(ctx, p, guidePDF(), at); err != nil {
			return err
		}
		p = store.Page{Slug: "calibration-clinic", Published: true}
		p.Doc.V = clinic
		_, err = tx.SavePage(ctx, p, nil, at)
		return err
	})
}

// placeLetter tells whoever asked for a place at the clinic that it is theirs.
func placeLetter() message.Document {
	all := func(c message.Content) map[int64]message.Content { return map[int64]message.Content{message.Else: c} }
	return message.Document{Style: message.Designed, Last: 4,
		Subject: message.Words{message.Else: "Your place at the calibration clinic"},
		Invite: &message.Invite{Title: "Calibration clinic", Start: time.Date(2026, 5, 12, 12, 0, 0, 0, time.UTC),
			Minutes: 45, Place: "online", Note: "Have a week of readings at hand."},
		Sections: []message.Section{
			{ID: 1, Kind: message.Heading, For: all(message.Content{Text: "One press, and the place is yours"})},
			{ID: 2, Kind: message.Text,
				For: all(message.Content{Text: `<div>Dear {{ person.first_name | default: "reader" }},</div><div>so ` +
					`that nobody else can take a place in your name, please press the button. What to have at hand ` +
					`stands behind it.</div>`})},
			{ID: 3, Kind: message.Button,
				For: all(message.Content{Label: "Yes, this is me", Link: "/p/oxygen-alarms"})},
			{ID: 4, Kind: message.Signature, For: all(message.Content{})},
		}}
}

// sources are where the visitors of a page come from.
var sources = []string{"trade letter", "harbour fair", "", "trade letter", "", "partner page"}

var viewToken = regexp.MustCompile(`name="view" value="([^"]+)"`)

// visitPage has somebody look at a page over HTTP, who begins to fill its form
// in or does not, and answers what they saw.
func (d *Demo) visitPage(
	ctx context.Context, c *http.Client, slug, source string, begins bool,
) (view string, shown string, err error) {
	address := d.Engine.URL + "/p/" + slug
	with := address
	if source != "" {
		with += "?" + url.Values{"utm_source": {source}}.Encode()
	}
	if shown, err = request(ctx, c, http.MethodGet, with, nil); err != nil {
		return "", "", err
	}
	token := viewToken.FindStringSubmatch(shown)
	if token == nil {
		return "", "", errors.New("the page has no form")
	}
	if begins {
		_, err = request(ctx, c, http.MethodPost, address+"/started", url.Values{"view": {token[1]}})
	}
	return token[1], shown, err
}

// passBy has somebody look at a page who leaves nothing there.
func (d *Demo) passBy(ctx context.Context, s *scenario, slug string, n int) error {
	c := &http.Client{Timeout: 20 * time.Second, Transport: readers.From(fmt.Sprint(slug, n))}
	defer c.CloseIdleConnections()
	_, _, err := d.visitPage(ctx, c, slug, sources[s.rnd.IntN(len(sources))], s.rnd.IntN(4) == 0)
	return err
}

// fillForm visits a page and fills its form in, over HTTP.
func (d *Demo) fillForm(ctx context.Context, s *scenario, slug string, p store.NewPerson) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	c := &http.Client{Jar: jar, Timeout: 20 * time.Second, Transport: readers.From(p.Email)}
	defer c.CloseIdleConnections()
	source := sources[s.rnd.IntN(len(sources))]
	view, shown, err := d.visitPage(ctx, c, slug, source, true)
	if err != nil {
		return err
	}
	form := url.Values{"view": {view}, "f-first-name": {p.First}, "f-last-name": {p.Last}, "f-company": {p.Company},
		"f-email": {p.Email}}
	if source != "" {
		form.Set("utm_source", source)
	}
	if p.Title != "" && strings.Contains(shown, `name="f-title"`) && s.rnd.IntN(3) > 0 {
		form.Set("f-title", p.Title)
	}
	if box := consentBox.FindStringSubmatch(shown); box != nil && s.rnd.IntN(5) < 2 {
		form.Set(box[1], "1")
	}
	if slug == "calibration-clinic" { // whose own email has to be pressed
		d.World.Asks(p.Email)
	}
	_, err = request(ctx, c, http.MethodPost, d.Engine.URL+"/p/"+slug, form)
	return err
}

var consentBox = regexp.MustCompile(`name="(agree-\d+)"`)

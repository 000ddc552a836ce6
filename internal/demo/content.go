package demo

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// guidePDF is the field guide: a PDF of one page, made here.
func guidePDF() []byte {
	lines := []string{"Field guide to dissolved-oxygen alarms", "",
		"1. Set the first alarm where fish slow down, not where they die.",
		"2. Measure where the fish are at night, not where the boat is by day.",
		"3. An alarm nobody hears at three in the morning is no alarm.", "", "Karang Instruments (an invented company)"}
	var text bytes.Buffer
	for i, l := range lines {
		size := 12
		if i == 0 {
			size = 20
		}
		fmt.Fprintf(&text, "BT /F1 %d Tf 60 %d Td (%s) Tj ET\n", size, 760-i*28, l)
	}
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R " +
			"/Resources << /Font << /F1 5 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%sendstream", text.Len(), text.String()),
		"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
	}
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n")
	var at []int
	for i, o := range objects {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	start := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for _, o := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, start)
	return b.Bytes()
}

type made struct {
	page               int64
	guide, loan, owner int64 // messages
	clinic, place      int64
	followUp, loanSeq  int64 // sequences
}

// keepContent keeps the pages, the messages and the two sequences, drafted.
func keepContent(ctx context.Context, st *store.Store, ids []int64, at time.Time, site string) (made, error) {
	var m made
	var err error
	marketer := ids[0]
	hello := `{{ person.first_name | default: "reader" }}`
	night := "/p/oxygen-alarms"
	if site != "" {
		night = site + "/a-night-without-oxygen"
	}
	err = st.InTx(ctx, func(tx store.Tx) error {
		keep := func(name string, doc message.Document, fromOwner bool) int64 {
			var id int64
			if err == nil {
				id, err = tx.SaveMessage(ctx,
					store.Message{Name: name, Doc: store.JSON[message.Document]{V: doc}, FromOwner: fromOwner,
						SenderID: &marketer}, marketer, at)
			}
			return id
		}
		save := func(name, subject, body string, fromOwner bool) int64 {
			return keep(name, message.Simple(subject, body), fromOwner)
		}
		var groups []message.Group
		for _, g := range []struct {
			name string
			r    rule.Rule
		}{{"Spanish readers", rule.FieldIs(person.Language, "es")},
			{"Norwegian readers", rule.FieldIs(person.Language, "nb")},
			{"Ports", rule.FieldIs(person.Industry, "Ports")}} {
			if err == nil {
				x := store.ReaderGroup{Name: g.name, Rule: store.JSON[rule.Rule]{V: g.r}}
				x.ID, err = tx.SaveReaderGroup(ctx, x)
				groups = append(groups, message.Group{ID: x.ID, Name: g.name, Rule: g.r})
			}
		}
		m.guide = save("Field guide, download", "Your field guide, "+hello,
			"<div>Dear "+hello+
				",</div><div><br></div><div>here is the <a href=\"/g/oxygen-alarms\">field guide to dissolved-oxygen "+
				"alarms</a> that you asked for.</div><div><br></div><div>Page 4 is the one people hang beside the "+
				"feed plan. If your site looks different from the drawings, write back and tell us "+
				"how.</div><div><br></div><div>{{ sender.name }}<br>Karang Instruments</div>", false)
		m.owner = save("From the owner: three alarms",
			`Three alarms that saved a pen, and {{ company.name | default: "your site" }}`,
			"<div>Dear "+hello+
				",</div><div><br></div><div>I saw that you took our field guide. Two sites near {{ person.city | "+
				"default: \"you\" }} changed their alarms after reading it; <a href=\""+night+
				"\">what they did</a> fits on one page.</div><div><br></div><div>Shall we talk for a quarter of an "+
				"hour this week?</div><div><br></div><div>{{ sender.name }}, {{ sender.phone | default: \"Karang "+
				"Instruments\" }}</div>", true)
		m.loan = keep("Buoy on loan", loanLetter(groups[:2]), true)
		m.clinic = keep("Invitation to the calibration clinic", clinicLetter(), false)
		m.place = keep("Calibration clinic, your place", placeLetter(), false)
		return err
	})
	if err != nil {
		return m, err
	}

	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "legitimate interest"
	put := func(p *sequence.Plan, s sequence.Step, title string, from sequence.StepID,
		e sequence.Exit) sequence.StepID {
		s.About().Title = title
		var id sequence.StepID
		if err == nil {
			id, err = p.Insert(s, from, e)
		}
		return id
	}
	first := put(p, &sequence.Email{Message: m.guide, Request: true}, "Field guide", 0, "")
	watch := put(p, &sequence.Watch{Signal: signal.Click, Of: first, N: 1, For: days(5)}, "Takes it?", first,
		sequence.Next)
	check := put(p, &sequence.Check{Rule: rule.ScoreAtLeast(15)}, "Score 15 or more?", watch, sequence.Happened)
	second := put(p, &sequence.Email{Message: m.owner, Timing: sequence.Timing{Wait: days(1)}}, "From the owner",
		check, sequence.Yes)
	put(p, sequence.New("hand over"), "Hand over", second, sequence.Next)
	call := put(p, &sequence.Call{Guide: "Ask how they measure oxygen now, and who hears the alarm at night."}, "Call",
		check, sequence.No)
	name(p, call, sequence.IsDone, "Talked")
	name(p, call, sequence.NotReached, "Not reached")
	name(p, call, sequence.NotInterested, "Not interested")
	name(p, watch, sequence.NotInTime, "Went quiet")

	q := sequence.NewPlan()
	q.LaunchHold, q.Ground.Other = false, "legitimate interest"
	q.Hours = calendar.OfficeHours(8*60+30, 11*60)
	offer := put(q, &sequence.Email{Message: m.loan}, "Buoy on loan", 0, "")
	opens := put(q, &sequence.Watch{Signal: signal.Open, Of: offer, N: 1, For: days(4)}, "Reads it?", offer,
		sequence.Next)
	clicks := put(q, &sequence.Watch{Signal: signal.Click, Of: offer, N: 1, For: days(7)}, "Looks closer?", opens,
		sequence.Happened)
	ready := put(q, &sequence.Check{Rule: rule.ScoreAtLeast(15)}, "Score 15 or more?", clicks, sequence.Happened)
	put(q, sequence.New("hand over"), "Hand over", ready, sequence.Yes)
	ask := put(q, &sequence.Call{Guide: "Offer to moor the buoy ourselves. Ask for depth and current."}, "Call", ready,
		sequence.No)
	name(q, ask, sequence.IsDone, "Talked")
	name(q, ask, sequence.NotReached, "Not reached")
	name(q, ask, sequence.NotInterested, "Not interested")
	name(q, clicks, sequence.NotInTime, "Read, no more")
	second2 := put(q, &sequence.Email{Message: m.owner}, "Second chance", opens, sequence.NotInTime)
	name(q, second2, sequence.Next, "Went quiet")
	if err != nil {
		return m, err
	}
	err = st.InTx(ctx, func(tx store.Tx) error {
		if m.followUp, err = tx.AddSequence(ctx, "Field guide follow-up", p, at); err != nil {
			return err
		}
		m.loanSeq, err = tx.AddSequence(ctx, "Buoy loan in Norway", q, at)
		return err
	})
	if err != nil {
		return m, err
	}
	if err := keepPages(ctx, st, &m, marketer, at); err != nil {
		return m, err
	}
	if err := st.SetEntry(ctx, m.followUp, store.Entry{Page: m.page, Reps: true}, at); err != nil {
		return m, err
	}
	norway := rule.FieldIs(person.Country, "NO")
	return m, st.SetEntry(ctx, m.loanSeq, store.Entry{Rule: &norway}, at)
}

// name titles the end that an exit leads to.
func name(p *sequence.Plan, from sequence.StepID, e sequence.Exit, title string) {
	if s := p.Step(from); s != nil {
		if end := p.Step(s.About().To[e]); end != nil {
			end.About().Title = title
		}
	}
}

// loanLetter offers the loan of a buoy, in English and, but for its end, in
// Spanish; Norwegian was begun.
func loanLetter(groups []message.Group) message.Document {
	spanish, norwegian := groups[0].ID, groups[1].ID
	words := func(en, es, nb message.Content) map[int64]message.Content {
		out := map[int64]message.Content{message.Else: en}
		if es.Text+es.Label != "" || es.Items != nil {
			out[spanish] = es
		}
		if nb.Text+nb.Label != "" {
			out[norwegian] = nb
		}
		return out
	}
	none := message.Content{}
	return message.Document{
		Style: message.Designed, Groups: groups, Last: 6,
		Subject: message.Words{message.Else: `A buoy at {{ company.name | default: "your site" }} for 30 days, on us`,
			spanish:   `Una boya en {{ company.name | default: "su centro" }} durante 30 días, por nuestra cuenta`,
			norwegian: `En bøye hos {{ company.name | default: "dere" }} i 30 dager, på oss`},
		Preheader: message.Words{message.Else: "You choose the mooring and keep what it measured",
			spanish: "Usted elige el lugar y se queda con los datos"},
		Sections: []message.Section{
			{ID: 1, Kind: message.Heading,
				For: words(message.Content{Text: "30 nights with a buoy of ours"},
					message.Content{Text: "30 noches con una de nuestras boyas"},
					message.Content{Text: "30 netter med en bøye fra oss"})},
			{ID: 2, Kind: message.Text, For: words(
				message.Content{Text: `<div>Dear {{ person.first_name | default: "reader" }},</div><div><br></div>` +
					`<div>for 30 days we moor one of our buoys where you choose, and you keep what it measured. <a ` +
					`href="/p/oxygen-alarms">How the loan works</a>, and what others found out in a month:</div>`},
				message.Content{Text: `<div>Estimado/a {{ person.first_name | default: "lector" }}:</div><div><br>` +
					`</div><div>durante 30 días fondeamos una boya donde usted elija, y los datos son suyos. <a ` +
					`href="/p/oxygen-alarms">Así funciona el préstamo</a>, y lo que otros descubrieron en un mes:` +
					`</div>`},
				message.Content{Text: `<div>Hei {{ person.first_name | default: "der" }},</div><div><br></div><div>i ` +
					`30 dager legger vi ut en bøye der dere vil, og dere beholder målingene. <a ` +
					`href="/p/oxygen-alarms">Slik virker utlånet</a>:</div>`})},
			{ID: 3, Kind: message.List,
				For: words(message.Content{Items: []string{"Oxygen fell most at four in the morning, not at noon",
					"Two of three alarms came from fouling", "The deep pens were fine; the inner ones were not"}},
					message.Content{Items: []string{"El oxígeno bajaba más a las cuatro de la mañana",
						"Dos de tres alarmas venían de la suciedad",
						"Las jaulas interiores, no las profundas, eran el problema"}}, none)},
			{ID: 4, Kind: message.Button,
				For: words(message.Content{Label: "Choose your month", Link: "/p/oxygen-alarms"},
					message.Content{Label: "Elija su mes", Link: "/p/oxygen-alarms"}, none)},
			{ID: 5, Kind: message.Quote,
				For: words(message.Content{Text: "<div>We moved one sensor by four metres and slept through the next " +
					"storm.</div>", By: "Site manager on a loan last autumn"}, none, none)},
			{ID: 6, Kind: message.Signature, For: map[int64]message.Content{message.Else: {}}},
		},
	}
}

// clinicLetter invites to the online workshop, with an entry for the calendar.
func clinicLetter() message.Document {
	all := func(c message.Content) map[int64]message.Content { return map[int64]message.Content{message.Else: c} }
	return message.Document{
		Style: message.Designed, Last: 6,
		Subject:   message.Words{message.Else: "Bring your worst sensor: calibration clinic on 12 May"},
		Preheader: message.Words{message.Else: "45 minutes, online, with your own readings"},
		Invite: &message.Invite{Title: "Calibration clinic", Start: time.Date(2026, 5, 12, 12, 0, 0, 0, time.UTC),
			Minutes: 45, Place: "online", Note: "Have a week of readings at hand."},
		Sections: []message.Section{
			{ID: 1, Kind: message.Heading, For: all(message.Content{Text: "Bring your worst sensor"})},
			{ID: 2, Kind: message.Text,
				For: all(message.Content{Text: `<div>Dear {{ person.first_name | default: "reader" }},</div><div><br>` +
					`</div><div>on 12 May we take apart, live, what drifts in a dissolved-oxygen sensor, and put it ` +
					`right with the readings you bring. Whoever wants to prepare reads the <a ` +
					`href="/g/oxygen-alarms">field guide</a> first.</div>`})},
			{ID: 3, Kind: message.List,
				For: all(message.Content{Ordered: true,
					Items: []string{"Two points or one? What calibration each sensor wants",
						"Fouling, and what it looks like in the readings", "Your questions, by their readings"}})},
			{ID: 4, Kind: message.Button,
				For: all(message.Content{Label: "Keep me a place", Link: "/p/calibration-clinic"})},
			{ID: 5, Kind: message.Divider, For: all(message.Content{})},
			{ID: 6, Kind: message.Signature, For: all(message.Content{})},
		},
	}
}

package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// languages are what people write in, by country. Common practice, no source.
var languages = map[string]string{"NO": "nb", "GB": "en-GB", "CA": "en-CA", "US": "en-US", "CL": "es", "ID": "id",
	"AE": "en", "SG": "en", "AU": "en-AU", "DE": "de", "VN": "vi", "CR": "es"}

// ranks are a title's seniority and department.
var ranks = map[string][2]string{
	"Site manager": {"manager", "Operations"}, "Head of fish health": {"head", "Fish health"},
	"Operations director": {"director", "Operations"}, "Feed planner": {"specialist", "Operations"},
	"Biologist":      {"specialist", "Fish health"},
	"Harbour master": {"head", "Harbour"}, "Environment officer": {"specialist", "Environment"},
	"Dredging planner": {"specialist", "Harbour"}, "Plant manager": {"manager", "Plant"},
	"Intake engineer": {"specialist", "Plant"},
	"Process chemist": {"specialist", "Laboratory"}, "Maintenance lead": {"manager", "Plant"},
	"Water quality lead": {"head", "Laboratory"}, "Treatment engineer": {"specialist", "Plant"},
	"Laboratory head": {"head", "Laboratory"}, "Network planner": {"specialist", "Network"},
}

// partners look after buoys in the countries they are in.
var partners = []string{"Ebbline Service", "Grey Heron Marine", "Southern Cross Sensors"}

var (
	bands    = []rule.Band{{Name: "calm", To: 5}, {Name: "rising", From: 5, To: 15}, {Name: "high water", From: 15}}
	fitBands = []rule.Band{{Name: "open sea", To: 40}, {Name: "in reach", From: 40, To: 75},
		{Name: "home port", From: 75}}

	// fit is whom Karang sells to best: those who answer for a plant or a site
	// where dissolved oxygen matters, in a country with a service partner.
	fit = rule.Fit{
		{If: rule.Rule{If: &rule.Condition{Field: person.Industry, Op: rule.OneOf,
			Values: []string{"Fish farming", "Desalination"}}}, Points: 40},
		{If: rule.Rule{If: &rule.Condition{Field: person.Seniority, Op: rule.OneOf,
			Values: []string{"head", "director", "manager"}}}, Points: 30},
		{If: rule.Rule{If: &rule.Condition{Field: person.Country, Op: rule.OneOf,
			Values: []string{"NO", "GB", "CL", "CA", "AU"}}}, Points: 20},
		{If: rule.Rule{If: &rule.Condition{Field: person.PhoneField, Op: rule.Known}}, Points: 10},
	}
)

// keepChoosing keeps what marketers have made of people: the rest of their
// records, own fields, tags, audiences, consent, a list that was brought in,
// and a few records that are there twice.
func (d *Demo) keepChoosing(ctx context.Context, s *scenario, people, ids []int64, began time.Time) error {
	st := d.Store
	var langs, seniorities, departments, campaigns []string
	for _, p := range s.people {
		r := ranks[p.Title]
		langs, seniorities, departments = append(langs, languages[p.Country]), append(seniorities, r[0]),
			append(departments, r[1])
		campaign := ""
		if s.rnd.IntN(3) == 0 {
			campaign = []string{"oxygen spring", "calibration clinic", "buoy loan"}[s.rnd.IntN(3)]
		}
		campaigns = append(campaigns, campaign)
	}
	if err := st.DemoRecordsMore(ctx, people, langs, seniorities, departments, campaigns); err != nil {
		return err
	}
	var domains, revenues []string
	var sizes []int64
	for _, c := range s.companies {
		n := []int64{12, 25, 60, 140, 380, 900, 2400}[s.rnd.IntN(7)]
		domains, sizes = append(domains, c.domain), append(sizes, n)
		revenues = append(revenues, []string{"under 1 M", "1–10 M", "10–50 M", "over 50 M"}[min(3, int(n)/300)])
	}
	if err := st.DemoCompanies(ctx, domains, revenues, sizes); err != nil {
		return err
	}
	var pens, water, next, partner int64
	err := st.InTx(ctx, func(tx store.Tx) error {
		var err error
		for _, f := range []struct {
			id *int64
			f  store.OwnField
		}{
			{&pens, store.OwnField{Name: "Pens or intakes", Type: person.Number}},
			{&water, store.OwnField{Name: "Water", Type: person.OneOf}},
			{&next, store.OwnField{Name: "Next calibration", Type: person.Date}},
			{&partner, store.OwnField{Name: "Service partner", Type: person.OneOf, Company: true}},
		} {
			if f.f.Type == person.OneOf {
				f.f.Options.V = []string{"sea", "fjord", "lake", "river", "tank"}
			}
			if f.f.Company {
				f.f.Options.V = partners
			}
			if *f.id, err = tx.AddOwnField(ctx, f.f); err != nil {
				return err
			}
		}
		if _, err = tx.AddPurpose(ctx, "Invitations to clinics"); err != nil {
			return err
		}
		for _, c := range s.companies {
			if s.rnd.IntN(4) > 0 {
				continue
			}
			id, err := tx.CompanyByDomain(ctx, c.domain)
			if err != nil {
				return err
			}
			if err := tx.SetCompany(ctx, id, person.Values{person.Own(partner): partners[s.rnd.IntN(len(partners))]},
				store.Author{User: ids[0], How: "bulk: from the order book", At: began}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := d.keepMarks(ctx, s, people, ids, began, pens, water, next); err != nil {
		return err
	}
	if err := d.keepAudiences(ctx, s, people, ids); err != nil {
		return err
	}
	return d.keepLists(ctx, s, ids)
}

// keepMarks tags people, fills own fields and notes consent.
func (d *Demo) keepMarks(
	ctx context.Context, s *scenario, people, ids []int64, began time.Time, pens, water, next int64,
) error {
	tags := []struct {
		name, note string
		share      int // of a hundred people
		ends       int // days after Start; 0: no end
		source     string
		ago        int
	}{
		{"spring fair 2026", "Met at stand 14", 0, 60, "trade fair", 20},
		{"calibration clinic", "Took part in the online workshop", 0, 0, "calibration clinic", 40},
		{"key account", "Agreed with sales: no automatic mail", 3, 0, "", 100},
		{"asked for a price", "", 5, 30, "", 60},
		{"catalogue 2025", "Paper catalogue sent", 12, -90, "", 300},
		{"to check", "", 2, 0, "", 220},
	}
	return d.Store.InTx(ctx, func(tx store.Tx) error {
		records, err := tx.PeopleByID(ctx, people)
		if err != nil {
			return err
		}
		for _, t := range tags {
			at := began.AddDate(0, 0, -t.ago)
			id, err := tx.TagNamed(ctx, t.name, ids[0], at)
			if err != nil {
				return err
			}
			x := store.Tag{ID: id, Name: t.name, Note: t.note, OwnerID: &ids[0]}
			if t.name == "to check" {
				x.OwnerID = nil
			}
			if t.ends != 0 {
				end := Start.AddDate(0, 0, t.ends)
				x.Ends = &end
			}
			if err := tx.SaveTag(ctx, x); err != nil {
				return err
			}
			var edits []store.Edit
			for i, p := range people {
				if t.source != "" && s.people[i].Source == t.source && s.rnd.IntN(3) > 0 || s.rnd.IntN(100) < t.share {
					edits = append(edits,
						store.Edit{P: records[p], Now: person.Values{},
							Set: person.Values{person.Mark(person.TagMark, id): "yes"}})
				}
			}
			if _, err := tx.Change(ctx, edits,
				store.Author{User: ids[0], How: "bulk: tag “" + t.name + "”", At: at}); err != nil {
				return err
			}
		}
		var own, agreed []store.Edit
		for i, p := range people {
			set := person.Values{}
			if s.rnd.IntN(3) == 0 {
				set[person.Own(pens)] = fmt.Sprint(1 + s.rnd.IntN(24))
			}
			if s.rnd.IntN(3) == 0 {
				set[person.Own(water)] = []string{"sea", "fjord", "lake", "river", "tank"}[s.rnd.IntN(5)]
			}
			if s.rnd.IntN(8) == 0 {
				set[person.Own(next)] = Start.AddDate(0, 0, s.rnd.IntN(200)-30).Format(time.DateOnly)
			}
			own = append(own, store.Edit{P: records[p], Now: person.Values{}, Set: set})
			if src := s.people[i].Source; src == "page oxygen-alarms" || src == "calibration clinic" {
				agreed = append(agreed,
					store.Edit{P: records[p], Now: person.Values{},
						Set: person.Values{person.Mark(person.ConsentMark, int64(1)): "yes"}})
			}
		}
		if _, err := tx.Change(ctx, own,
			store.Author{User: ids[0], How: "bulk: from the order book", At: began.AddDate(0, 0, -30)}); err != nil {
			return err
		}
		_, err = tx.Change(ctx, agreed, store.Author{How: "by form: ticked on the page", At: began.AddDate(0, 0, -45)})
		return err
	})
}

// keepAudiences describes whom the marketers speak to.
func (d *Demo) keepAudiences(ctx context.Context, s *scenario, people, ids []int64) error {
	is := func(f person.Field, v string) rule.Rule { return rule.FieldIs(f, v) }
	did := func(k signal.Kind, op rule.Op, n, days int) rule.Rule {
		return rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: k}, Op: op, N: n, Days: days}}
	}
	tagged := func(name string) (rule.Rule, error) {
		cat, err := d.Store.Catalogue(ctx)
		if err != nil {
			return rule.Rule{}, err
		}
		for _, t := range cat.Tags {
			if t.Name == name {
				return rule.ThingIs(rule.Tag, t.ID), nil
			}
		}
		return rule.Rule{}, fmt.Errorf("no tag %q", name)
	}
	key, err := tagged("key account")
	if err != nil {
		return err
	}
	save := func(name, note string, live bool, r rule.Rule) (int64, error) {
		a := store.Audience{Name: name, Note: note, Live: live, OwnerID: &ids[0]}
		a.Rule.V = r
		return d.Engine.SaveAudience(ctx, a)
	}
	hands, err := save("Leave to sales", "Nothing automatic goes to them", true,
		rule.Rule{Any: []rule.Rule{{If: &rule.Condition{About: rule.Deal, Op: rule.Is}}, key}})
	if err != nil {
		return err
	}
	for _, a := range []struct {
		name, note string
		r          rule.Rule
	}{
		{"Fish farms in Norway", "For the winter moorings letter",
			rule.Rule{All: []rule.Rule{is(person.Country, "NO"), is(person.Industry, "Fish farming")}}},
		{"Keen in Canada", "Clicked again and again",
			rule.Rule{All: []rule.Rule{is(person.Country, "CA"), did(signal.Click, rule.AtLeast, 3, 180)}}},
		{"Rising, and nobody’s", "Worth an owner",
			rule.Rule{All: []rule.Rule{{If: &rule.Condition{Score: true, Op: rule.AtLeast, N: 10}},
				{If: &rule.Condition{Field: person.Owner, Op: rule.NotKnown}},
				{None: []rule.Rule{rule.ThingIs(rule.Audience, hands)}}}}},
		{"Gone quiet", "Read us once, and not for two months",
			rule.Rule{All: []rule.Rule{did(signal.Open, rule.AtLeast, 2, 0),
				{None: []rule.Rule{did(signal.Open, rule.AtLeast, 1, 60), did(signal.Click, rule.AtLeast, 1, 60),
					did(signal.PageView, rule.AtLeast, 1, 60)}},
				{None: []rule.Rule{rule.ThingIs(rule.Audience, hands)}}}}},
		{clinicAudience, "Came by the clinic or its page",
			rule.Rule{Any: []rule.Rule{is(person.Source, "calibration clinic"),
				is(person.Source, "page oxygen-alarms")}}},
		{"Lost last year", "May be asked again",
			rule.Rule{All: []rule.Rule{{If: &rule.Condition{About: rule.Lost, Op: rule.Within, Days: 365}},
				{If: &rule.Condition{About: rule.Deal, Op: rule.IsNot}}}}},
	} {
		if _, err := save(a.name, a.note, true, a.r); err != nil {
			return err
		}
	}
	picked, err := save("Advisers’ circle", "Asked before each new sensor", false, rule.Rule{})
	if err != nil {
		return err
	}
	for range 14 {
		if err := d.Engine.Mark(ctx, people[s.rnd.IntN(len(people))], person.Mark(person.AudienceMark, picked), true,
			ids[0]); err != nil {
			return err
		}
	}
	return nil
}

// keepLists brings a list in as a marketer would, bad rows and all, and leaves
// a second one checked. Some of its people are here already, some twice.
func (d *Demo) keepLists(ctx context.Context, s *scenario, ids []int64) error {
	var b strings.Builder
	b.WriteString("First name;Last name;E-mail address;Company;Job title;Country;Phone\r\n")
	row := func(first, last, email, company, title, country, phone string) {
		fmt.Fprintf(&b, "%s;%s;%s;%s;%s;%s;%s\r\n", first, last, email, company, title, country, phone)
	}
	for i := range 60 {
		p := s.people[s.rnd.IntN(len(s.people))]
		switch {
		case i%5 == 0: // here already, with a title
			row(p.First, p.Last, p.Email, p.Company, "Buyer", p.Country, p.Phone)
		case i%13 == 0:
			row(p.First, p.Last, strings.ReplaceAll(p.Email, "@", " at "), p.Company, p.Title, p.Country, "")
		case i == 31:
			row(p.First, p.Last, "new."+p.Email, p.Company, p.Title, "Atlantis", "")
		case i == 17 || i == 37:
			// the same person, by another address
			row(p.First, p.Last, strings.Replace(p.Email, ".", "", 1), p.Company, p.Title, p.Country, "")
		default:
			l := countries[s.rnd.IntN(len(countries))]
			first, last := l.first[s.rnd.IntN(len(l.first))], l.last[s.rnd.IntN(len(l.last))]
			row(first, last,
				fmt.Sprintf("%s.%s.%d@%s", mailName(first), mailName(last), i,
					s.companies[s.rnd.IntN(len(s.companies))].domain), "", p.Title, l.code, "")
		}
	}
	bring := func(name, text string, start bool) error {
		id, err := d.Engine.NewImport(ctx, name, strings.NewReader(text), ids[0])
		if err != nil {
			return err
		}
		i, err := d.Store.Import(ctx, id)
		if err != nil {
			return err
		}
		m := i.Options.V
		m.Policy, m.Tags, m.Source = intake.Fill, []string{"harbour fair"}, "harbour fair"
		if err := d.Engine.CheckImport(ctx, id, m); err != nil {
			return err
		}
		if err := d.Engine.RunBatch(ctx, id); err != nil || !start {
			return err
		}
		if err := d.Engine.StartImport(ctx, id); err != nil {
			return err
		}
		return d.Engine.RunBatch(ctx, id)
	}
	return bring("harbour-fair.csv", b.String(), true)
}

// keepWaitingList leaves a list that was checked and not yet brought in.
func (d *Demo) keepWaitingList(ctx context.Context, user int64) error {
	text := "Name,Email,Organisation,Role,Land,Mobile\r\n" +
		"Siv Lunde,siv.lunde@skerrysund-seafarms.example,,Site manager,Norway,\r\n" +
		"\"Reid, Callum\",callum.reid@ternbay-harbour.example,Ternbay Harbour,Harbour master,United Kingdom,+44 20 " +
		"7946 0123\r\n" +
		"Paz Vidal,paz.vidal@lagoonfield-pens.example,,Biologist,Chile,\r\n" +
		"Jo Kerr,jo.kerr at lagoonfield-pens.example,,Feed planner,Chile,\r\n" +
		"Siv Lunde,SIV.LUNDE@skerrysund-seafarms.example,,Site manager,Norge,\r\n" +
		"Mai Hartley,mai.hartley@cobaltmere-waterworks.example,,Laboratory head,Australia,12\r\n"
	id, err := d.Engine.NewImport(ctx, "loan-enquiries.csv", strings.NewReader(text), user)
	if err != nil {
		return err
	}
	i, err := d.Store.Import(ctx, id)
	if err != nil {
		return err
	}
	if err := d.Engine.CheckImport(ctx, id, i.Options.V); err != nil {
		return err
	}
	return d.Engine.RunBatch(ctx, id)
}

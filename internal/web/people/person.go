package people

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sort"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type personData struct {
	P        store.Person
	Score    ledgerData
	Fit      fitOf
	Times    timeline
	Ways     []wayLine
	Running  []store.SequenceName
	Handoffs []store.Handoff
	Deals    []store.Deal
	Users    []store.User
	CanHand  bool

	Known     []fieldLine // fields with a value
	Unknown   []fieldLine
	Also      []store.ContactPoint
	Tags      []store.Tag
	AllTags   []store.Tag
	Consents  []store.ConsentLine
	Purposes  []store.Purpose
	Audiences []store.Audience
	Hand      []store.Audience // hand-picked ones that the person is not in
	Notes     []store.Note
	Changes   []changeLine
	Doubles   []people.Double
	Unsure    []store.Incoming
	Wrong     *wrongField
}

// fitOf is somebody's fit with what gives it.
type fitOf struct {
	Share int
	Lines []fitPart
	Band  string
}

type fitPart struct {
	Words  string
	Points int
	Holds  bool
}

func viewFit(fit rule.Fit, bands []rule.Band, r *rule.Record, cat *rule.Catalogue) fitOf {
	out := fitOf{Share: fit.Of(r)}
	for i := range fit {
		out.Lines = append(out.Lines, fitPart{fit[i].If.Words(cat), fit[i].Points, fit.Holds(i, r)})
	}
	for _, b := range bands {
		if out.Share >= b.From {
			out.Band = b.Name
		}
	}
	return out
}

// fieldLine is a field of the record, as it is shown and as it is typed in.
type fieldLine struct {
	Field    person.Field
	Name     string
	Shown    string
	Value    string
	Input    string // text, number, date, email, tel, url
	Options  []shell.Choice
	Link     string
	Wrong    string
	ReadOnly bool
}

// wrongField is a value that could not be taken, to be mended where it was typed.
type wrongField struct {
	Field person.Field
	Value string
	Why   string
}

// changeLine is a change of the record in words.
type changeLine struct {
	store.Changed
	What []string
}

func (s *Place) person(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	return s.showPerson(c, http.StatusOK, id, nil)
}

func (s *Place) showPerson(c *echo.Context, code int, id int64, wrong *wrongField) error {
	d := personData{Wrong: wrong}
	if err := s.readPerson(c.Request().Context(), &d, id, c.QueryParams()); err != nil {
		return err
	}
	return s.PageCode(c, code, "person.html", "person", "People", person.Full(d.P.First, d.P.Last, d.P.Email), d)
}

// readPerson reads what the page of a person shows, with their score as an address asks for it.
func (s *Place) readPerson(ctx context.Context, d *personData, id int64, asks url.Values) (err error) {
	if d.P, err = s.Store.Person(ctx, id); err != nil {
		return err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	all, ctx := errgroup.WithContext(ctx)
	all.Go(func() (err error) {
		d.Score, err = s.ledgerOf(ctx, id, asks)
		return err
	})
	var cat *rule.Catalogue
	all.Go(func() (err error) {
		cat, err = s.record(ctx, d)
		return err
	})
	all.Go(func() error { return s.happened(ctx, d) })
	if err := all.Wait(); err != nil {
		return err
	}
	by, _ := cat.Scored(d.Score.Model)
	d.Fit = viewFit(by.Fit, by.FitBands, &rule.Record{Values: d.P.Values()}, cat)
	return nil
}

// happened gathers what happened with a person, and what may be begun with them.
func (s *Place) happened(ctx context.Context, d *personData) (err error) {
	if d.Handoffs, err = s.Store.HandoffsOf(ctx, store.Of(d.P.ID)); err != nil {
		return err
	}
	if d.Deals, err = s.Store.PersonDeals(ctx, d.P.ID); err != nil {
		return err
	}
	d.CanHand = true
	for _, h := range d.Handoffs {
		d.CanHand = d.CanHand && h.State != "open"
	}
	for _, x := range d.Deals {
		d.CanHand = d.CanHand && x.Closed != nil
	}
	if d.Running, err = s.Store.RunningNames(ctx); err != nil {
		return err
	}
	d.Times, d.Ways, err = s.history(ctx, &d.P, d.Handoffs, nil)
	return err
}

// record gathers what stands on a person's record and around it, and answers what rules can ask for.
func (s *Place) record(ctx context.Context, d *personData) (*rule.Catalogue, error) {
	id := d.P.ID
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	d.lines(cat)
	if d.Also, err = s.Store.ContactPoints(ctx, id); err != nil {
		return nil, err
	}
	if d.Tags, err = s.Store.PersonTags(ctx, id); err != nil {
		return nil, err
	}
	if d.AllTags, err = s.Store.TagNames(ctx); err != nil {
		return nil, err
	}
	if d.Consents, err = s.Store.PersonConsents(ctx, id); err != nil {
		return nil, err
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return nil, err
	}
	if d.Audiences, err = s.Store.PersonAudiences(ctx, id); err != nil {
		return nil, err
	}
	all, err := s.Store.Audiences(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		if !a.Live && !slices.ContainsFunc(d.Audiences, func(x store.Audience) bool { return x.ID == a.ID }) {
			d.Hand = append(d.Hand, a)
		}
	}
	if d.Notes, err = s.Store.Notes(ctx, id); err != nil {
		return nil, err
	}
	changes, err := s.Store.PersonChanges(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, h := range changes {
		d.Changes = append(d.Changes, changeLine{h, changeWords(h, cat)})
	}
	if d.Unsure, err = s.Store.UnsureIncoming(ctx, id, 0, 20); err != nil {
		return nil, err
	}
	d.Doubles, err = s.Engine.DoublesOf(ctx, id)
	return cat, err
}

// lineOf is a field with its value, ready to be shown and typed in.
func lineOf(def person.Definition, value string) fieldLine {
	l := fieldLine{Field: def.Field, Name: def.Name, Value: person.Shown(value), Input: "text"}
	l.Shown = l.Value
	switch def.Type {
	case person.CountryType, person.LanguageType:
		l.Shown, l.Value = shell.Named(def, l.Value), shell.Typed(def, l.Value)
	case person.PhoneType:
		l.Shown, l.Input = person.ShowPhone(l.Value), "tel"
	case person.EmailType:
		l.Input = "email"
	case person.LinkType:
		l.Link = l.Value
	case person.Number:
		l.Input = "number"
	case person.Date:
		l.Input = "date"
	case person.YesNo:
		l.Options = []shell.Choice{{Value: "", Words: "unknown", Chosen: l.Value == ""},
			{Value: "yes", Words: "yes", Chosen: l.Value == "yes"}, {Value: "no", Words: "no", Chosen: l.Value == "no"}}
	case person.OneOf:
		l.Options = []shell.Choice{{Value: "", Words: "unknown", Chosen: l.Value == ""}}
		for _, o := range def.Options {
			l.Options = append(l.Options, shell.Choice{Value: o, Words: o, Chosen: o == l.Value})
		}
	}
	return l
}

// lines readies the fields of the record for showing and typing in.
func (d *personData) lines(cat *rule.Catalogue) {
	v := d.P.Values()
	for _, def := range cat.Fields() {
		l := lineOf(def, v[def.Field])
		switch {
		case def.Field == person.Owner || def.Field == person.Created:
			continue // they stand elsewhere
		case def.Field == person.Industry:
			l.ReadOnly = true // it is changed at the company's own page
		case def.Company && def.Field != person.Company:
			continue // it stands there
		}
		if d.Wrong != nil && d.Wrong.Field == def.Field {
			l.Wrong, l.Value = d.Wrong.Why, d.Wrong.Value
		}
		name := def.Field == person.FirstName || def.Field == person.LastName // the heading says it
		switch {
		case (l.Shown != "" && !name) || l.Wrong != "":
			d.Known = append(d.Known, l)
		case !l.ReadOnly:
			d.Unknown = append(d.Unknown, l)
		}
	}
}

// changeWords says a change field by field.
func changeWords(h store.Changed, cat *rule.Catalogue) []string {
	var out []string
	name := func(list []rule.Named, id int64, what string) string {
		for _, n := range list {
			if n.ID == id {
				return "“" + n.Name + "”"
			}
		}
		return what
	}
	for f, after := range h.After.V {
		before := h.Before.V[f]
		kind, what, id := person.MarkOf(f)
		on := after != ""
		switch kind {
		case person.TagMark:
			out = append(out, shell.Either(on, "tagged ", "tag taken off: ")+name(cat.Tags, id, "a tag that is gone"))
		case person.AudienceMark:
			out = append(out,
				shell.Either(on, "put into the audience ", "taken out of the audience ")+
					name(cat.Audiences, id, "that is gone"))
		case person.ConsentMark:
			out = append(out,
				shell.Either(on, "consent given: ", "consent taken back: ")+name(cat.Purposes, id, "a purpose"))
		case person.AlsoEmail, person.AlsoPhone:
			out = append(out, shell.Either(on, "also at ", "no longer also at ")+what)
		case string(person.DoNotContact):
			out = append(out, shell.Either(on, "do not contact", "may be contacted again"))
		default:
			d, ok := cat.Define(f)
			if !ok {
				d.Name = "a field that is gone"
			}
			if before == "" {
				out = append(out, fmt.Sprintf("%s: %s", d.Name, shell.Named(d, person.Shown(after))))
			} else if after == "" {
				out = append(out, fmt.Sprintf("%s: %s taken away", d.Name, shell.Named(d, person.Shown(before))))
			} else {
				out = append(out,
					fmt.Sprintf("%s: %s → %s", d.Name, shell.Named(d, person.Shown(before)),
						shell.Named(d, person.Shown(after))))
			}
		}
	}
	sort.Strings(out)
	return out
}

// scoreTide draws a person's score over the last 90 days, and how it runs out
// over the next 30 if nothing more happens.
func (s *Place) handOver(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/people/%d", id)
	if err := s.Engine.HandOver(c.Request().Context(), id); err != nil {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	return s.Done(c, to, "Handed over.")
}

// wayByHand does something by hand to a person on a sequence, or puts them in.
func (s *Place) wayByHand(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/people/%d", id)
	x := flow.ByHand{Do: flow.HandDeed(c.FormValue("do")), Sequence: shell.Number(c.FormValue("sequence")),
		Step: sequence.StepID(shell.Number(c.FormValue("step")))}
	if _, err := s.Store.Person(c.Request().Context(), id); err != nil {
		return err
	}
	n, err := s.Engine.Hand(c.Request().Context(), x, id)
	switch {
	case store.IsNotFound(err):
		return err
	case err != nil:
		return s.NotDone(c, to, shell.Sentence(err))
	case n == 0 && x.Do == flow.PutIn:
		bars, err := s.Store.Bars(c.Request().Context(), x.Sequence, []int64{id}, s.Engine.Now())
		if err != nil {
			return err
		}
		return s.NotDone(c, to, "It does not let them in: "+cmp.Or(bars[id], "they entered meanwhile")+".")
	case n == 0:
		return s.NotDone(c, to, "They are not there any more, it is so already, or they have got that email.")
	}
	return s.Done(c, to, map[flow.HandDeed]string{flow.PutIn: "Put in.", flow.TakeOut: "Taken out.",
		flow.HoldBack: "Held: nothing goes out to them from it until you let them go on.",
		flow.LetGo:    "They go on.", flow.MoveTo: "Moved."}[x.Do])
}

package people

import (
	"context"
	"errors"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Erase removes everything that tells who a person was.
func (e *People) Erase(ctx context.Context, id int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.erase(ctx, tx, id); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.About(id), news.Desk)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

func (e *People) erase(ctx context.Context, tx store.Tx, id int64) error {
	if err := e.Leave(ctx, tx, id, sequence.NoAddress, e.Now()); err != nil {
		return err
	}
	addresses, err := tx.Addresses(ctx, id)
	if err != nil {
		return err
	}
	hashes := make([][]byte, len(addresses))
	for i, a := range addresses {
		hashes[i] = e.Hashed(a)
	}
	return tx.Erase(ctx, id, addresses, hashes, e.Now())
}

// Everything is all that is kept about one person, for themselves.
type Everything struct {
	Made      time.Time             `json:"made"`
	Record    map[string]string     `json:"record"`
	Also      []store.ContactPoint  `json:"further_addresses_and_numbers"`
	Contact   map[string]*time.Time `json:"contact"`
	NoContact bool                  `json:"do_not_contact"`
	Tags      []string              `json:"tags"`
	Consents  []store.ConsentLine   `json:"consents"`
	Notes     []store.Note          `json:"notes"`
	Audiences []string              `json:"audiences"`
	Signals   []map[string]any      `json:"signals"`
	Mail      []store.Incoming      `json:"mail_received"`
	Touches   []store.Touch         `json:"touches"`
	Sequences []store.Way           `json:"sequences"`
	Steps     []store.WayLog        `json:"steps"`
	Handoffs  []store.Handoff       `json:"handoffs"`
	Deals     []store.Deal          `json:"deals"`
	Score     float64               `json:"score"`
	Ledger    []map[string]any      `json:"score_ledger"`
	Changes   []store.Changed       `json:"changes"`
	Words     []store.PersonWords   `json:"words_for_them_alone"`
	Shelf     []store.PersonTaken   `json:"taken_from_the_shelf"`
	Forms     []store.PersonForm    `json:"forms"`
	Letters   []store.PersonLetter  `json:"letters_by_hand"`
	Tasks     []store.PersonTask    `json:"tasks_and_alerts"`
	Browsers  []store.PersonBrowser `json:"browsers"`
	Meetings  []store.Booking       `json:"meetings"`
	Comebacks []store.Comeback      `json:"comebacks"`
	Outside   []store.Hit           `json:"letters_from_outside"`
}

// Everything gathers all that is kept about a person.
func (e *People) Everything(ctx context.Context, id int64) (*Everything, error) {
	p, err := e.Store.Person(ctx, id)
	if err != nil {
		return nil, err
	}
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	x := &Everything{Made: e.Now(), Record: map[string]string{}, NoContact: p.DoNotContact, Score: p.Score,
		Contact: map[string]*time.Time{"opted_out": p.OptedOut, "bounced": p.Bounced, "away_until": p.Away}}
	for f, v := range p.Values() {
		d, _ := cat.Define(f)
		x.Record[d.Name] = person.Shown(v)
	}
	var errs []error
	keep := func(err error) { errs = append(errs, err) }
	x.Also, err = e.Store.ContactPoints(ctx, id)
	keep(err)
	x.Consents, err = e.Store.PersonConsents(ctx, id)
	keep(err)
	x.Meetings, err = e.Store.PersonBookings(ctx, id)
	keep(err)
	x.Outside, err = e.Store.PersonOutside(ctx, id)
	keep(err)
	x.Comebacks, err = e.Store.PersonComebacks(ctx, id)
	keep(err)
	x.Notes, err = e.Store.Notes(ctx, id)
	keep(err)
	tags, err := e.Store.PersonTags(ctx, id)
	keep(err)
	for _, t := range tags {
		x.Tags = append(x.Tags, t.Name)
	}
	audiences, err := e.Store.PersonAudiences(ctx, id)
	keep(err)
	for _, a := range audiences {
		x.Audiences = append(x.Audiences, a.Name)
	}
	signals, err := e.Store.PersonSignals(ctx, id)
	keep(err)
	about, err := e.Store.PersonViews(ctx, id)
	keep(err)
	for _, s := range signals {
		x.Signals = append(x.Signals,
			map[string]any{"at": s.At, "kind": s.Kind.String(), "made_by_a_machine": s.Machine, "sequence": s.Sequence,
				"step": s.Step, "message": s.Message, "page": s.Page, "about": about[s.ID]})
	}
	models, err := e.Store.Models(ctx)
	keep(err)
	for i := range models {
		why, err := e.Explain(ctx, id, models[i].ID, e.Now())
		keep(err)
		for _, l := range why.Lines {
			x.Ledger = append(x.Ledger, map[string]any{"model": models[i].Name, "at": l.At, "until": l.Until,
				"points": l.Points, "for": l.For})
		}
	}
	x.Mail, err = e.Store.IncomingOf(ctx, store.AllOf(id))
	keep(err)
	x.Touches, err = e.Store.TouchesOf(ctx, store.AllOf(id))
	keep(err)
	x.Sequences, err = e.Store.PersonWays(ctx, id)
	keep(err)
	x.Steps, err = e.Store.PersonLogs(ctx, id)
	keep(err)
	x.Handoffs, err = e.Store.HandoffsOf(ctx, store.AllOf(id))
	keep(err)
	x.Deals, err = e.Store.PersonDeals(ctx, id)
	keep(err)
	x.Changes, err = e.Store.PersonChanges(ctx, id)
	keep(err)
	x.Words, err = e.Store.PersonWords(ctx, id)
	keep(err)
	if x.Letters, err = e.Store.PersonLetters(ctx, id); err != nil {
		return x, err
	}
	if x.Forms, err = e.Store.PersonForms(ctx, id); err != nil {
		return x, err
	}
	if x.Tasks, err = e.Store.PersonTasks(ctx, id); err != nil {
		return x, err
	}
	x.Shelf, err = e.Store.PersonTaken(ctx, id)
	keep(err)
	x.Browsers, err = e.Store.PersonBrowsers(ctx, id)
	keep(err)
	return x, errors.Join(errs...)
}

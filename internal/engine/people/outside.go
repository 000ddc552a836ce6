package people

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/flow"
	"ombak/internal/finder"
	"ombak/internal/network"
	"ombak/internal/store"
)

// askForAddresses has the addresses of people looked for who have none.
func (e *People) askForAddresses(ctx context.Context, tx store.Tx, list []flow.Doing[act.Find]) error {
	for _, group := range flow.Grouped(list, func(d flow.Doing[act.Find]) act.Find { return d.Act }) {
		if _, err := tx.AskForAddresses(ctx, flow.Whom(group), string(group[0].Act.Use), e.Now()); err != nil {
			return err
		}
	}
	return nil
}

// askAgain is after how long an address is asked for again that nobody answered for.
const askAgain = 5 * time.Minute

// FindAddresses asks the finder for the addresses of those that wait, a hundred at most, and answers for
// how many it did. What is found and may be used is kept with who has none by then.
func (e *People) FindAddresses(ctx context.Context) (int, error) {
	if e.Finder == nil {
		return 0, nil
	}
	now := e.Now()
	list, err := e.Store.ClaimAddressAsks(ctx, now, now.Add(askAgain), finder.MostAtOnce)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	ask := make([]finder.Person, len(list))
	for i, a := range list {
		ask[i] = finder.Person{ID: a.Person, First: a.First, Last: a.Last, Company: a.Company, Domain: a.Domain}
	}
	found, err := e.Finder.Find(ctx, ask)
	if err != nil {
		return 0, err
	}
	return len(list), e.Store.InTx(ctx, func(tx store.Tx) error {
		for _, a := range list {
			if err := e.foundFor(ctx, tx, a, finder.Best(found, usable(act.Use(a.Use)))); err != nil {
				return err
			}
		}
		return nil
	})
}

// usable are the qualities of addresses that may be used.
func usable(u act.Use) []finder.Quality {
	switch u {
	case act.Whatever:
		return finder.Qualities()
	case act.AlsoPages:
		return []finder.Quality{finder.Valid, finder.Direct}
	}
	return []finder.Quality{finder.Valid}
}

// foundFor keeps the address that was found of one.
func (e *People) foundFor(ctx context.Context, tx store.Tx, a store.AddressAsk, best map[int64]finder.Found) error {
	f, ok := best[a.Person]
	if !ok {
		return tx.AddressAsked(ctx, a.ID, "none", e.Now())
	}
	address, err := person.Email(f.Address)
	if err != nil {
		return tx.AddressAsked(ctx, a.ID, "what was found is no address", e.Now())
	}
	other, err := tx.LastMailSender(ctx, address)
	if err == nil && other != a.Person {
		return tx.AddressAsked(ctx, a.ID, "another record has it", e.Now())
	}
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	never, err := e.Store.HashesNeverAgain(ctx, [][]byte{e.Hashed(address)})
	if err != nil {
		return err
	}
	people, err := tx.PeopleByID(ctx, []int64{a.Person})
	if err != nil {
		return err
	}
	p := people[a.Person]
	if p == nil || p.Email != "" || len(never) > 0 {
		return tx.AddressAsked(ctx, a.ID, "not needed any more", e.Now())
	}
	err = e.Applied(ctx, tx, []store.Edit{{P: p, Now: p.Values(), Set: person.Values{person.EmailField: address}}},
		e.by(0, "found: "+string(f.Is)))
	if err != nil {
		return err
	}
	return tx.AddressAsked(ctx, a.ID, string(f.Is), e.Now())
}

// MostOfNetwork is how many people are brought from the network at a time.
const MostOfNetwork = 500

// ImportFromNetwork brings people from the network into an import, to be looked at before anybody is
// kept: those at an event, in a group, who reacted to a post, or whom a search finds, n at most.
func (e *People) ImportFromNetwork(
	ctx context.Context, from network.Source, what string, n int, user int64,
) (batch int64, err error) {
	switch {
	case e.Network == nil:
		return 0, plainly.New("no network is connected")
	case what == "" || len(what) > 500:
		return 0, plainly.New("give the address of the event, the group or the post, or the words of a search")
	case n < 1 || n > MostOfNetwork:
		return 0, plainly.Errorf("at most %d people at a time, and at least one", MostOfNetwork)
	}
	list, err := e.Network.People(ctx, from, what, n)
	if err != nil {
		return 0, err
	}
	if len(list) == 0 {
		return 0, plainly.New("nobody is found there")
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	rows := [][]string{{"First name", "Last name", "Title", "Company", "Country", "Profile"}}
	for _, p := range list {
		rows = append(rows, []string{p.First, p.Last, p.Title, p.Company, p.Country, p.Profile})
	}
	if err := w.WriteAll(rows); err != nil {
		return 0, err
	}
	return e.NewImport(ctx, fmt.Sprintf("from the network, %s.csv", from), &b, user)
}

package post

import (
	"context"

	"ombak/internal/core/message"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Card is a printed card that waits to be sent: to whom, where, and what stands on it.
type Card struct {
	Touch, Person    int64
	First, Last      string
	Company          string
	Street, Postcode string
	City, Region     string
	Country          string // its name
	Words            string
	Trouble          string // why it cannot be printed; empty: it can
}

// MostCards is how many cards of a step are printed at once.
const MostCards = 5000

// Cards lists the cards of a step that wait for the printer, the longest waiting first. One
// whose words cannot be filled in for its reader says why, and is not to be printed.
func (e *Post) Cards(ctx context.Context, sequenceID int64, step sequence.StepID) ([]Card, error) {
	list, err := e.Store.WaitingCards(ctx, sequenceID, int32(step), MostCards)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	people, versions := make([]int64, len(list)), []int64{}
	for i, t := range list {
		people[i] = t.Person
		versions = append(versions, t.Version)
	}
	l, err := e.gatherLetters(ctx, people, nil, letterNeeds{})
	if err != nil {
		return nil, err
	}
	plans, err := e.Store.Versions(ctx, versions)
	if err != nil {
		return nil, err
	}
	texts, faults := map[int64]*message.Note{}, map[int64]error{}
	for _, v := range plans {
		if s, ok := v.Plan.V.Step(step).(*sequence.Post); ok {
			texts[v.ID], faults[v.ID] = message.CompileNote(s.Card, l.fields)
		}
	}
	out := make([]Card, 0, len(list))
	for _, t := range list {
		p := l.Whom[t.Person]
		if p == nil {
			continue
		}
		c := Card{Touch: t.ID, Person: p.ID, First: p.First, Last: p.Last, Company: p.Company, Street: p.Street,
			Postcode: p.Postcode, City: p.City, Region: p.Region, Country: person.CountryName(p.Country)}
		text, err := texts[t.Version], faults[t.Version]
		if text != nil {
			sender := int64(0)
			if p.OwnerID != nil {
				sender = *p.OwnerID
			}
			c.Words, err = text.Fill(l.values(text.Names(), p, sender))
		}
		if err != nil {
			words, plain := plainly.Says(err)
			if !plain {
				return nil, err
			}
			c.Trouble = words
		}
		if p.Street == "" || p.City == "" {
			c.Trouble = "there is no postal address any more"
		}
		out = append(out, c)
	}
	return out, nil
}

// TextFor is a text as one person gets it from a user, with its merge fields filled in.
func (e *Post) TextFor(ctx context.Context, text string, reader, user int64) (string, error) {
	l, err := e.gatherLetters(ctx, []int64{reader}, nil, letterNeeds{})
	if err != nil {
		return "", err
	}
	p := l.Whom[reader]
	if p == nil {
		return "", store.ErrNotFound
	}
	x, err := message.CompileNote(text, l.fields)
	if err != nil {
		return "", err
	}
	return x.Fill(l.values(x.Names(), p, user))
}

// CardsSent notes of cards of a step that they are sent, or with out that they cannot be;
// whose way it is goes on. It answers how many were still waiting.
func (e *Post) CardsSent(
	ctx context.Context, sequenceID int64, step sequence.StepID, touches []int64, out sequence.Outcome, user int64,
) (n int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ways, err := tx.FinishCards(ctx, sequenceID, int32(step), touches, string(out), user, e.Now())
		if err != nil {
			return err
		}
		n = len(ways)
		if err := tx.WakeWays(ctx, ways, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Sequence.Of(sequenceID))
	})
	if err == nil {
		e.Nudge()
	}
	return n, err
}

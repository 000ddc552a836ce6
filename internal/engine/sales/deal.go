package sales

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// openDeal opens a deal about a person, in the workspace’s currency where it has none, or answers the open one they
// have.
func (e *Sales) openDeal(
	ctx context.Context, tx store.Tx, n store.NewDeal, now time.Time,
) (id int64, fresh bool, err error) {
	if n.Currency == "" {
		n.Currency = e.Workspace().Currency
	}
	if id, fresh, err = tx.OpenDeal(ctx, n, now); err != nil || !fresh {
		return id, fresh, err
	}
	return id, true, e.followDeals(ctx, tx, []int64{id}, now)
}

// followDeals has what hangs on where deals stand, and on what they are worth, follow.
func (e *Sales) followDeals(ctx context.Context, tx store.Tx, deals []int64, now time.Time) error {
	if err := tx.RateDeals(ctx, deals, e.Workspace().Currency, e.Zone(), now); err != nil {
		return err
	}
	return tx.FollowLost(ctx, deals, now)
}

// MoveDeal puts a deal into a stage, before another one of it (0: at its end).
func (e *Sales) MoveDeal(ctx context.Context, deal, stage, before, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, _ store.Deal) error {
		if _, err := tx.MoveDeal(ctx, deal, stage, before, user, e.Now()); err != nil {
			return err
		}
		return e.followDeals(ctx, tx, []int64{deal}, e.Now())
	})
}

// SetAmount keeps the amount of a deal, in minor units of a currency (empty: the one it has).
func (e *Sales) SetAmount(ctx context.Context, deal, amount int64, currency string, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		if currency == "" {
			currency = d.Currency
		}
		if !pipeline.KnownCurrency(currency) {
			return plainly.New("a currency is a code of three letters, such as NOK")
		}
		if d.Amount == amount && d.Currency == currency {
			return nil
		}
		if err := tx.SetAmount(ctx, d, amount, currency, user, e.Now()); err != nil {
			return err
		}
		return tx.RateDeals(ctx, []int64{deal}, e.Workspace().Currency, e.Zone(), e.Now())
	})
}

// GiveDeal gives a deal to a rep; 0: to nobody.
func (e *Sales) GiveDeal(ctx context.Context, deal, rep, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		return e.giveDeal(ctx, tx, d, rep, user)
	})
}

func (e *Sales) giveDeal(ctx context.Context, tx store.Tx, d store.Deal, rep, user int64) error {
	var to *int64
	if rep != 0 {
		if role, err := tx.RoleOf(ctx, rep); err != nil || role == right.Marketer {
			return errors.Join(err, plainly.New("a deal is for a rep, a lead or an admin"))
		}
		to = &rep
	}
	if d.Rep == to || d.Rep != nil && to != nil && *d.Rep == *to {
		return nil
	}
	return tx.SetDealOwner(ctx, d.ID, d.Rep, to, user, e.Now())
}

// changeDeal changes a deal that is the user's to change.
func (e *Sales) changeDeal(
	ctx context.Context, deal, user int64, change func(tx store.Tx, d store.Deal) error,
) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		d, err := tx.LockDeal(ctx, deal)
		if err != nil {
			return err
		}
		if err := base.May(ctx, tx, user, d.Rep); err != nil {
			return err
		}
		if err := change(tx, d); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline.AboutSomebody())
	})
}

// join has somebody take part in an open deal.
func (e *Sales) join(ctx context.Context, tx store.Tx, deal, person, user int64) error {
	d, err := tx.LockDeal(ctx, deal)
	if store.IsNotFound(err) || err == nil && d.Closed != nil {
		return plainly.New("that deal is not open any more")
	}
	if err != nil {
		return err
	}
	there, err := tx.OpenDealsAt(ctx, person)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(there, func(o store.Deal) bool { return o.ID == deal }) {
		return plainly.New("that deal is not one of their company’s")
	}
	return e.addPart(ctx, tx, d, person, pipeline.TakesPart, user)
}

// addPart has somebody take part in a deal, as something.
func (e *Sales) addPart(
	ctx context.Context, tx store.Tx, d store.Deal, person int64, part pipeline.Part, user int64,
) error {
	if err := part.Check(); err != nil {
		return err
	}
	if person == d.Person {
		return plainly.New("the deal is about them already")
	}
	people, err := tx.DealPeople(ctx, d.ID)
	if err != nil {
		return err
	}
	was := ""
	for _, p := range people {
		if p.Person == person {
			was = p.Full() + " " + pipeline.Part(p.Part).String()
		}
	}
	if was == "" && len(people) >= pipeline.MostParts {
		return plainly.Errorf("at most %d people take part in a deal", pipeline.MostParts)
	}
	return tx.KeepPart(ctx, store.DealPart{Deal: d.ID, Person: person, Part: string(part)}, was, user, e.Now())
}

// SetPart has somebody take part in a deal, as something.
func (e *Sales) SetPart(ctx context.Context, deal, person int64, part pipeline.Part, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		return e.addPart(ctx, tx, d, person, part, user)
	})
}

// RemovePart has somebody take no part in a deal any more.
func (e *Sales) RemovePart(ctx context.Context, deal, person, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		was, err := tx.RemovePart(ctx, deal, person)
		if err != nil || was == "" {
			return err
		}
		return tx.NoteDeal(ctx, deal, user, "takes part", was, "", e.Now())
	})
}

// AttachFile keeps a file with a deal.
func (e *Sales) AttachFile(ctx context.Context, f store.DealFile, data []byte, user int64) error {
	switch {
	case len(data) == 0:
		return plainly.New("the file is empty")
	case len(data) > pipeline.MaxFile:
		return plainly.Errorf("a file has at most %d MB", pipeline.MaxFile>>20)
	}
	if f.Name = base.Cut(f.Name, 200); f.Name == "" {
		return plainly.New("a file has a name")
	}
	return e.changeDeal(ctx, f.Deal, user, func(tx store.Tx, d store.Deal) error {
		files, err := tx.DealFiles(ctx, d.ID)
		if err != nil {
			return err
		}
		if len(files) >= pipeline.MostFiles {
			return plainly.Errorf("a deal has at most %d files", pipeline.MostFiles)
		}
		f.At = e.Now()
		if err := tx.AddDealFile(ctx, f, data, user); err != nil {
			return err
		}
		return tx.NoteDeal(ctx, d.ID, user, "file", "", f.Name, f.At)
	})
}

// RemoveFile removes a file of a deal.
func (e *Sales) RemoveFile(ctx context.Context, deal, file, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, d store.Deal) error {
		name, err := tx.RemoveDealFile(ctx, deal, file)
		if err != nil {
			return err
		}
		return tx.NoteDeal(ctx, deal, user, "file", name, "", e.Now())
	})
}

// OpenByHand opens a deal about somebody who has none open, and answers it. Reps open their own.
func (e *Sales) OpenByHand(ctx context.Context, n store.NewDeal, user int64) (deal int64, err error) {
	if n.Name = base.Cut(strings.TrimSpace(n.Name), 120); n.Currency != "" && !pipeline.KnownCurrency(n.Currency) {
		return 0, plainly.New("a currency is a code of three letters, such as NOK")
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if ok, err := tx.AnyOpenStage(ctx); err != nil || !ok {
			return errors.Join(err, ErrNoStage)
		}
		if role, err := tx.RoleOf(ctx, user); err != nil || role == right.Marketer {
			return errors.Join(err, base.ErrNotYours)
		}
		if err := base.May(ctx, tx, user, &n.Rep); err != nil {
			return err
		}
		fresh := false
		if deal, fresh, err = e.openDeal(ctx, tx, n, e.Now()); err != nil {
			return err
		}
		if !fresh {
			return ErrHasDeal
		}
		if err := e.Leave(ctx, tx, n.Person, sequence.DealOpened, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(n.Person), news.Pipeline)
	})
	return deal, err
}

// ErrHasDeal is answered where somebody would have two open deals.
var ErrHasDeal = plainly.New("they have an open deal already")

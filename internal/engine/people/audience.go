package people

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"strings"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// stalePerTurn is how many changed people one turn asks all audiences about.
const stalePerTurn = 5000

// sweepEvery is how often the passing of time alone is looked at.
const sweepEvery = 5 * time.Second

// FollowAudiences brings live audiences up to date: those whose rule is new are
// asked about everybody, each by itself; the others about the people who have
// changed, and about those whom the passing of time alone can have moved since the
// last look. It answers how much it found to do; call it until that is nothing.
func (e *People) FollowAudiences(ctx context.Context) (int64, error) {
	recounted, err := e.recountAudiences(ctx)
	if err != nil {
		return recounted, err
	}
	did, err := e.followChanges(ctx)
	return recounted + did, err
}

// recountAudiences asks the rules that are new about everybody, each in a
// transaction of its own: what is done stays done when the process ends, and one
// that fails keeps none of the others. It answers how many.
func (e *People) recountAudiences(ctx context.Context) (int64, error) {
	var did int64
	var wrong []error
	tried := map[int64]bool{}
	for ctx.Err() == nil {
		id := int64(0)
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			id = 0
			ok, err := tx.LockAudiences(ctx)
			if err != nil || !ok {
				return err
			}
			list, err := tx.LiveAudiences(ctx)
			if err != nil {
				return err
			}
			for _, a := range inOrder(list) {
				if a.Recount && !tried[a.ID] {
					id = a.ID
					if _, err := tx.Follow(ctx, a, nil, true, e.Now()); err != nil {
						return fmt.Errorf("asking the rule of audience %d about everybody: %w", a.ID, err)
					}
					return tx.Notify(ctx, news.Audience.AboutSomebody())
				}
			}
			return nil
		})
		switch {
		case id == 0:
			return did, errors.Join(append(wrong, err)...)
		case err != nil:
			wrong = append(wrong, err)
		default:
			did++
		}
		tried[id] = true
	}
	return did, ctx.Err()
}

// followChanges asks the rules of audiences about those who may have changed.
func (e *People) followChanges(ctx context.Context) (int64, error) {
	var did int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		did = 0
		ok, err := tx.LockAudiences(ctx)
		if err != nil || !ok {
			return err
		}
		list, err := tx.LiveAudiences(ctx)
		if err != nil {
			return err
		}
		now := e.Now()
		stale, err := tx.TakeStale(ctx, now, stalePerTurn)
		if err != nil || len(list) == 0 {
			return err
		}
		did = int64(len(stale))
		var moved int64
		var swept []int64
		for _, a := range inOrder(list) {
			if a.Recount {
				continue // it is asked about everybody
			}
			who := concerned(stale, a.Asks.V)
			sweep := now.Sub(a.Swept) >= sweepEvery
			if sweep {
				movers, err := tx.Movers(ctx, a, now)
				if err != nil {
					return err
				}
				who = together(who, movers)
			}
			if sweep {
				swept = append(swept, a.ID)
			}
			if len(who) == 0 {
				continue
			}
			n, err := tx.Follow(ctx, a, who, false, now)
			if err != nil {
				return err
			}
			moved += n
		}
		if len(swept) > 0 {
			if err := tx.Swept(ctx, swept, now); err != nil {
				return err
			}
		}
		did += moved
		if did > 0 {
			return tx.Notify(ctx, news.Audience.AboutSomebody())
		}
		return nil
	})
	return did, err
}

// concerned are those in whom something has changed that an audience asks for.
func concerned(list []store.Stale, asks []string) []store.Stale {
	var out []store.Stale
	for _, s := range list {
		if slices.ContainsFunc(s.What, func(w string) bool { return slices.Contains(asks, w) }) {
			out = append(out, s)
		}
	}
	return out
}

// together joins two lists sorted by person; the later instant stays.
func together(a, b []store.Stale) []store.Stale {
	out := append(slices.Clone(a), b...)
	sort.Slice(out, func(i, j int) bool {
		if out[i].Person != out[j].Person {
			return out[i].Person < out[j].Person
		}
		return out[i].At.Before(out[j].At) // of a mover, the instant at which it moved
	})
	return slices.CompactFunc(out, func(x, y store.Stale) bool { return x.Person == y.Person })
}

// inOrder sorts audiences so that each comes after those its rule asks about.
func inOrder(list []store.Audience) []store.Audience {
	byID := map[int64]*store.Audience{}
	for i := range list {
		byID[list[i].ID] = &list[i]
	}
	var out []store.Audience
	seen := map[int64]bool{}
	var visit func(a *store.Audience)
	visit = func(a *store.Audience) {
		if seen[a.ID] {
			return
		}
		seen[a.ID] = true
		for _, id := range a.Rule.V.Audiences() {
			if b := byID[id]; b != nil {
				visit(b)
			}
		}
		out = append(out, *a)
	}
	for i := range list {
		visit(&list[i])
	}
	return out
}

// Errors of audiences.
var (
	ErrCircle = plainly.New("an audience cannot ask for itself, neither directly nor by way of another")
	ErrInUse  = plainly.New("it is in use")
	ErrNoName = plainly.New("give it a name")
)

// countFor is how long counting an audience may take where somebody waits for it.
const countFor = 3 * time.Second

// SaveAudience keeps an audience, new where it has no id, and answers its id.
// Members of a live one are counted at once where that takes a moment, so that
// whatever asks for it next finds them; else by the next worker that looks, and
// whatever asks for it waits.
func (e *People) SaveAudience(ctx context.Context, a store.Audience) (int64, error) {
	if strings.TrimSpace(a.Name) == "" {
		return 0, ErrNoName
	}
	id := a.ID
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		cat, err := tx.Catalogue(ctx)
		if err != nil {
			return err
		}
		if a.Live {
			if err := a.Rule.V.Check(cat); err != nil {
				return err
			}
			if !a.Rule.V.Asks() {
				return plainly.New("a live audience needs at least one condition; without any it would be everybody")
			}
		} else {
			a.Rule.V = rule.Rule{}
		}
		if a.ID == 0 {
			id, err = tx.AddAudience(ctx, a, e.Now())
		} else {
			list, lerr := tx.LiveAudiences(ctx)
			if lerr != nil {
				return lerr
			}
			if reaches(list, a.Rule.V.Audiences(), a.ID) {
				return ErrCircle
			}
			err = tx.SaveAudience(ctx, a, e.Now())
		}
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Audience.AboutSomebody())
	})
	if err != nil {
		return 0, err
	}
	if a.Live {
		if err := e.countAudience(ctx, id); err != nil {
			slog.Info("an audience is counted by a worker", "audience", id, "reason", err)
		}
	}
	e.Nudge()
	return id, nil
}

// countAudience counts who is in a live audience whose rule is new, unless a
// worker is at it, or what it asks for is not counted itself.
func (e *People) countAudience(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.Quickly(ctx, countFor); err != nil {
			return err
		}
		ok, err := tx.LockAudiences(ctx)
		if err != nil || !ok {
			return err
		}
		a, err := tx.LockAudience(ctx, id)
		if err != nil || !a.Recount {
			return err
		}
		uncounted, err := tx.Uncounted(ctx)
		if err != nil {
			return err
		}
		for _, other := range a.Rule.V.Audiences() {
			if slices.Contains(uncounted, other) {
				return nil
			}
		}
		if _, err := tx.Follow(ctx, a, nil, true, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Audience.AboutSomebody())
	})
}

// reaches reports whether some audiences ask, by whatever way, for target.
func reaches(list []store.Audience, from []int64, target int64) bool {
	seen := map[int64]bool{}
	for len(from) > 0 {
		id := from[0]
		from = from[1:]
		if id == target {
			return true
		}
		if seen[id] {
			continue
		}
		seen[id] = true
		for i := range list {
			if list[i].ID == id {
				from = append(from, list[i].Rule.V.Audiences()...)
			}
		}
	}
	return false
}

// GiveAudiences gives audiences an owner; 0 is nobody.
func (e *People) GiveAudiences(ctx context.Context, ids []int64, owner int64) (n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if n, err = tx.GiveAudiences(ctx, ids, owner); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Audience.AboutSomebody())
	})
	return n, err
}

// InUse is the error that names what uses something; nil: nothing does.
func InUse(use []store.Use) error {
	var names []string
	for _, u := range use {
		names = append(names, fmt.Sprintf("the %s “%s”", u.Kind, u.Name))
	}
	if len(names) == 0 {
		return nil
	}
	return plainly.Errorf("%w by %s: take it out there first", ErrInUse, strings.Join(names, ", "))
}

// RemoveAudience removes an audience that nothing asks for.
func (e *People) RemoveAudience(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockAudience(ctx, id); err != nil {
			return err
		}
		use, err := tx.AudienceUse(ctx, id)
		if err != nil {
			return err
		}
		if err := InUse(use); err != nil {
			return err
		}
		if err := tx.RemoveAudience(ctx, id); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Audience.AboutSomebody())
	})
}

// Reason is why somebody is in an audience: the conditions that let them in,
// with what was found.
type Reason struct {
	Person store.Person
	Why    []string
}

// Reasons samples people for whom a rule holds and says why each is in.
func (e *People) Reasons(ctx context.Context, r *rule.Rule, people []store.Person, now time.Time) ([]Reason, error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var out []Reason
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		out = nil
		var ids []int64
		var since []store.Since
		for _, p := range people {
			ids, since = append(ids, p.ID), append(since, store.Since{Person: p.ID})
		}
		records, err := tx.Records(ctx, ids)
		if err != nil {
			return err
		}
		signals, err := tx.SignalsSince(ctx, since)
		if err != nil {
			return err
		}
		kept, err := e.KeptOf(ctx, tx.Queries, ids)
		if err != nil {
			return err
		}
		for _, p := range people {
			f := flow.NewStanding(records[p.ID], signals[p.ID], kept[p.ID])
			out = append(out, Reason{p, r.Why(f, now, cat)})
		}
		return nil
	})
	return out, err
}

// MembersOf lists who is in an audience.
func (e *People) MembersOf(ctx context.Context, id int64) (who []int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		who, err = tx.AllIDs(ctx, store.PeopleQuery{Rule: rule.ThingIs(rule.Audience, id), Now: e.Now()})
		return err
	})
	return who, err
}

// AudienceOfWritten makes a picked audience of everybody who wrote or got what a search of letters
// finds, and answers it with how many there are.
func (e *People) AudienceOfWritten(
	ctx context.Context, name, text string, side store.Side,
) (id, n int64, err error) {
	if strings.TrimSpace(text) == "" {
		return 0, 0, plainly.New("search for some words first")
	}
	if !slices.Contains(store.Sides(), side) {
		return 0, 0, plainly.New("say whether it is who wrote it, or who got it")
	}
	if name = person.Name(name); name == "" {
		return 0, 0, ErrNoName
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if id, err = tx.AddAudience(ctx, store.Audience{Name: name}, e.Now()); err != nil {
			return err
		}
		if n, err = tx.AddWritten(ctx, id, text, side, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Audience.Of(id))
	})
	if err == nil {
		e.Nudge()
	}
	return id, n, err
}

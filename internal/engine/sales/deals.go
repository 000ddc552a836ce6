package sales

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"ombak/internal/core/mailing"
	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// Bounds of what is done with many deals at once.
const (
	mostBulk   = 5000
	mostBehind = 20_000 // people
)

// Done is what became of an action on many deals.
type Done struct {
	Bulk  int64 // by which it is taken back; 0: nothing was changed
	Did   int
	NotOf int // that are not the user's to change
	Twice int // that stay closed, because somebody would have two open ones
}

// BulkDeals puts deals into a stage (what is "stage") or gives them to a rep ("owner"; 0: to nobody). Those that are
// not the user's to change stay as they are.
func (e *Sales) BulkDeals(ctx context.Context, q store.DealQuery, what string, to, user int64) (d Done, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		d = Done{}
		role, err := tx.RoleOf(ctx, user)
		if err != nil {
			return err
		}
		if what == "owner" && to != 0 {
			if r, err := tx.RoleOf(ctx, to); err != nil || r == right.Marketer {
				return errors.Join(err, plainly.New("a deal is for a rep, a lead or an admin"))
			}
		}
		held, err := tx.HoldDeals(ctx, q, mostBulk+1)
		if err != nil {
			return err
		}
		if len(held) > mostBulk {
			return plainly.Errorf("this is about more than %d deals: choose fewer", mostBulk)
		}
		var ids []int64
		was := map[int64]store.HeldDeal{}
		for _, h := range held {
			of := int64(0)
			if h.Rep != nil {
				of = *h.Rep
			}
			if !(right.Who{ID: user, Role: role}).May(of) {
				d.NotOf++
				continue
			}
			ids = append(ids, h.ID)
			was[h.ID] = h
		}
		changed, err := e.changeMany(ctx, tx, ids, what, to, user)
		if err != nil {
			return err
		}
		if what == "stage" {
			for _, id := range ids {
				if was[id].Stage != to && !slices.Contains(changed, id) {
					d.Twice++
				}
			}
		}
		if len(changed) == 0 {
			return nil
		}
		b := store.DealBulk{User: user, At: e.Now(), What: what, Became: to}
		for _, id := range changed {
			b.Was.V = append(b.Was.V, was[id])
		}
		d.Did = len(changed)
		if d.Bulk, err = tx.KeepBulk(ctx, b); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline.AboutSomebody())
	})
	return d, err
}

// changeMany puts deals into a stage, or gives them to a rep, and answers those that it changed.
func (e *Sales) changeMany(
	ctx context.Context, tx store.Tx, ids []int64, what string, to, user int64,
) ([]int64, error) {
	switch what {
	case "owner":
		return tx.GiveDeals(ctx, ids, to, user, e.Now())
	case "stage":
		moved, err := tx.MoveDeals(ctx, ids, to, user, e.Now())
		if err != nil {
			return nil, err
		}
		return moved, e.followDeals(ctx, tx, moved, e.Now())
	}
	return nil, fmt.Errorf("nothing is done with deals as %q", what)
}

// UndoBulk takes back what a user did with many deals: those that are still as they became are again as they were. It
// answers how many, and how many have changed since.
func (e *Sales) UndoBulk(ctx context.Context, id, user int64) (back, since int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		back, since = 0, 0
		b, err := tx.LockBulk(ctx, id)
		if err != nil {
			return err
		}
		if b.User != user {
			return store.ErrNotFound
		}
		if b.Undone != nil {
			return plainly.New("this was taken back already")
		}
		ids := make([]int64, len(b.Was.V))
		was := map[int64]store.HeldDeal{}
		for i, w := range b.Was.V {
			ids[i], was[w.ID] = w.ID, w
		}
		held, err := tx.HoldDeals(ctx, store.DealQuery{State: store.EveryDeal, IDs: ids}, mostBulk)
		if err != nil {
			return err
		}
		to := map[int64][]int64{}
		for _, h := range held {
			rep, before := int64(0), int64(0)
			if h.Rep != nil {
				rep = *h.Rep
			}
			if w := was[h.ID]; w.Rep != nil {
				before = *w.Rep
			}
			switch {
			case b.What == "stage" && h.Stage == b.Became:
				to[was[h.ID].Stage] = append(to[was[h.ID].Stage], h.ID)
			case b.What == "owner" && rep == b.Became:
				to[before] = append(to[before], h.ID)
			}
		}
		for target, list := range to {
			done, err := e.changeMany(ctx, tx, list, b.What, target, user)
			if err != nil {
				return err
			}
			back += len(done)
		}
		since = len(ids) - back
		if err := tx.BulkUndone(ctx, id, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline.AboutSomebody())
	})
	return back, since, err
}

// EmailBehind begins a one-off email to everybody behind deals: whom they are about, and who takes part. They are
// picked into an audience, so that one sees who they are; deals that come later are not in it.
func (e *Sales) EmailBehind(ctx context.Context, q store.DealQuery, user int64) (email int64, err error) {
	people, err := e.Store.PeopleBehind(ctx, q, mostBehind+1)
	switch {
	case err != nil:
		return 0, err
	case len(people) == 0:
		return 0, plainly.New("nobody is behind these deals")
	case len(people) > mostBehind:
		return 0, plainly.Errorf("more than %d people are behind these deals: choose fewer", mostBehind)
	}
	sum, err := e.Store.SumDeals(ctx, q)
	if err != nil {
		return 0, err
	}
	name := fmt.Sprintf("Behind %d deals, %s", sum.Deals, e.Now().In(e.Zone()).Format("2 January 2006, 15:04"))
	audience, err := e.post.SaveAudience(ctx, store.Audience{Name: name,
		Note: "Picked from the list of deals, for a one-off email."})
	if err != nil {
		return 0, err
	}
	if err := e.Store.InTx(ctx, func(tx store.Tx) error {
		return tx.Pick(ctx, audience, people, e.Now())
	}); err != nil {
		return 0, err
	}
	m := store.Mailing{Name: "To those b" + name[1:], Audience: &audience}
	m.Plan.V = mailing.NewPlan()
	m.Plan.V.WithDeals = true
	return e.post.SaveMailing(ctx, m, user)
}

// pageOfExport is how many deals are read at a time while a file is written.
const pageOfExport = 1000

// ExportDeals writes deals as a file, in their order. Amounts are decimal numbers, and worth is in the workspace’s
// currency.
func (e *Sales) ExportDeals(ctx context.Context, q store.DealQuery, f roster.Form, w io.Writer) error {
	out, err := roster.NewWriter(f, w)
	if err != nil {
		return err
	}
	stages, err := e.Store.Stages(ctx)
	if err != nil {
		return err
	}
	pipes, err := e.Store.Pipelines(ctx)
	if err != nil {
		return err
	}
	stage, pipe := map[int64]pipeline.Stage{}, map[int64]string{}
	for _, s := range stages {
		stage[s.ID] = s
	}
	for _, p := range pipes {
		pipe[p.ID] = p.Name
	}
	head := pipeline.Columns()
	var passes []int64
	for _, st := range stages {
		if !st.Closed() {
			head, passes = append(head, st.Name), append(passes, st.ID)
		}
	}
	if err := out.Head(head); err != nil {
		return err
	}
	base := e.Workspace().Currency
	for {
		rows, err := e.Store.DealsForFile(ctx, q, pageOfExport)
		if err != nil {
			return err
		}
		ids := make([]int64, len(rows))
		for i := range rows {
			ids[i] = rows[i].ID
		}
		came, err := e.Store.DealPassages(ctx, ids)
		if err != nil {
			return err
		}
		for i := range rows {
			d := &rows[i]
			st := stage[d.Stage]
			state := "open"
			if st.Won {
				state = "won"
			} else if st.Lost {
				state = "lost"
			}
			row := []string{fmt.Sprint(d.ID), d.Name, d.Email, d.First, d.Last, d.Company, pipe[st.Pipeline],
				st.Name, state, pipeline.Decimal(d.Amount, d.Currency), d.Currency, pipeline.Decimal(d.Worth, base),
				d.RepEmail, dayOf(&d.Opened, e.Zone()), dayOf(&d.Moved, e.Zone()), dayOf(d.Closed, e.Zone()),
				dayOf(d.Expected, time.UTC), d.Next, dayOf(d.NextOn, time.UTC), d.Reason, d.FromName,
				d.Campaign}
			for _, id := range passes {
				at, ok := came[d.ID][id]
				if !ok {
					row = append(row, "")
					continue
				}
				row = append(row, dayOf(&at, e.Zone()))
			}
			if err := out.Row(row); err != nil {
				return err
			}
		}
		if len(rows) < pageOfExport {
			return out.Close()
		}
		q.After = rows[len(rows)-1].ID
	}
}

func dayOf(t *time.Time, zone *time.Location) string {
	if t == nil {
		return ""
	}
	return t.In(zone).Format(time.DateOnly)
}

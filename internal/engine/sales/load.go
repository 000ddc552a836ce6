package sales

import (
	"cmp"
	"context"
	"slices"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Load is what waits on the desks, by whose it is; the pool's stands last.
type Load struct {
	Desks []DeskLoad
	Cut   bool // there is more than is looked at
}

// DeskLoad is what waits on one desk.
type DeskLoad struct {
	User  store.User // the zero one: the pool
	Of    map[desk.Kind]KindLoad
	All   KindLoad
	Takes time.Duration // all of it that can be done now, at their pace
	Late  int           // so many cannot be done in time
	Away  bool
}

// KindLoad is what waits of one kind.
type KindLoad struct {
	N       int
	Overdue int           // by when it was to be done is over
	Oldest  time.Duration // how long the oldest waits
	Median  time.Duration // how long they wait: the median
	PerDay  int           // there is time for on a day; 0: not today
	waits   []time.Duration
}

// LoadOf reckons what waits on every desk.
func (e *Sales) LoadOf(ctx context.Context) (*Load, error) {
	now := e.Now()
	d := &Day{}
	rows, _, p, err := e.readDay(ctx, d, store.DeskQuery{Now: now, N: MaxDesk})
	if err != nil {
		return nil, err
	}
	users, err := e.Store.Users(ctx)
	if err != nil {
		return nil, err
	}
	if err := p.learn(ctx, rows); err != nil {
		return nil, err
	}
	out := &Load{}
	at := map[int64]int{}
	for _, u := range users {
		if u.Role == right.Rep || u.Role == right.Lead {
			at[u.ID] = len(out.Desks)
			out.Desks = append(out.Desks, DeskLoad{User: u, Of: map[desk.Kind]KindLoad{},
				Away: u.Away || u.Work.V.AwayAt(now, e.Zone())})
		}
	}
	at[0] = len(out.Desks)
	out.Desks = append(out.Desks, DeskLoad{Of: map[desk.Kind]KindLoad{}})
	items := make([][]desk.Item, len(out.Desks))
	seen := 0
	for i := range rows {
		r := &rows[i]
		seen++
		whose := int64(0)
		if r.Rep != nil {
			whose = *r.Rep
		}
		k, ok := at[whose]
		if !ok {
			continue // a marketer's tasks, or an admin's
		}
		x := desk.Item{Kind: r.Kind, ID: r.ID, Score: r.Score, Takes: desk.Usual(r.Kind)}
		if x.By, x.From, _, err = p.place(ctx, r); err != nil {
			return nil, err
		}
		items[k] = append(items[k], x)
		l := out.Desks[k].Of[r.Kind]
		l.add(now, r.Made, x.By)
		out.Desks[k].Of[r.Kind] = l
		out.Desks[k].All.add(now, r.Made, x.By)
	}
	for k := range out.Desks {
		if err := e.reckon(ctx, &out.Desks[k], items[k], now); err != nil {
			return nil, err
		}
	}
	for _, n := range d.Of {
		seen -= n
	}
	out.Cut = seen < 0
	return out, nil
}

func (l *KindLoad) add(now, made, by time.Time) {
	l.N++
	if !by.IsZero() && by.Before(now) {
		l.Overdue++
	}
	wait := max(now.Sub(made), 0)
	l.waits = append(l.waits, wait)
	l.Oldest = max(l.Oldest, wait)
}

// median is the middle of how long they wait; of an even number the later of the two.
func (l *KindLoad) median() {
	slices.Sort(l.waits)
	if n := len(l.waits); n > 0 {
		l.Median = l.waits[n/2]
	}
}

// reckon tells how long a desk takes at its own pace, and what cannot be done in time.
func (e *Sales) reckon(ctx context.Context, d *DeskLoad, list []desk.Item, now time.Time) error {
	took, err := e.Store.TookLately(ctx, d.User.ID, 200)
	if err != nil {
		return err
	}
	for i := range list {
		list[i].Takes = desk.Pace(list[i].Kind, took[list[i].Kind])
	}
	hours, zone := e.HoursOf(&d.User.Work.V)
	able := desk.Order(list, now)
	for _, x := range list[:able] {
		d.Takes += x.Takes
	}
	if d.User.ID != 0 { // the pool is nobody's to do in time
		d.Late = len(desk.InTime(list, now, hours, zone))
	}
	today := calendar.DateOf(now, zone)
	for _, k := range desk.Kinds() {
		l := d.Of[k]
		l.median()
		if d.User.ID != 0 {
			l.PerDay = d.User.Work.V.PerDay(k, hours, today)
		}
		d.Of[k] = l
	}
	d.All.median()
	return nil
}

// Which says which of somebody's work is moved.
type Which string

// The choices: all of it, what cannot be done in time, and what is due last.
const (
	Everything Which = "all"
	TooLate    Which = "what cannot be done in time"
	DueLast    Which = "what is due last"
)

// Whiches lists them.
func Whiches() []Which { return []Which{TooLate, DueLast, Everything} }

// MoveWork is work that is moved from one desk to another.
type MoveWork struct {
	From, To int64 // 0: the pool
	Kind     desk.Kind
	Which    Which
	N        int // of what is due last, how much
	User     int64
}

// MoveBetween moves work between desks, for those who lead, and answers how much it was and by which number it
// can be taken back. Meetings stay: who is met has been picked.
func (e *Sales) MoveBetween(ctx context.Context, m MoveWork) (n int, id int64, err error) {
	if m.From == m.To {
		return 0, 0, plainly.New("choose two different desks")
	}
	if m.Kind != "" && !m.Kind.Known() || m.Kind == desk.Meeting {
		return 0, 0, plainly.New("choose what is moved; meetings stay with whom they were picked with")
	}
	ask := Ask{User: m.From, Kind: m.Kind, Pool: m.From == 0}
	list, err := e.whole(ctx, ask)
	if err != nil {
		return 0, 0, err
	}
	chosen, err := m.choose(list)
	if err != nil {
		return 0, 0, err
	}
	items := map[store.WorkKind][]int64{}
	for _, x := range chosen {
		items[x.Row.Of] = append(items[x.Row.Of], x.ID)
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := base.Lead(ctx, tx, m.User); err != nil {
			return err
		}
		if m.To != 0 {
			u, err := tx.User(ctx, m.To)
			if store.IsNotFound(err) || err == nil && (u.Left != nil || u.Role == right.Marketer) {
				return plainly.New("choose somebody who sells")
			}
			if err != nil {
				return err
			}
		}
		moved := map[store.WorkKind][]int64{}
		for of, ids := range items {
			got, err := tx.GiveItems(ctx, of, ids, m.From, m.To, m.User)
			if err != nil {
				return err
			}
			if n += len(got); len(got) > 0 {
				moved[of] = got
			}
		}
		if n == 0 {
			return nil
		}
		id, err = tx.KeepDeskMove(ctx, store.DeskMove{User: m.User, From: m.From, To: m.To, At: e.Now(),
			Items: store.JSON[map[store.WorkKind][]int64]{V: moved}})
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody())
	})
	return n, id, err
}

// whole is all that is on a desk, and on it alone, in its order.
func (e *Sales) whole(ctx context.Context, ask Ask) ([]Item, error) {
	d, err := e.dayOf(ctx, ask, e.Now(), MaxDesk)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(d.Items, func(x Item) bool {
		return x.Kind == desk.Meeting || ask.User != 0 && (x.Row.Rep == nil || *x.Row.Rep != ask.User)
	}), nil
}

// choose is which of a desk's items are moved.
func (m *MoveWork) choose(list []Item) ([]Item, error) {
	switch m.Which {
	case Everything:
		return list, nil
	case TooLate:
		return slices.DeleteFunc(list, func(x Item) bool { return !x.Late }), nil
	case DueLast:
		if m.N < 1 {
			return nil, plainly.New("say how much is moved")
		}
		slices.SortStableFunc(list, func(a, b Item) int {
			return cmp.Or(b.By.Compare(a.By), cmp.Compare(b.ID, a.ID))
		})
		return list[:min(m.N, len(list))], nil
	}
	return nil, plainly.New("say which of it is moved")
}

// MoveBack takes a move back: what is still open, and still where it was moved to, is where it was.
func (e *Sales) MoveBack(ctx context.Context, id, user int64) (n int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := base.Lead(ctx, tx, user); err != nil {
			return err
		}
		m, err := tx.TakeDeskMove(ctx, id)
		if store.IsNotFound(err) {
			return ErrMovedOn
		}
		if err != nil {
			return err
		}
		for of, ids := range m.Items.V {
			got, err := tx.GiveItems(ctx, of, ids, m.To, m.From, user)
			if err != nil {
				return err
			}
			n += len(got)
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody())
	})
	return n, err
}

package sales

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/core/social"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// ErrTaken is answered to somebody who would do what another has taken from the pool.
var ErrTaken = plainly.New("a colleague has this in hand just now")

// MaxDesk bounds how many items one list is made of. Nobody does more in a month.
const MaxDesk = 20_000

// Ask is whose desk is looked at, and what of it.
type Ask struct {
	User int64 // 0: everybody's
	Kind desk.Kind
	Pool bool // what can be taken alone
}

// Item is an item of work in its place.
type Item struct {
	desk.Item
	Row  store.DeskRow
	Face store.DeskFace
	Slot desk.Slot // when it is done at one's pace; zero: it was not laid out
	Late bool      // cannot be done in time
	Why  Below
}

// Below is why something cannot be done now.
type Below string

// Why something waits.
const (
	Postponed Below = "put off"
	CallBack  Below = "call back, as agreed"
	NoHours   Below = "calling hours"
	NextTry   Below = "next try"
	NoRoom    Below = "the day’s limit is reached"
	Begins    Below = "begins"
)

// Day is a desk: what there is to do in its order, how long that takes and what cannot be done
// in time.
type Day struct {
	Items []Item            // those that are due first; the first of them have a face and a slot
	Total int               // how many there are
	Shown int               // so many
	Able  int               // so many can be done now
	Late  int               // so many of Items cannot be done in time
	Takes time.Duration     // all that is to be done until the working day ends
	Ends  time.Time         // the working day
	Of    map[desk.Kind]int // how many there are of each kind, whatever is asked for
}

// Head lists the items that are shown.
func (d *Day) Head() []Item { return d.Items[:d.Shown] }

// shown is how many items a desk shows.
const shown = 40

// Day reads a desk.
func (e *Sales) Day(ctx context.Context, ask Ask) (*Day, error) {
	now := e.Now()
	n := 600 // the day of one is reckoned with
	if ask.User == 0 {
		n = 4 * shown
	}
	for ; ; n = min(8*n, MaxDesk) {
		d, err := e.dayOf(ctx, ask, now, n)
		// What cannot be done now must not hide what can.
		if err != nil || d.Able >= shown || len(d.Items) < n || n == MaxDesk {
			return d, err
		}
	}
}

// dayOf is a desk made of the n items that are due first.
func (e *Sales) dayOf(ctx context.Context, ask Ask, now time.Time, n int) (*Day, error) {
	d := &Day{}
	q := store.DeskQuery{User: ask.User, Pool: ask.Pool, Kind: ask.Kind, Now: now, N: n}
	rows, pace, p, err := e.readDay(ctx, d, q)
	if err != nil {
		return nil, err
	}
	if err := p.learn(ctx, rows); err != nil {
		return nil, err
	}
	for k, n := range d.Of {
		if ask.Kind == "" || k == ask.Kind {
			d.Total += n
		}
	}
	d.Items = make([]Item, len(rows))
	order := make([]desk.Item, len(rows))
	for i := range rows {
		r := &rows[i]
		x := desk.Item{Kind: r.Kind, ID: r.ID, Score: r.Score, Takes: pace[r.Kind]}
		var why Below
		if x.By, x.From, why, err = p.place(ctx, r); err != nil {
			return nil, err
		}
		x.Index = i
		d.Items[i] = Item{Row: *r, Item: x, Why: why}
		order[i] = x
	}
	d.Able = desk.Order(order, now)
	sorted := make([]Item, len(order))
	for i, x := range order {
		sorted[i] = d.Items[x.Index]
		sorted[i].Item = x
	}
	d.Items = sorted
	d.late(p, ask.User, order)
	if err := e.layOut(ctx, d, order, now, p.own); err != nil {
		return nil, err
	}
	if d.Total > len(d.Items) { // the others are told by their kinds alone
		d.Takes = 0
		for k, n := range d.Of {
			if ask.Kind == "" || k == ask.Kind {
				d.Takes += time.Duration(n) * pace[k]
			}
		}
	}
	return d, nil
}

// readDay reads what is on a desk, how much of it there is, how long each kind takes and what places it in the day,
// side by side: with thousands of items some of it takes the database a while.
func (e *Sales) readDay(
	ctx context.Context, d *Day, q store.DeskQuery,
) (rows []store.DeskRow, pace map[desk.Kind]time.Duration, p *placing, err error) {
	all, ctx := errgroup.WithContext(ctx)
	all.Go(func() (err error) {
		d.Of, err = e.Store.DeskCounts(ctx, q)
		return err
	})
	all.Go(func() (err error) {
		rows, err = e.Store.DeskRows(ctx, q)
		return err
	})
	all.Go(func() error {
		took, err := e.Store.TookLately(ctx, q.User, 200)
		if err != nil {
			return err
		}
		pace = map[desk.Kind]time.Duration{}
		for _, k := range desk.Kinds() {
			pace[k] = desk.Pace(k, took[k])
		}
		p, err = e.placing(ctx, q.User, q.Now)
		return err
	})
	err = all.Wait()
	return rows, pace, p, err
}

// late reckons what cannot be done in time: on the desk of one by them, on that of everybody (0) each by their own.
// What nobody has in hand is late there when its time is over.
func (d *Day) late(p *placing, user int64, order []desk.Item) {
	whose := map[int64][]int{}
	for i := range d.Items {
		rep := user
		if rep == 0 && d.Items[i].Row.Rep != nil {
			rep = *d.Items[i].Row.Rep
		}
		whose[rep] = append(whose[rep], i)
	}
	for rep, at := range whose {
		list := make([]desk.Item, len(at))
		for k, i := range at {
			if list[k] = order[i]; rep == 0 {
				list[k].Takes = 0
			}
		}
		w := p.own
		if user == 0 && rep != 0 {
			w = p.users[rep]
		}
		for _, k := range desk.InTime(list, p.now, w.hours, w.zone) {
			d.Items[at[k]].Late = true
			d.Late++
		}
	}
}

// layOut gives the first items their face and slot.
func (e *Sales) layOut(ctx context.Context, d *Day, order []desk.Item, now time.Time, w works) error {
	d.Ends = w.ends(now)
	for i, x := range order {
		if i < d.Able || !x.From.After(d.Ends) {
			d.Takes += x.Takes
		}
	}
	d.Shown = min(len(order), shown)
	slots, err := desk.Day(order[:d.Shown], min(d.Able, d.Shown), now, w.hours, w.zone)
	if err != nil {
		return err
	}
	of, ids := make([]store.WorkKind, d.Shown), make([]int64, d.Shown)
	for i := range d.Shown {
		d.Items[i].Slot = slots[i]
		of[i], ids[i] = d.Items[i].Row.Of, d.Items[i].ID
	}
	faces, err := e.Store.DeskFaces(ctx, of, ids)
	if err != nil {
		return err
	}
	for _, f := range faces {
		for i := range d.Shown {
			if x := &d.Items[i]; x.Row.Of == f.Of && x.ID == f.ID {
				x.Face = f
			}
		}
	}
	return nil
}

// beforeMeeting is how long before it begins a meeting is at hand.
const beforeMeeting = 10 * time.Minute

// works is when somebody works, and where.
type works struct {
	hours calendar.SendingHours
	zone  *time.Location
}

// ends is when their working day ends that an instant falls on; the end of that day where they do
// not work on it.
func (w works) ends(now time.Time) time.Time {
	d := calendar.DateOf(now, w.zone)
	end := 24 * 60
	if list := w.hours.Days[d.Weekday()]; len(list) > 0 && !w.hours.Closed(d) {
		end = list[len(list)-1].To
	}
	return calendar.At(d, time.Duration(end)*time.Minute, w.zone)
}

// worksOf is when a user works; of nobody (0): when people do here.
func (e *Sales) worksOf(ctx context.Context, user int64) (works, error) {
	if user == 0 {
		return works{e.Hours(), e.Zone()}, nil
	}
	u, err := e.Store.User(ctx, user)
	if err != nil {
		return works{}, err
	}
	hours, zone := e.HoursOf(&u.Work.V)
	return works{hours, zone}, nil
}

// worksOfSome is when some users work.
func (e *Sales) worksOfSome(ctx context.Context, ids []int64) (map[int64]works, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	list, err := e.Store.UsersByID(ctx, ids)
	out := map[int64]works{}
	for i := range list {
		hours, zone := e.HoursOf(&list[i].Work.V)
		out[list[i].ID] = works{hours, zone}
	}
	return out, err
}

// of is when the rep of an item works.
func (p *placing) of(rep *int64) works {
	if rep == nil {
		return p.own
	}
	return p.users[*rep]
}

// placing reckons by when items are to be done, and when they come up.
type placing struct {
	e       *Sales
	now     time.Time
	respond time.Duration   // working time in which a handoff is decided
	own     works           // who looks, or the workspace
	users   map[int64]works // the reps whose items are placed
	calling calendar.SendingHours
	first   map[string]time.Time       // zone and country → when somebody there is called first
	done    map[sequence.SocialAct]int // by the user, today
	limits  *social.Limits             // nil: they are nobody's to hold
	tonight time.Time
}

func (e *Sales) placing(ctx context.Context, user int64, now time.Time) (*placing, error) {
	w := e.Workspace()
	own, err := e.worksOf(ctx, user)
	if err != nil {
		return nil, err
	}
	p := &placing{e: e, now: now, own: own, calling: w.CallingHours(),
		respond: time.Duration(w.ResponseClock().Respond) * time.Hour, first: map[string]time.Time{},
		done: map[sequence.SocialAct]int{}}
	today := calendar.DateOf(now, own.zone)
	p.tonight = calendar.At(today.Add(1), 0, own.zone)
	if user == 0 {
		return p, nil
	}
	limits, err := e.Store.SocialLimits(ctx, user)
	if err != nil {
		return nil, err
	}
	p.limits = &limits
	list, err := e.Store.SocialDoneSince(ctx, user, calendar.At(today, 0, own.zone))
	if err != nil {
		return nil, err
	}
	for i := range list {
		s, err := p.step(ctx, list[i].Version, list[i].Step)
		if err != nil {
			return nil, err
		}
		if s, ok := s.(*sequence.Social); ok {
			p.done[s.What]++
		}
	}
	return p, nil
}

func (p *placing) step(ctx context.Context, version int64, id int32) (sequence.Step, error) {
	if version == 0 {
		return nil, nil
	}
	plan, err := p.e.PlanOf(ctx, p.e.Store.Queries, version)
	if err != nil {
		return nil, err
	}
	return plan.Step(sequence.StepID(id)), nil
}

// learn reads when the reps work whose items are placed.
func (p *placing) learn(ctx context.Context, rows []store.DeskRow) (err error) {
	reps := map[int64]bool{}
	for i := range rows {
		if r := rows[i].Rep; r != nil {
			reps[*r] = true
		}
	}
	p.users, err = p.e.worksOfSome(ctx, slices.Collect(maps.Keys(reps)))
	return err
}

// place is by when an item is to be done, and when it comes up with the reason why; zero: it can
// be done now.
func (p *placing) place(ctx context.Context, r *store.DeskRow) (by, from time.Time, why Below, err error) {
	if r.Limit != nil {
		by = *r.Limit
	}
	if r.Limit == nil && r.Kind != desk.Handoff {
		// As long as a step waits where it says nothing (common practice, no source).
		by = calendar.Span{N: 5, Unit: calendar.WorkingDays}.After(r.Made, p.e.Zone(), p.e.Working())
	}
	if r.Kind == desk.Handoff {
		w := p.of(r.Rep)
		if by, err = w.hours.After(r.Made, p.respond, w.zone); err != nil {
			return by, from, "", err
		}
	}
	if r.Made.After(p.now) { // the network put it off
		from, why = r.Made, Postponed
	}
	if r.Later != nil && r.Later.After(p.now) {
		from, why = *r.Later, Postponed
	}
	if r.Later != nil && r.Back {
		if by = *r.Later; from.After(p.now) {
			why = CallBack
		}
		return by, from, why, nil // they asked for it: whatever the calling hours are
	}
	switch r.Kind {
	case desk.Meeting:
		if from, why = r.Made.Add(-beforeMeeting), Begins; !from.After(p.now) {
			from, why = time.Time{}, ""
		}
		return r.Made, from, why, nil
	case desk.Call:
		next, err := p.call(r)
		if err != nil {
			return by, from, "", err
		}
		if next.After(p.now) && next.After(from) {
			if from, why = next, NoHours; r.Tried != nil {
				why = NextTry
			}
		}
	case desk.Social:
		if p.limits == nil {
			break
		}
		s, err := p.step(ctx, r.Version, r.Step)
		if err != nil {
			return by, from, "", err
		}
		if s, ok := s.(*sequence.Social); ok && p.limits.Room(s.What, p.done[s.What]) == 0 && p.tonight.After(from) {
			from, why = p.tonight, NoRoom
		}
	}
	return by, from, why, nil
}

// call is when somebody may be called next.
func (p *placing) call(r *store.DeskRow) (time.Time, error) {
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: r.Zone, Country: r.Country, City: r.City}, p.e.Zone())
	where := desk.Where{Zone: zone, Holidays: p.e.Holidays(r.Country)}
	if r.Tried != nil {
		return desk.NextCall(p.calling, *r.Tried, p.now, where)
	}
	key := zone.String() + " " + r.Country
	if at, ok := p.first[key]; ok {
		return at, nil
	}
	at, err := desk.NextCall(p.calling, time.Time{}, p.now, where)
	p.first[key] = at
	return at, err
}

// mayWork checks that a user may do an item, which nobody else has in hand.
func (e *Sales) mayWork(ctx context.Context, tx store.Tx, user int64, of store.WorkKind, id int64) error {
	if err := base.MayWork(ctx, tx, user, of, id); err != nil {
		return err
	}
	by, err := tx.TakenBy(ctx, of, id, e.Now())
	if err == nil && by != 0 && by != user {
		err = ErrTaken
	}
	return err
}

// Take takes an item of a pool for a user; it goes back when it is not done in time.
func (e *Sales) Take(ctx context.Context, of store.WorkKind, id, user int64) error {
	now := e.Now()
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := base.MayWork(ctx, tx, user, of, id); err != nil {
			return err
		}
		until := now.Add(time.Duration(cmp.Or(e.Workspace().PoolFor, 30)) * time.Minute)
		ok, err := tx.TakeItem(ctx, of, id, user, now, until)
		if err == nil && !ok {
			err = ErrTaken
		}
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
}

// Postpone has an item come up again at the instant that words name, by the workspace's clock;
// a call is then one that was agreed. Empty words have it come up now. It answers the instant.
func (e *Sales) Postpone(ctx context.Context, of store.WorkKind, id, user int64, words string) (time.Time, error) {
	var until time.Time
	if of == store.MeetingWork {
		return until, plainly.New("a meeting is moved with whom it is with")
	}
	if words != "" {
		var err error
		morning := time.Duration(e.Workspace().From) * time.Minute
		if until, err = desk.Later(words, e.Now(), e.Zone(), morning, e.Working()); err != nil {
			return until, err
		}
	}
	return until, e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, user, of, id); err != nil {
			return err
		}
		back := false
		if of == store.CallWork && words != "" {
			t, err := tx.Touch(ctx, id)
			if err != nil {
				return err
			}
			back = t.Kind == "call"
		}
		if err := tx.SetLater(ctx, of, id, until, back); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
}

// PassOn gives an item to a colleague, with a note.
func (e *Sales) PassOn(ctx context.Context, of store.WorkKind, id, user, to int64, note string) error {
	if of == store.MeetingWork {
		return plainly.New("they have picked whom they meet: cancel it, or let them move it")
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, user, of, id); err != nil {
			return err
		}
		u, err := tx.User(ctx, to)
		if store.IsNotFound(err) || err == nil && u.Left != nil {
			return plainly.New("choose a colleague")
		}
		if err != nil {
			return err
		}
		if u.Role == right.Marketer && of != store.TaskWork {
			return plainly.New("marketers are given tasks alone: choose somebody who sells")
		}
		if err := tx.GiveItem(ctx, of, id, to, user, base.Cut(note, 1000)); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
}

// PassBack takes back that a user passed an item on a moment ago.
func (e *Sales) PassBack(ctx context.Context, of store.WorkKind, id, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := tx.PassedBy(ctx, of, id, user)
		if err != nil {
			return err
		}
		if !ok {
			return base.ErrNotYours
		}
		if err := tx.GiveItem(ctx, of, id, user, user, ""); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
}

// Took keeps how long an item took whoever did it, where that is between a few seconds and two
// hours: what stood open over lunch says nothing of anybody's pace.
func (e *Sales) Took(ctx context.Context, user int64, k desk.Kind, since time.Time) error {
	took := e.Now().Sub(since)
	if since.IsZero() || took < 3*time.Second || took > 2*time.Hour || !k.Known() {
		return nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.Took(ctx, user, k, took, e.Now()) })
}

// tried keeps that a call was tried without a talk, where it is to be tried again, and has it
// come up when it is; false: it was the last try.
func (e *Sales) tried(
	ctx context.Context, tx store.Tx, touch, user int64, outcome sequence.Outcome, notes string,
) (again bool, err error) {
	if outcome != sequence.NoAnswer && outcome != sequence.LeftMessage {
		return false, nil
	}
	t, err := tx.Touch(ctx, touch)
	if err != nil {
		return false, err
	}
	step, err := e.workOf(ctx, tx.Queries, &t)
	if err != nil {
		return false, err
	}
	call, ok := step.(*sequence.Call)
	if !ok {
		return false, nil
	}
	n, err := tx.Tries(ctx, touch)
	if err != nil || n+1 >= cmp.Or(call.Attempts, desk.UsualAttempts) {
		return false, err
	}
	now := e.Now()
	said := fmt.Sprintf("%s: %s", now.In(e.Zone()).Format("Mon 2 Jan, 15:04"), outcome)
	if notes != "" {
		said += ". " + notes
	}
	if err := tx.TriedCall(ctx, touch, user, said, now); err != nil {
		return false, err
	}
	return true, tx.SetLater(ctx, store.CallWork, touch, time.Time{}, false)
}

// NextTry is when a call that is still to be made is tried again; zero: it is done, or was not
// tried yet.
func (e *Sales) NextTry(ctx context.Context, touch int64) (time.Time, error) {
	r, err := e.Store.TriedRow(ctx, touch)
	if store.IsNotFound(err) || err == nil && r.Tried == nil {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, err
	}
	p, err := e.placing(ctx, 0, e.Now())
	if err != nil {
		return time.Time{}, err
	}
	return p.call(&r)
}

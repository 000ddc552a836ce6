package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/readers"
	"ombak/internal/store"
)

// Demo is the running demo: its clock, the people who act while it moves, and
// what the interface wants of it.
type Demo struct {
	Store   *store.Store
	Engine  *engine.Engine
	Clock   *base.HandClock
	World   *readers.World
	Seed    uint64
	Readers string // address of the stand-in's mailbox
	Site    string // of the stand-in company's web site; empty: it has none

	mu     sync.Mutex
	target time.Time // where the clock is moving to; zero: it stands
	stop   context.CancelFunc
	done   chan struct{}
}

// Size of the demo.
const (
	companies = 400
	people    = 2000
)

// Load makes the scenario in an empty database: the past year is written down,
// and its last days are lived through, with the real engine, real mail and
// the stand-in's readers, up to Start. A database that is in use is left alone.
// Ombak must already answer at its address.
func (d *Demo) Load(ctx context.Context) error {
	used, err := d.Store.AnyUser(ctx)
	if err != nil || used {
		return err
	}
	if err := d.Store.SetSetting(ctx, progress, "begun"); err != nil {
		return err
	}
	began := Start.AddDate(0, 0, -Lived)
	if err := d.Store.EnsureMonths(ctx, began.AddDate(-1, 0, 0), Start.AddDate(0, 6, 0)); err != nil {
		return err
	}
	s := imagine(d.Seed, companies, people)
	ids, stageIDs, err := d.Begin(ctx)
	if err != nil {
		return err
	}
	who, err := keepPeople(ctx, d.Store, s, ids, d.Seed, began)
	if err != nil {
		return err
	}
	var domains, kinds []string
	for _, c := range s.companies {
		domains, kinds = append(domains, c.domain), append(kinds, c.industry)
	}
	if err := d.Store.SetIndustry(ctx, domains, kinds); err != nil {
		return err
	}
	if err := keepDeals(ctx, d.Store, s, who, ids, stageIDs, began); err != nil {
		return err
	}
	if err := d.keepChoosing(ctx, s, who, ids, began); err != nil {
		return err
	}
	if err := d.Store.BeginStandings(ctx, began); err != nil {
		return err
	}
	m, err := keepContent(ctx, d.Store, ids, began, d.Site)
	if err != nil {
		return err
	}
	if err := d.keepShelf(ctx, ids, who[:6]); err != nil {
		return err
	}
	if err := d.live(ctx, s, m, who, ids); err != nil {
		return err
	}
	if err := d.keepWaitingList(ctx, ids[0]); err != nil {
		return err
	}
	if err := d.keepHanding(ctx, m); err != nil {
		return err
	}
	return d.Store.SetSetting(ctx, progress, "done")
}

// progress is the setting that tells how far Load came.
const progress = "demo"

// CutOff reports whether Load was cut off before it was done, so that what is
// there is half a scenario and no use to anybody.
func CutOff(ctx context.Context, s *store.Store) (bool, error) {
	var far string
	_, err := s.Setting(ctx, progress, &far)
	return far == "begun", err
}

// Begin keeps what every Ombak needs before anybody works with it: users, the
// stages of the pipeline, and the score model, by the use cases that people have.
// It answers the users' ids, the marketer's first, and the stages'.
func (d *Demo) Begin(ctx context.Context) (userIDs, stageIDs []int64, err error) {
	if userIDs, err = keepUsers(ctx, d.Engine); err != nil {
		return nil, nil, err
	}
	for _, st := range stages {
		id, err := d.Engine.KeepStage(ctx, st)
		if err != nil {
			return nil, nil, err
		}
		stageIDs = append(stageIDs, id)
	}
	w := d.Engine.Workspace()
	w.Name, w.Zone, w.Address = "Karang Instruments", Zone, "14 Mole Road\nPort Karang"
	w.Country = "ID"
	if err := d.Engine.SetWorkspace(ctx, w); err != nil {
		return nil, nil, err
	}
	if err := d.restAndTeam(ctx, userIDs[3]); err != nil {
		return nil, nil, err
	}
	if err := d.serviceAndRates(ctx, userIDs[3]); err != nil {
		return nil, nil, err
	}
	return userIDs, stageIDs, d.Engine.SaveModel(ctx, store.Model{Model: model})
}

// serviceAndRates keeps a second pipeline, and what other currencies are worth, as an admin does.
func (d *Demo) serviceAndRates(ctx context.Context, admin int64) error {
	_, pipe, err := d.Engine.KeepPipeline(ctx, pipeline.Pipeline{Name: "Service contracts"}, admin)
	if err != nil {
		return err
	}
	for _, st := range serviceStages {
		st.Pipeline = pipe
		if _, err := d.Engine.KeepStage(ctx, st); err != nil {
			return err
		}
	}
	day := calendar.DateOf(d.Clock.Now(), d.Engine.Zone())
	for currency, values := range map[string][]string{"NOK": {"0.0862", "0.0871", "0.0858"},
		"AUD": {"0.606", "0.611", "0.602"}} {
		for i, v := range values {
			if _, err := d.Engine.SetRate(ctx, pipeline.Rate{Currency: currency, Day: day.Add(-300 + 130*i), Value: v},
				admin); err != nil {
				return err
			}
		}
	}
	return nil
}

// restAndTeam keeps days on which some countries do not work, and a team, as an admin does.
func (d *Demo) restAndTeam(ctx context.Context, admin int64) error {
	day := func(m time.Month, d int, name string) calendar.Holiday {
		return calendar.Holiday{Date: calendar.Date{Year: 2026, Month: m, Day: d}, Name: name}
	}
	for country, list := range map[string][]calendar.Holiday{
		"NO": {day(5, 1, "Labour Day"), day(5, 17, "Constitution Day"), day(12, 25, "Christmas Day")},
		"ID": {day(5, 1, "Labour Day"), day(8, 17, "Independence Day"), day(12, 25, "Christmas Day")},
	} {
		if _, err := d.Engine.AddHolidays(ctx, country, list, admin); err != nil {
			return err
		}
	}
	reps, err := d.reps(ctx)
	if err != nil {
		return err
	}
	_, err = d.Engine.KeepTeam(ctx, store.Team{Name: "Sea cages", Members: reps}, admin)
	return err
}

// live lets the last days before Start happen: people fill in the form, two
// sequences run, others do this and that elsewhere, and the reps work off most
// of what comes to their desks.
func (d *Demo) live(ctx context.Context, s *scenario, m made, people, ids []int64) error {
	const (
		forms = 7         // a day
		other = 60        // signals a day from elsewhere
		grain = time.Hour // coarser, and a step that is due early in short sending hours would be looked at after them
	)
	if err := d.Engine.Launch(ctx, m.followUp, ids[0]); err != nil {
		return err
	}
	began := d.Clock.Now()
	for day := range Lived {
		morning := began.AddDate(0, 0, day)
		if day == Lived-9 {
			if err := d.Engine.Launch(ctx, m.loanSeq, ids[0]); err != nil {
				return err
			}
		}
		if day == Lived-8 {
			if err := d.keepMore(ctx, people, ids[0]); err != nil {
				return err
			}
		}
		if day == Lived-2 {
			if err := d.endMore(ctx, people, ids[0]); err != nil {
				return err
			}
			if err := d.fileAll(ctx); err != nil {
				return err
			}
		}
		if day == Lived-6 {
			if err := d.inviteToClinic(ctx, m, ids[0]); err != nil {
				return err
			}
		}
		for n := range forms {
			at := morning.Add(time.Duration((float64(n) + s.rnd.Float64()) / forms * float64(24*time.Hour)))
			if err := d.Advance(ctx, at, grain); err != nil {
				return err
			}
			for k := range 3 {
				if err := d.passBy(ctx, s, "oxygen-alarms", day*100+n*10+k); err != nil {
					slog.Warn("a stand-in visitor could not see the page", "error", err)
				}
			}
			slug := "oxygen-alarms"
			if day > Lived-6 && n%3 == 0 {
				slug = "calibration-clinic"
			}
			if err := d.fillForm(ctx, s, slug, s.people[s.rnd.IntN(len(s.people))]); err != nil {
				slog.Warn("a stand-in visitor could not fill in the form", "error", err)
			}
		}
		if err := d.Advance(ctx, morning.Add(24*time.Hour), grain); err != nil {
			return err
		}
		if err := d.Engine.Record(ctx, s.elsewhere(people, d.Seed, morning, other)...); err != nil {
			return err
		}
		if err := d.Engine.Settle(ctx); err != nil {
			return err
		}
		if day < Lived-1 {
			if err := d.repsWork(ctx, s); err != nil {
				return err
			}
		}
	}
	if err := d.Advance(ctx, Start, grain); err != nil {
		return err
	}
	if err := d.keepDesk(ctx, people); err != nil {
		return err
	}
	return d.Engine.Settle(ctx)
}

func request(ctx context.Context, c *http.Client, method, address string, form url.Values) (string, error) {
	req, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	req.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64) stand-in visitor")
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	res, err := c.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err == nil && res.StatusCode >= 400 {
		err = fmt.Errorf("%s answered %s", address, res.Status)
	}
	return string(b), err
}

// reps lists the reps who work here.
func (d *Demo) reps(ctx context.Context) (out []int64, err error) {
	users, err := d.Store.Users(ctx)
	for _, u := range users {
		if u.Role == right.Rep {
			out = append(out, u.ID)
		}
	}
	return out, err
}

// repsWork has the reps do a day's work: nearly all handoffs and calls, and
// some of their deals move on.
func (d *Demo) repsWork(ctx context.Context, s *scenario) error {
	handoffs, err := d.Store.OpenHandoffs(ctx, 0, store.MostHandoffs)
	if err != nil {
		return err
	}
	reps, err := d.reps(ctx)
	if err != nil {
		return err
	}
	for i, h := range handoffs {
		rep := h.Rep
		if rep == nil && d.Clock.Now().Sub(h.Made) > 20*time.Hour { // whoever has a hand free takes it from the pool
			rep = &reps[i%len(reps)]
		}
		if rep == nil || i >= len(handoffs)-2 {
			continue
		}
		if s.rnd.IntN(4) == 0 {
			err = d.Engine.SendBack(ctx, h.ID, *rep, sales.Back{Reason: reasons[s.rnd.IntN(len(reasons))], CoolOff: 30})
		} else {
			var deal int64
			if deal, err = d.Engine.Accept(ctx, h.ID, *rep); err == nil && s.rnd.IntN(3) > 0 {
				err = d.Engine.SetAmount(ctx, deal, int64(40+s.rnd.IntN(460))*100*100, "", *rep)
			}
		}
		if err != nil {
			return err
		}
	}
	if err := d.repsAnswer(ctx, reps); err != nil {
		return err
	}
	calls, err := d.Store.DeskWork(ctx, 0)
	if err != nil {
		return err
	}
	users, err := d.Store.Users(ctx)
	if err != nil {
		return err
	}
	for i, c := range calls {
		if i >= len(calls)-2 {
			break
		}
		rep := c.Rep
		for j := range users {
			if rep == nil && users[j].Role == right.Rep {
				rep = &users[j].ID
			}
		}
		of, err := d.Engine.WorkOf(ctx, &c)
		if err != nil {
			return err
		}
		outcomes := of.Outcomes()
		if err := d.Engine.FinishWork(ctx, c.ID, *rep, outcomes[s.rnd.IntN(min(3, len(outcomes)))], ""); err != nil {
			return err
		}
	}
	stages, err := d.Store.Stages(ctx)
	if err != nil {
		return err
	}
	pipes, err := d.Store.Pipelines(ctx)
	if err != nil {
		return err
	}
	stages = slices.DeleteFunc(stages, func(s pipeline.Stage) bool { return s.Pipeline != pipes[0].ID })
	board, err := d.Store.Board(ctx, store.BoardQuery{Pipeline: pipes[0].ID, ClosedSince: d.Clock.Now(),
		Each: store.MostDeals})
	if err != nil {
		return err
	}
	for _, deal := range board {
		for i, st := range stages[:len(stages)-1] {
			if st.ID != deal.Stage || st.Closed() || s.rnd.IntN(14) > 0 {
				continue
			}
			next := stages[i+1]
			if s.rnd.IntN(5) == 0 {
				next = stages[len(stages)-1]
			}
			if err := d.Engine.MoveDeal(ctx, deal.ID, next.ID, 0, deref(deal.Rep)); err != nil {
				return err
			}
		}
	}
	return d.Engine.Settle(ctx)
}

func deref(p *int64) int64 {
	if p == nil {
		return 0
	}
	return *p
}

// Advance moves the clock to an instant and lets everything happen on the way:
// people act when they act, and the engine looks after every grain of time in
// which something is due.
func (d *Demo) Advance(ctx context.Context, to time.Time, grain time.Duration) error {
	if err := d.Engine.Settle(ctx); err != nil {
		return err
	}
	for ctx.Err() == nil {
		look, err := d.Engine.NextLook(ctx)
		if err != nil {
			return err
		}
		if !look.IsZero() {
			if now := d.Clock.Now(); look.Before(now) {
				look = now
			}
			look = ceil(look, grain)
			if look.After(to) && !d.nextLookAfter(look, to) {
				look = to
			}
		}
		act := d.World.Next()
		switch {
		case !act.IsZero() && !act.After(to) && (look.IsZero() || act.Before(look)):
			if err := d.Clock.Set(ctx, act); err != nil {
				return err
			}
			d.World.Act(ctx, act)
		case !look.IsZero() && !look.After(to):
			if err := d.Clock.Set(ctx, look); err != nil {
				return err
			}
			if err := d.Engine.Settle(ctx); err != nil {
				return err
			}
			next, err := d.Engine.NextLook(ctx)
			if err != nil {
				return err
			}
			if look.Equal(to) && (act.IsZero() || act.After(to)) && (next.IsZero() || next.After(to)) {
				return nil
			}
		default:
			return d.Clock.Set(ctx, to)
		}
	}
	return ctx.Err()
}

// nextLookAfter reports whether what was rounded up past the end was really
// due after it.
func (d *Demo) nextLookAfter(rounded, to time.Time) bool {
	look, err := d.Engine.NextLook(context.Background())
	return err != nil || look.IsZero() || look.After(to)
}

// ceil rounds an instant up to a whole grain; a grain of 0 leaves it.
func ceil(t time.Time, grain time.Duration) time.Time {
	if grain <= 0 {
		return t
	}
	if r := t.Truncate(grain); !r.Equal(t) {
		return r.Add(grain)
	}
	return t
}

// ErrMoving is answered while the clock is already on its way.
var ErrMoving = errors.New("the clock is already moving")

// Move moves the clock in the background: by an hour, a day or a week, or to the
// next thing due.
func (d *Demo) Move(how string) error {
	ctx := context.Background()
	now := d.Clock.Now()
	var to time.Time
	grain := 10 * time.Minute
	switch how {
	case "hour":
		to, grain = now.Add(time.Hour), time.Minute
	case "day":
		to = now.Add(24 * time.Hour)
	case "week":
		to = now.Add(7 * 24 * time.Hour)
	case "next":
		look, err := d.Engine.NextLook(ctx)
		if err != nil {
			return err
		}
		if act := d.World.Next(); look.IsZero() || (!act.IsZero() && act.Before(look)) {
			look = act
		}
		if look.IsZero() {
			return errors.New("nothing is due: nobody is on the way, and nobody is about to act")
		}
		if to, grain = look, 0; to.Before(now) {
			to = now
		}
	default:
		return fmt.Errorf("the clock moves by an hour, a day, a week or to the next thing due, not by %q", how)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.target.IsZero() {
		return ErrMoving
	}
	ctx, cancel := context.WithCancel(ctx)
	d.target, d.stop, d.done = to, cancel, make(chan struct{})
	go func(done chan struct{}) {
		defer close(done)
		defer cancel()
		if err := d.Advance(ctx, to, grain); err != nil && ctx.Err() == nil {
			slog.Error("moving the clock", "error", err)
		}
		d.mu.Lock()
		d.target = time.Time{}
		d.mu.Unlock()
		if err := d.Store.Tell(context.Background(), news.Clock, news.Desk, news.Signal); err != nil {
			slog.Error("telling that the clock has moved", "error", err)
		}
	}(d.done)
	// Most moves are over at once; then the page that follows shows it.
	done := d.done
	d.mu.Unlock()
	select {
	case <-done:
	case <-time.After(1500 * time.Millisecond):
	}
	d.mu.Lock()
	return nil
}

// Moving tells where the clock is on its way to.
func (d *Demo) Moving() (time.Time, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.target, !d.target.IsZero()
}

// Stop stops the clock where it is and waits until it stands.
func (d *Demo) Stop() {
	d.mu.Lock()
	stop, done, moving := d.stop, d.done, !d.target.IsZero()
	d.mu.Unlock()
	if moving {
		stop()
		<-done
	}
}

// Faces are the people one press signs in as.
func (d *Demo) Faces(ctx context.Context) ([]store.User, error) {
	var out []store.User
	for _, u := range users[:faces] {
		x, err := d.Store.UserByEmail(ctx, u.Email)
		if store.IsNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// Website is the address of the company's own web site.
func (d *Demo) Website() string { return d.Site }

// Mailbox is the address of the stand-in's mailbox.
func (d *Demo) Mailbox() string { return d.Readers }

// Lived is how many days before Start are lived through for real when the
// demo is loaded.
const Lived = 16

package engine

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/forms"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// day0 is a Tuesday morning within sending hours.
var day0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

// handClock is a clock in memory.
type handClock struct {
	mu sync.Mutex
	t  time.Time
}

func (c *handClock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.t
}

func (c *handClock) set(t time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.t = t
}

// world is an engine with a stand-in mail server and the guide's sequence, made but not launched.
type world struct {
	t     *testing.T
	ctx   context.Context
	s     *store.Store
	url   string
	e     *Engine
	clock *handClock
	mail  *mailserver.Server

	marketer, rep1, rep2 int64
	page                 store.Page
	first, second        int64 // messages
	seq                  int64
	email, watch, check  sequence.StepID
	owner, hand, call    sequence.StepID
}

// restart has another process go on with what there is.
func (w *world) restart() {
	w.t.Helper()
	w.e.Unregister()
	e, err := New(w.ctx, w.e.Config)
	w.must(err)
	w.e = e
	w.must(w.e.Register(w.ctx))
}

func newWorld(t *testing.T, o mailserver.Options) *world {
	t.Helper()
	w := &world{t: t, ctx: context.Background(), clock: &handClock{t: day0}}
	w.s, w.url = storetest.NewURL(t)
	o.Addr, o.Now = "127.0.0.1:0", w.clock.Now
	var err error
	w.mail, err = mailserver.Start(o)
	w.must(err)
	t.Cleanup(func() { w.mail.Close() })
	sender, err := mail.NewSender(w.mail.Addr())
	w.must(err)
	t.Cleanup(sender.Close)
	w.e, err = New(w.ctx,
		base.Config{Store: w.s, Clock: w.clock, Mail: sender, URL: "http://ombak.example",
			Domain: "mail.karang.example", PrivateServers: true})
	w.must(err)
	w.must(w.e.Register(w.ctx))
	t.Cleanup(func() { w.e.Unregister() })
	w.must(w.s.EnsureMonths(w.ctx, day0, day0.AddDate(0, 2, 0)))

	user := func(name, role string) int64 {
		id, err := w.s.AddUser(w.ctx,
			store.User{Name: name, Email: fmt.Sprintf("%s@karang.example", role+name[:1]), Role: right.Role(role),
				PasswordHash: "x"}, day0)
		w.must(err)
		return id
	}
	w.marketer, w.rep1, w.rep2 = user("Ines Radu", "marketer"), user("Tomas Vale", "rep"), user("Uma Okoye", "rep")
	for _, st := range []string{"Accepted", "Trial"} {
		_, err := w.s.DB().ExecContext(w.ctx,
			"insert into stage (name, position, share, pipeline_id) values ($1, 1, 10, 1)", st)
		w.must(err)
	}
	w.tx(func(tx store.Tx) error {
		_, err := tx.SaveModel(w.ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
			{ID: 1, On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30},
			{ID: 2, On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
			{ID: 3, On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30},
			{ID: 4, On: signal.Pattern{Kind: signal.Reply}, Points: 2},
		}, LastID: 4}}, store.Made{At: day0})
		w.must(err)
		w.first, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "Guide",
				Doc: store.JSON[message.Document]{V: message.Simple("Your guide, {{ person.first_name | default: "+
					"\"reader\" }}", `<p>Here it <a href="/g/alarms">is</a>.</p>`)}, SenderID: &w.marketer}, w.marketer,
			day0)
		w.must(err)
		w.second, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "From the owner",
				Doc: store.JSON[message.Document]{V: message.Simple("Three alarms at {{ company.name | default: "+
					"\"your site\" }}", `<p>Shall we talk?</p>`)}, FromOwner: true, SenderID: &w.marketer}, w.marketer,
			day0)
		return err
	})
	w.page = w.newPage("alarms", page.New("Oxygen alarms", "<p>Read.</p>", "Send it"))

	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	put := func(s sequence.Step, from sequence.StepID, e sequence.Exit) sequence.StepID {
		id, err := p.Insert(s, from, e)
		w.must(err)
		return id
	}
	w.email = put(&sequence.Email{Common: sequence.Common{Title: "Field guide"}, Message: w.first}, 0, "")
	w.watch = put(&sequence.Watch{Signal: signal.Click, Of: w.email, For: calendar.Span{N: 5, Unit: calendar.Days}},
		w.email, sequence.Next)
	w.check = put(sequence.New("check"), w.watch, sequence.Happened)
	w.owner = put(&sequence.Email{Message: w.second}, w.check, sequence.Yes)
	w.hand = put(sequence.New("hand over"), w.owner, sequence.Next)
	w.call = put(sequence.New("call"), w.check, sequence.No)
	w.tx(func(tx store.Tx) error {
		w.seq, err = tx.AddSequence(w.ctx, "Field guide follow-up", p, day0)
		return err
	})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Page: w.page.ID}, day0))
	return w
}

func (w *world) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) tx(f func(store.Tx) error) {
	w.t.Helper()
	w.must(w.s.InTx(w.ctx, f))
}

func (w *world) launch() {
	w.t.Helper()
	w.must(w.e.Launch(w.ctx, w.seq, w.marketer))
}

// newPage publishes a page that offers a file.
func (w *world) newPage(slug string, doc page.Document) store.Page {
	w.t.Helper()
	var id int64
	w.tx(func(tx store.Tx) (err error) {
		id, err = tx.SavePage(w.ctx,
			store.Page{Slug: slug, Doc: store.JSON[page.Document]{V: doc}, Offer: "Field guide", Published: true},
			[]byte("guide"), day0)
		return err
	})
	p, err := w.s.Page(w.ctx, id)
	w.must(err)
	return p
}

func answers(first, last, email, company string) page.Answers {
	return page.Answers{Values: person.Values{person.FirstName: first, person.LastName: last, person.EmailField: email,
		person.Company: company}}
}

// fill fills the page's form in.
func (w *world) fill(first, email string) int64 {
	w.t.Helper()
	view, err := w.e.Show(w.ctx, w.page, "", "")
	w.must(err)
	id, _, err := w.e.FormFilled(w.ctx, w.page,
		forms.Filled{Visit: view, Answers: answers(first, "Reader", email, "Fjord Farms")})
	w.must(err)
	w.settle()
	return id
}

func (w *world) settle() {
	w.t.Helper()
	w.must(w.e.Settle(w.ctx))
}

// to moves the clock to an instant after day 0, stopping wherever something is due.
func (w *world) to(after time.Duration) {
	w.t.Helper()
	for target := day0.Add(after); ; {
		next, err := w.e.NextLook(w.ctx)
		w.must(err)
		if next.IsZero() || next.After(target) {
			w.clock.set(target)
			w.settle()
			return
		}
		if next.After(w.clock.Now()) {
			w.clock.set(next)
		}
		w.settle()
	}
}

const dayLong = 24 * time.Hour

func (w *world) letters(to string) []*mailserver.Letter { return w.mail.Letters(to, 100) }

// press follows the n-th link of the newest letter to somebody.
func (w *world) press(to string, n int) {
	w.t.Helper()
	touch := w.touchOf(to)
	_, _, err := w.e.Click(w.ctx, touch, n, w.e.Sign("link", touch, int64(n)), "")
	w.must(err)
	w.settle()
}

func (w *world) touchOf(to string) int64 {
	w.t.Helper()
	l := w.letters(to)
	if len(l) == 0 {
		w.t.Fatalf("%s got no letter", to)
	}
	var id int64
	w.must(w.s.DB().QueryRowContext(w.ctx, "select touch_id from letter where mail_id = $1", l[0].MessageID).Scan(&id))
	return id
}

func (w *world) way(person int64) store.Way {
	w.t.Helper()
	ways, err := w.s.PersonWays(w.ctx, person)
	w.must(err)
	if len(ways) != 1 {
		w.t.Fatalf("person %d is or was on %d sequences", person, len(ways))
	}
	return ways[0]
}

func (w *world) score(person int64) float64 {
	w.t.Helper()
	p, err := w.s.Person(w.ctx, person)
	w.must(err)
	return p.Score
}

func (w *world) count(query string, args ...any) int {
	w.t.Helper()
	var n int
	w.must(w.s.DB().QueryRowContext(w.ctx, query, args...).Scan(&n))
	return n
}

func ruleOf(country string) *rule.Rule {
	r := rule.FieldIs(person.Country, country)
	return &r
}

var anyHour = calendar.Interval{From: 0, To: 24 * 60}

// sorted sorts all letters that somebody has to look at, and answers how many there were.
func (w *world) sorted(theirs bool) int {
	w.t.Helper()
	list, err := w.s.UnsureIncoming(w.ctx, 0, 0, 100)
	w.must(err)
	for _, m := range list {
		w.must(w.e.Sort(w.ctx, m.ID, w.marketer, theirs))
		if err := w.e.Sort(w.ctx, m.ID, w.marketer, !theirs); !store.IsNotFound(err) {
			w.t.Errorf("a letter was sorted twice: %v", err)
		}
	}
	return len(list)
}

// until waits for what a worker beside the test brings about.
func until(t *testing.T, what string, f func() bool) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); !f(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited half a minute for %s", what)
		}
	}
}

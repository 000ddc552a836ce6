package sequence

import (
	"slices"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Starter is a plan that practitioners build often, to begin from: its parts are missing,
// and the parts list names them. Their lengths are common practice (no source).
type Starter struct {
	Key, Name, For string
	plan           func(b *builder)
}

// Starters lists them.
func Starters() []Starter { return slices.Clone(starters) }

// Plan is a new plan of the starter.
func (s Starter) Plan() *Plan {
	p := NewPlan()
	p.LongestStay = calendar.Span{N: 42, Unit: calendar.Days}
	b := &builder{p: p}
	s.plan(b)
	return p
}

// StarterOf finds a starter by its key; false where there is none.
func StarterOf(key string) (Starter, bool) {
	i := slices.IndexFunc(starters, func(s Starter) bool { return s.Key == key })
	if i < 0 {
		return Starter{}, false
	}
	return starters[i], true
}

// builder puts steps of a starter one behind the other.
type builder struct {
	p    *Plan
	from StepID
	exit Exit
}

// then puts a step on the stream where the builder is and goes on by its main exit.
func (b *builder) then(title string, s Step) StepID {
	s.About().Title = title
	id, err := b.p.Insert(s, b.from, b.exit)
	if err != nil {
		panic("sequence: a starter that cannot be drawn: " + err.Error()) // a test draws all
	}
	if exits := s.Exits(); len(exits) > 0 {
		b.from, b.exit = id, exits[0]
	}
	return id
}

// at goes on from an exit of a step.
func (b *builder) at(id StepID, e Exit) { b.from, b.exit = id, e }

// ends names the end that an exit leads to.
func (b *builder) ends(id StepID, e Exit, title string) {
	b.p.Step(b.p.Step(id).About().To[e]).About().Title = title
}

func days(n int) calendar.Span        { return calendar.Span{N: n, Unit: calendar.Days} }
func workingDays(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.WorkingDays} }
func mail(wait calendar.Span) *Email  { return &Email{Timing: Timing{Wait: wait}} }

var starters = []Starter{
	{"content", "Content follow-up",
		"Sends what was asked for, and hands over who takes it and comes back.", func(b *builder) {
			sends := &Email{Request: true}
			email := b.then("Send it", sends)
			took := b.then("Takes it?", &Watch{Signal: signal.Click, Of: email, N: 1, For: days(5)})
			keen := b.then("Keen enough?", &Check{Rule: rule.ScoreAtLeast(15)})
			b.then("To sales", &Handover{})
			b.at(keen, No)
			b.then("A second thought", mail(days(4)))
			b.ends(b.from, b.exit, "Knows us better")
			b.at(took, NotInTime)
			b.then("Reminder", mail(calendar.Span{}))
			b.ends(b.from, b.exit, "Went quiet")
		}},
	{"event", "Event invitation",
		"Invites, asks a second time, reminds the day before and writes after.", func(b *builder) {
			dayBefore := event.Offset{Span: days(1), Clock: 9 * 60}
			invite := b.then("Invitation", mail(calendar.Span{}))
			comes := b.then("Registers?", &Watch{Signal: signal.Registered, N: 1, For: days(7)})
			b.then("Reminder, the day before",
				&Email{Timing: Timing{From: &FromEvent{Offset: dayBefore}}, Request: true})
			came := b.then("Comes?", &Watch{Signal: signal.Came, N: 1,
				Until: &FromEvent{Offset: event.Offset{Span: days(1), After: true, Clock: 9 * 60}}})
			b.then("Note to who came", mail(calendar.Span{}))
			b.ends(b.from, b.exit, "Came")
			b.at(came, NotInTime)
			b.then("Note to who missed it", mail(calendar.Span{}))
			b.ends(b.from, b.exit, "Stayed away")
			b.at(comes, NotInTime)
			b.then("Second chance", &Email{Timing: Timing{Wait: days(1)}, Thread: invite})
			again := b.then("Registers now?", &Watch{Signal: signal.Registered, N: 1,
				Until: &FromEvent{Offset: dayBefore}})
			b.ends(again, NotInTime, "Did not register")
			b.join(again, Happened, b.p.Step(comes).About().To[Happened])
			b.p.LongestStay = days(90)
		}},
	{"three", "Three emails in four weeks",
		"Three emails that build on each other; whoever answers leaves.", func(b *builder) {
			b.then("First", mail(calendar.Span{}))
			b.then("Second", mail(days(9)))
			b.then("Third", mail(days(14)))
			b.ends(b.from, b.exit, "All sent, no answer")
		}},
	{"welcome", "Welcome",
		"Greets somebody new, says who looks after them, and sees what they read.", func(b *builder) {
			b.then("Welcome", &Email{Request: true})
			b.then("Who looks after you", mail(days(3)))
			reads := b.then("Reads on?", &Watch{Signal: signal.Click, N: 1, For: days(7)})
			tell := act.Alert{Words: "They read on after the welcome."}
			b.then("Tell the owner", &Alert{Acts: []act.Kept{{Act: tell}}})
			b.ends(b.from, b.exit, "At home")
			b.ends(reads, NotInTime, "Quiet")
		}},
	{"win", "Win back",
		"Writes to those who were silent for long, and lets go who stays silent.", func(b *builder) {
			b.then("We have not heard", mail(calendar.Span{}))
			back := b.then("Comes back?", &Watch{Signal: signal.Click, N: 1, For: days(10)})
			b.then("Call them", &Call{ToDo: ToDo{Limit: usualLimit}})
			b.at(back, NotInTime)
			b.then("Shall we stop?", mail(days(1)))
			last := b.then("Says anything?", &Watch{Signal: signal.Click, N: 1, For: days(7)})
			b.ends(last, Happened, "Stays")
			b.at(last, NotInTime)
			b.then("Mark as silent", &Change{Acts: []act.Kept{{Act: act.Tag{Name: "silent"}}}})
			b.ends(b.from, b.exit, "Let go")
			b.p.LongestStay = days(60)
		}},
	{"social", "Social and email together",
		"Visits, asks to connect and writes, on the network and by email.", func(b *builder) {
			visit := b.then("Visit", &Social{ToDo: ToDo{Limit: workingDays(3)}, What: Visit})
			email := b.then("Email", mail(days(1)))
			connect := b.then("Connect", &Social{ToDo: ToDo{Timing: Timing{Wait: days(2)}, Limit: workingDays(3)},
				What: Connect, After: 21})
			met := b.then("Accepts?", &Watch{Signal: signal.Accepted, N: 1, For: days(14)})
			b.then("Message", &Social{ToDo: ToDo{Limit: workingDays(3)}, What: SocialNote})
			b.ends(b.from, b.exit, "Connected")
			b.at(met, NotInTime)
			more := b.then("One more email", mail(calendar.Span{}))
			b.ends(b.from, b.exit, "Not connected")
			for _, e := range []Exit{NotPossible, Missed} { // who is not reached there still reads mail
				b.join(visit, e, email)
				b.join(connect, e, more)
			}
		}},
	{"outreach", "Outreach with follow-ups",
		"Three emails in one thread; whoever has not answered by then is called.", func(b *builder) {
			first := b.then("First", mail(calendar.Span{}))
			b.then("Follow-up", &Email{Timing: Timing{Wait: workingDays(4)}, Thread: first})
			b.then("Last word", &Email{Timing: Timing{Wait: workingDays(5)}, Thread: first})
			b.then("Time for an answer", &Pause{For: workingDays(3)})
			b.then("Remind the rep", &Task{ToDo: ToDo{Limit: usualLimit},
				What: "All is sent and nobody has answered: ring them, or let it be."})
			b.ends(b.from, b.exit, "All sent, no answer")
		}},
}

// join leads an exit of a step to another, which comes after it.
func (b *builder) join(from StepID, e Exit, to StepID) {
	if _, _, err := (JoinStream{From: from, Exits: []Exit{e}, To: to}).Apply(b.p); err != nil {
		panic("sequence: a starter that cannot be drawn: " + err.Error())
	}
}

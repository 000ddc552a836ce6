package sequence

import (
	"ombak/internal/core/act"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Task gives somebody something to do for the person: their owner, or a user. It
// reaches nobody by itself, and so asks for no ground.
type Task struct {
	Common
	ToDo
	What string `json:"what,omitempty"` // what is to be done
	Team int64  `json:"team,omitempty"` // any of which does it; 0: For
	For  int64  `json:"for,omitempty"`  // the user; 0: the owner, else whoever takes it
}

// The exits of a task, besides IsDone (it is done) and Missed.
const NotDoneExit Exit = "not done"

var taskExits = []Exit{IsDone, NotDoneExit, Missed}

var kindTask = Register(3, &Kind{Word: "task", Does: "for somebody to do",
	Icon: "list-checks", Key: "t", Sort: ReachOut,
	With: map[Exit]Exit{NotDoneExit: IsDone, Missed: IsDone}, Line: worked, Results: workResults},
	func() Step { return &Task{Common: Common{Title: "Task"}, ToDo: ToDo{Limit: usualLimit}} })

// Kind describes tasks.
func (*Task) Kind() *Kind { return kindTask }

// Exits follow what came of it, and that nobody did it in time.
func (*Task) Exits() []Exit { return taskExits }

// Answer says what came of it.
func (*Task) Answer(e Exit) string {
	switch e {
	case IsDone:
		return "Done"
	case NotDoneExit:
		return "Not done"
	}
	return "Missed"
}

// Says tells when it comes to the desk.
func (s *Task) Says(Names) string { return s.Timing.Says() }

// Settings tell what is to be done, and by whom.
func (s *Task) Settings(n Names) []Setting {
	return append([]Setting{{"To do", s.What}, {"For", n.whose(s.For, s.Team)}}, s.settings()...)
}

// Tells says what is to be done.
func (s *Task) Tells() string { return s.What }

// Outcomes lists what can come of a task.
func (*Task) Outcomes() []Outcome { return []Outcome{DidIt, DidNot} }

// Told is that it is done.
func (*Task) Told(o Outcome) signal.Kind {
	if o == DidIt {
		return signal.TaskDone
	}
	return 0
}

func (s *Task) does() []act.Act { return []act.Act{act.Work{Of: touch.Task, For: s.For, Team: s.Team}} }
func (*Task) missed() int       { return 2 }

func (s *Task) check(_ *Plan, report func(string)) {
	if s.What == "" {
		report("says nothing of what is to be done")
	}
	s.ToDo.check(report)
}

func (s *Task) advance(r *run) verdict { return r.work(s) }

func (*Task) leads(o Outcome) int {
	if o == DidNot {
		return 1
	}
	return 0
}

// The outcomes of what somebody is asked to do.
const (
	DidIt  Outcome = "done"
	DidNot Outcome = "not done"
)

func (s *Task) parts() []Part { return words(s.ID, s.What) }

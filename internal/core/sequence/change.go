package sequence

import (
	"fmt"

	"ombak/internal/core/act"
)

// Change changes the person's record: fields, tags, owner, audiences, the open deal.
// It takes consents back and gives none.
type Change struct {
	Common
	Timing
	Acts []act.Kept `json:"acts,omitempty"`
}

var kindChange = Register(8, &Kind{Word: "change record", Does: "fields, tags, owner …",
	Icon: "pencil-line", Key: "f", Sort: Doing, Line: onTheWay},
	func() Step { return &Change{Common: Common{Title: "Change record"}} })

// Kind describes changes of records.
func (*Change) Kind() *Kind { return kindChange }

// Exits are one: it goes on.
func (*Change) Exits() []Exit { return onward }

// Says says what is changed.
func (s *Change) Says(n Names) string {
	if len(s.Acts) == 1 && n.Acts != nil {
		return s.Acts[0].Says(n.Acts)
	}
	return fmt.Sprintf("%d changes", len(s.Acts))
}

// Settings list what is changed.
func (s *Change) Settings(n Names) (out []Setting) {
	for _, a := range s.Acts {
		if n.Acts != nil {
			out = append(out, Setting{"Change", a.Says(n.Acts)})
		}
	}
	return append(out, s.settings()...)
}

func (s *Change) check(_ *Plan, report func(string)) {
	if len(s.Acts) == 0 {
		report("changes nothing yet")
	}
	checkActs(s.Acts, act.OfRecord(), report)
	s.Timing.check(report)
}

func checkActs(list []act.Kept, of []*act.Kind, report func(string)) {
	if len(list) > act.Max {
		report(fmt.Sprintf("does more than %d things at once", act.Max))
	}
	for _, a := range list {
		if err := act.Check(a.Act, of); err != nil {
			report(err.Error())
		}
	}
}

func (s *Change) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }

func (s *Change) does() []act.Act {
	out := make([]act.Act, len(s.Acts))
	for i, a := range s.Acts {
		out[i] = a.Act
	}
	return out
}

func (s *Change) advance(r *run) verdict {
	v := r.once(s)
	r.stale = v.exit >= 0 && v.reason == ""
	return v
}

// once begins a step that is done when it has begun, and goes on.
func (r *run) once(s timed) verdict {
	if v, ok := r.ready(s, 0); !ok {
		return v
	}
	r.begin()
	return verdict{exit: 0, at: r.now}
}

// Alert tells users something about the person.
type Alert struct {
	Common
	Timing
	Acts []act.Kept `json:"acts,omitempty"`
}

var alertKinds = []*act.Kind{act.Alert{}.Kind()}

var kindAlert = Register(9, &Kind{Word: "alert", Does: "tells somebody",
	Icon: "bell", Key: "a", Sort: Doing, Line: onTheWay},
	func() Step {
		return &Alert{Common: Common{Title: "Alert"}, Acts: []act.Kept{{Act: act.Alert{}}}}
	})

// Kind describes alerts.
func (*Alert) Kind() *Kind { return kindAlert }

// Exits are one: it goes on.
func (*Alert) Exits() []Exit { return onward }

// Says tells who is told, and what.
func (s *Alert) Says(n Names) string {
	if len(s.Acts) > 0 && n.Acts != nil {
		return s.Acts[0].Says(n.Acts)
	}
	return s.Timing.Says()
}

// Settings tell when.
func (s *Alert) Settings(Names) []Setting {
	return append([]Setting{{"When", s.Timing.Says()}}, s.settings()...)
}

func (s *Alert) check(_ *Plan, report func(string)) {
	if len(s.Acts) == 0 {
		report("tells nobody yet")
	}
	checkActs(s.Acts, alertKinds, report)
	s.Timing.check(report)
}

func (s *Alert) takes() (before, after float64) { return s.Wait.NominalDays(), 0 }
func (s *Alert) does() []act.Act                { return (&Change{Acts: s.Acts}).does() }
func (s *Alert) advance(r *run) verdict         { return r.once(s) }

package store

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Behind names the people behind a figure: of a sequence, of one of its steps,
// or of a one-off email. The zero Behind is everybody.
type Behind struct {
	Of    string // "sequence", "step" or "email"
	ID    int64  // of the sequence or email
	N     int32  // the step, or the link of an email
	Which string // of a step also "exit " with one of its exits: who took it
	In    Between
}

// Between is from one instant until before another, as seconds since 1970; zero: always.
type Between struct{ From, To int64 }

// BetweenTimes is the Between of two instants.
func BetweenTimes(from, to time.Time) Between { return Between{from.Unix(), to.Unix()} }

// holds is the condition that a column lies in it.
func (b Between) holds(column string) string {
	if b == (Between{}) {
		return "true"
	}
	return fmt.Sprintf("%s >= to_timestamp(%d) and %s < to_timestamp(%d)", column, b.From, column, b.To)
}

// String is how addresses have it.
func (b Behind) String() string {
	if b == (Behind{}) {
		return ""
	}
	s := fmt.Sprintf("%s.%d.%d.%s", b.Of, b.ID, b.N, b.Which)
	if b.In != (Between{}) {
		s += fmt.Sprintf("@%d-%d", b.In.From, b.In.To)
	}
	return s
}

// ParseBehind reads a Behind's String; what is none, or names no figure there
// is, is the zero Behind.
func ParseBehind(s string) Behind {
	f := strings.SplitN(s, ".", 4)
	if len(f) != 4 {
		return Behind{}
	}
	b := Behind{Of: f[0], Which: f[3]}
	if which, in, ok := strings.Cut(f[3], "@"); ok && b.Of == "step" {
		from, to, _ := strings.Cut(in, "-")
		var err, err2 error
		b.Which = which
		b.In.From, err = strconv.ParseInt(from, 10, 64)
		b.In.To, err2 = strconv.ParseInt(to, 10, 64)
		if err != nil || err2 != nil || b.In.From > b.In.To || b.In.To > lastSecond {
			return Behind{}
		}
	}
	id, err := strconv.ParseInt(f[1], 10, 64)
	n, err2 := strconv.ParseInt(f[2], 10, 32)
	if b.ID, b.N = id, int32(n); err != nil || err2 != nil || b.query() == "" {
		return Behind{}
	}
	return b
}

// lastSecond is that of the year 9999.
const lastSecond = 253402300799

// exitName is what exits of steps are called.
var exitName = regexp.MustCompile("^[a-z][a-z0-9 ]{0,39}$")

// figures are the queries of the people behind them: $id and $n stand for the
// figure's own.
var figures = map[string]map[string]string{
	"sequence": {
		"entered": "select e.person_id from enrolment e where e.sequence_id = $id",
		"way":     "select e.person_id from enrolment e where e.sequence_id = $id and e.ended_at is null",
		"ended":   "select e.person_id from enrolment e where e.sequence_id = $id and e.ended_at is not null",
		"handed":  "select e.person_id from enrolment e where e.sequence_id = $id and e.reason = 'handed over'",
	},
	"event": {
		"registered": attending("x.state <> 'cancelled'"),
		"cancelled":  attending("x.state = 'cancelled'"),
		"came":       attending("x.state = 'came'"),
		"away":       attending("x.state = 'stayed away'"),
	},
	"step": {
		"here": "select e.person_id from enrolment e where e.sequence_id = $id and e.step = $n " +
			"and e.ended_at is null",
		"left": logged("l.exit = '' and l.reason not in ('finished', 'handed over')"),
		"exit": logged("l.exit = '$exit'"),

		"after sent":     after("exists (select from touch t where " + later + ")"),
		"after opened":   after("exists (select from touch t where t.opened and " + later + ")"),
		"after clicked":  after("exists (select from touch t where t.clicked and " + later + ")"),
		"after answered": after("exists (select from touch t where t.replied and " + later + ")"),
		"after handed":   after("e.reason = 'handed over'"),

		"passed":   logged("true"),
		"sent":     touched("t.state = 'sent'"),
		"trouble":  touched("t.state in ('held', 'stopped')"),
		"done":     touched("t.state = 'done'"),
		"missed":   touched("t.state = 'missed'"),
		"desk":     touched("t.state = 'desk'"),
		"opened":   touched("t.opened"),
		"clicked":  touched("t.clicked"),
		"answered": touched("t.replied"),
	},
}

func logged(what string) string {
	return "select e.person_id from enrolment e join enrolment_log l on l.enrolment_id = e.id " +
		"where e.sequence_id = $id and l.step = $n and $in(l.at) and " + what
}

// later is that an email of the same way went out after an exit was taken.
const later = "t.enrolment_id = e.id and t.state = 'sent' and t.kind = 'email' and t.done_at >= l.at"

// after is who took an exit, and of whom something was so after it.
func after(what string) string { return logged("l.exit = '$exit' and " + what) }

func touched(what string) string {
	return "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and " +
		"$in(coalesce(t.done_at, t.made_at)) and " + what
}

func attending(state string) string {
	return "select x.person_id from attendance x where x.event_id = $id and x.current and " + state
}

// AfterExitOf reads "after not in time opened": an exit, and what was so after it.
func AfterExitOf(which string) (exit, figure string, ok bool) {
	x, ok := strings.CutPrefix(which, "after ")
	i := strings.LastIndexByte(x, ' ')
	if !ok || i < 0 || !exitName.MatchString(x[:i]) {
		return "", "", false
	}
	return x[:i], x[i+1:], true
}

// query is that of the figure; empty where there is none.
func (b Behind) query() string {
	which, exit := b.Which, ""
	if x, ok := strings.CutPrefix(which, "exit "); ok && b.Of == "step" && exitName.MatchString(x) {
		which, exit = "exit", x
	} else if x, figure, ok := AfterExitOf(which); ok && b.Of == "step" {
		which, exit = "after "+figure, x
	} else if which == "exit" || strings.HasPrefix(which, "after ") {
		return ""
	}
	q := figures[b.Of][which]
	if b.Of == "email" {
		q = mailingFigure(b.Which, b.N)
	}
	// All are numbers, and written as such, or have the letters of a name alone.
	return strings.NewReplacer("$id", strconv.FormatInt(b.ID, 10), "$n", strconv.FormatInt(int64(b.N), 10),
		"$exit", exit, "$in(l.at)", b.In.holds("l.at"),
		"$in(coalesce(t.done_at, t.made_at))", b.In.holds("coalesce(t.done_at, t.made_at)")).Replace(q)
}

// behind is the condition of being behind a figure, over a person p.
func (c *compiler) behind(b Behind) string {
	if q := b.query(); q != "" {
		return " and p.id in (" + q + ")"
	}
	return ""
}

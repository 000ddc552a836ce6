package store

import (
	"fmt"
	"strconv"
	"strings"

	"ombak/internal/core/signal"
)

// Behind names the people behind a figure: of a sequence, of one of its steps,
// or of a one-off email. The zero Behind is everybody.
type Behind struct {
	Of    string // "sequence", "step" or "email"
	ID    int64  // of the sequence or email
	N     int32  // the step, or the link of an email
	Which string
}

// String is how addresses have it.
func (b Behind) String() string {
	if b == (Behind{}) {
		return ""
	}
	return fmt.Sprintf("%s.%d.%d.%s", b.Of, b.ID, b.N, b.Which)
}

// ParseBehind reads a Behind's String; what is none, or names no figure there
// is, is the zero Behind.
func ParseBehind(s string) Behind {
	f := strings.SplitN(s, ".", 4)
	if len(f) != 4 {
		return Behind{}
	}
	b := Behind{Of: f[0], Which: f[3]}
	id, err := strconv.ParseInt(f[1], 10, 64)
	n, err2 := strconv.ParseInt(f[2], 10, 32)
	if b.ID, b.N = id, int32(n); err != nil || err2 != nil || b.query() == "" {
		return Behind{}
	}
	return b
}

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
		"here": "select e.person_id from enrolment e where e.sequence_id = $id and e.step = $n and e.ended_at is null",
		"left": `select e.person_id from enrolment e join enrolment_log l on l.enrolment_id = e.id
			where e.sequence_id = $id and l.step = $n and l.exit = '' and l.reason not in ('finished', 'handed over')`,
		"passed": `select e.person_id from enrolment e join enrolment_log l on l.enrolment_id = e.id
			where e.sequence_id = $id and l.step = $n`,
		"sent": "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and t.state = 'sent'",
		"trouble": "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and t.state in " +
			"('held', 'stopped')",
		"done":     "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and t.state = 'done'",
		"missed":   "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and t.state = 'missed'",
		"desk":     "select t.person_id from touch t where t.sequence_id = $id and t.step = $n and t.state = 'desk'",
		"opened":   stepSignal(signal.Open),
		"clicked":  stepSignal(signal.Click),
		"answered": stepSignal(signal.Reply),
	},
}

func attending(state string) string {
	return "select x.person_id from attendance x where x.event_id = $id and x.current and " + state
}

func stepSignal(kind signal.Kind) string {
	return fmt.Sprintf("select g.person_id from signal g where g.sequence_id = $id and g.step = $n and g.kind = %d "+
		"and g.machine = ''", kind)
}

// query is that of the figure; empty where there is none.
func (b Behind) query() string {
	q := figures[b.Of][b.Which]
	if b.Of == "email" {
		q = mailingFigure(b.Which, b.N)
	}
	// Both are numbers, and written as such.
	return strings.NewReplacer("$id", strconv.FormatInt(b.ID, 10), "$n", strconv.FormatInt(int64(b.N), 10)).Replace(q)
}

// behind is the condition of being behind a figure, over a person p.
func (c *compiler) behind(b Behind) string {
	if q := b.query(); q != "" {
		return " and p.id in (" + q + ")"
	}
	return ""
}

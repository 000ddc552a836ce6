package trace

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rows"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// own are the columns of people that are no fields of their records.
var own = []string{"id", "entered", "score", "consent", "took back", "do not contact", "opted out", "bounced", "tags",
	"audiences", "last email"}

// ReadPeople reads people for a plan: id, entered (RFC 3339), and what is known of them.
// names says how the file of the sequence calls what its rules ask for.
func ReadPeople(r io.Reader, f *sequence.File, fallback *time.Location) ([]*Person, error) {
	var out []*Person
	seen := map[string]bool{}
	err := rows.Read("people", r, []string{"id", "entered"}, func(x rows.Row) error {
		p := &Person{ID: x.Get("id"), Record: rule.Record{Values: person.Values{}}, Events: f.Events}
		if p.ID == "" || seen[p.ID] {
			return x.Fail("the id %q is there twice, or is none", p.ID)
		}
		seen[p.ID] = true
		if err := p.read(x, f, fallback); err != nil {
			return err
		}
		out = append(out, p)
		return nil
	})
	return out, err
}

func (p *Person) read(x rows.Row, f *sequence.File, fallback *time.Location) (err error) {
	if p.Entered, err = x.Instant("entered"); err != nil {
		return err
	}
	if p.Entered.IsZero() {
		return x.Fail("it does not say when they entered")
	}
	if p.TookBack, err = x.Instant("took back"); err != nil {
		return err
	}
	if p.Touched, err = x.Instant("last email"); err != nil {
		return err
	}
	if err := p.readScores(x); err != nil {
		return err
	}
	for k, v := range x.Values {
		if v = strings.TrimSpace(v); v == "" || slices.Contains(own, k) || strings.HasPrefix(k, "consent ") ||
			strings.HasPrefix(k, "score ") {
			continue
		}
		p.Record.Values[rule.Field(k)] = v
		if d, ok := person.Define(rule.Field(k)); ok {
			if p.Record.Values[rule.Field(k)], err = d.Tidy(v, ""); err != nil {
				return x.Fail("%s: %v", k, err)
			}
		}
	}
	where := calendar.Whereabouts{Zone: p.Record.Values[person.Zone], Country: p.Record.Values[person.Country],
		City: p.Record.Values[person.City]}
	p.Zone, _ = calendar.ZoneFor(where, fallback)
	if p.Rests, err = f.HolidaysOf(where.Country); err != nil {
		return err
	}
	if p.Record.Tags, err = x.Named("tags", f.Names["tag"]); err != nil {
		return err
	}
	if p.Record.Audiences, err = x.Named("audiences", f.Names["audience"]); err != nil {
		return err
	}
	known := func(field person.Field) bool { return p.Record.Values[field] != "" }
	p.Reach = contact.Facts{Email: known(person.EmailField), Phone: known(person.PhoneField),
		Profile: known(person.Profile), Postal: known(person.Street) && known(person.City)}
	for column, to := range map[string]*bool{"do not contact": &p.Reach.DoNotContact, "opted out": &p.Reach.OptedOut,
		"no calls": &p.Reach.NoCalls,
		"bounced":  &p.Reach.Bounced} {
		if *to, err = x.Yes(column); err != nil {
			return err
		}
	}
	for _, purpose := range append(f.Plan.OwnPurposes(), f.Plan.Ground.Purpose) {
		column := "consent"
		if purpose != f.Plan.Ground.Purpose {
			column = fmt.Sprint("consent ", purpose)
		}
		agreed, err := x.Yes(column)
		if err != nil {
			return err
		}
		if x.Get(column) != "" {
			is := contact.Withdrawn
			if agreed {
				is = contact.Agreed
			}
			p.Reach.Consents = append(p.Reach.Consents, contact.Said{Purpose: purpose, Is: is})
		}
	}
	return nil
}

// readScores reads the columns score, score 8 (by the model with the number 8) and score 8 2 (what its rule with the
// number 2 gives; 0: of the first model).
func (p *Person) readScores(x rows.Row) error {
	for k, text := range x.Values {
		which, ok := strings.CutPrefix(k, "score")
		if text = strings.TrimSpace(text); !ok || text == "" {
			continue
		}
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return x.Fail("the score %q is no number", text)
		}
		if which == "" {
			p.Score = v
			continue
		}
		of, named := rule.Figure{}, strings.Fields(which)
		for i, to := range []*int64{&of.Model, &of.Rule} {
			if i < len(named) && err == nil {
				*to, err = strconv.ParseInt(named[i], 10, 64)
			}
		}
		if err != nil || len(named) > 2 {
			return x.Fail("the column %q is of no score: “score 8” is by the model with the number 8", k)
		}
		if p.Scores == nil {
			p.Scores = map[rule.Figure]float64{}
		}
		p.Scores[of] = v
	}
	return nil
}

// ReadSignals reads what people did: person, at, kind (in words, as "click"), and step,
// link, page, event and machine where they are known.
func ReadSignals(r io.Reader, people []*Person) error {
	byID := index(people)
	kinds := map[string]signal.Kind{}
	for _, k := range signal.Kinds() {
		kinds[k.String()] = k
	}
	err := rows.Read("signals", r, []string{"person", "at", "kind"}, func(x rows.Row) error {
		p := byID[x.Get("person")]
		if p == nil {
			return x.Fail("there is no person %q", x.Get("person"))
		}
		at, err := x.Instant("at")
		if err != nil {
			return err
		}
		kind, ok := kinds[strings.ToLower(x.Get("kind"))]
		if !ok || at.IsZero() {
			return x.Fail("the kind %q is none, or it does not say when", x.Get("kind"))
		}
		s := signal.Signal{ID: int64(x.N), At: at, Kind: kind}
		numbers := map[string]func(int64){"step": func(n int64) { s.Sequence, s.Step = Sequence, int32(n) },
			"link": func(n int64) { s.Link = int32(n) }, "page": func(n int64) { s.Page = n },
			"event": func(n int64) { s.Event = n }}
		for column, set := range numbers {
			if v := x.Get(column); v != "" {
				n, err := strconv.ParseInt(v, 10, 32)
				if err != nil || n <= 0 {
					return x.Fail("the %s %q is no number", column, v)
				}
				set(n)
			}
		}
		if s.Machine, err = x.Yes("machine"); err != nil {
			return err
		}
		p.Signals = append(p.Signals, s)
		return nil
	})
	for _, p := range people {
		signal.Sort(p.Signals)
	}
	return err
}

// ReadOutcomes reads what came of work: person, step, at, outcome.
func ReadOutcomes(r io.Reader, people []*Person, plan *sequence.Plan) error {
	byID := index(people)
	return rows.Read("outcomes", r, []string{"person", "step", "at", "outcome"}, func(x rows.Row) error {
		p := byID[x.Get("person")]
		if p == nil {
			return x.Fail("there is no person %q", x.Get("person"))
		}
		n, err := strconv.ParseInt(x.Get("step"), 10, 32)
		step, ok := plan.Step(sequence.StepID(n)).(sequence.Work)
		if err != nil || !ok {
			return x.Fail("step %q is none that somebody does", x.Get("step"))
		}
		o := Outcome{Step: sequence.StepID(n), What: sequence.Outcome(x.Get("outcome"))}
		if !slices.Contains(step.Outcomes(), o.What) {
			return x.Fail("%q is no outcome of a %s", o.What, step.Kind().Word)
		}
		if o.At, err = x.Instant("at"); err != nil {
			return err
		}
		p.Work = append(p.Work, o)
		return nil
	})
}

func index(people []*Person) map[string]*Person {
	out := make(map[string]*Person, len(people))
	for _, p := range people {
		out[p.ID] = p
	}
	return out
}

// Sequence is the number that a traced sequence has in its signals.
const Sequence = 1

// Write writes lines as CSV: person, step, instant, exit, reason.
func Write(w io.Writer, lines []Line) error {
	c := csv.NewWriter(w)
	if err := c.Write([]string{"person", "step", "instant", "exit", "reason"}); err != nil {
		return err
	}
	for _, l := range lines {
		if err := c.Write([]string{l.Person, strconv.Itoa(int(l.Step)), l.At.UTC().Format(time.RFC3339Nano),
			string(l.Exit), string(l.Reason)}); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

package trace

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// maxRows bounds a file, in rows.
const maxRows = 5_000_000

// row is a row of a file, by the names of its columns.
type row struct {
	values map[string]string
	n      int // the row, or the object, from 1
	file   string
}

func (r row) get(column string) string { return strings.TrimSpace(r.values[column]) }

func (r row) fail(format string, args ...any) error {
	return plainly.Errorf("%s, row %d: %s", r.file, r.n, fmt.Sprintf(format, args...))
}

// instant reads an instant of RFC 3339; zero where there is none.
func (r row) instant(column string) (time.Time, error) {
	s := r.get(column)
	if s == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return t, r.fail("%q is no instant such as 2026-04-14T09:20:00Z", s)
	}
	return t.UTC(), nil
}

func (r row) yes(column string) (bool, error) {
	switch s := strings.ToLower(r.get(column)); s {
	case "", "no", "false", "0":
		return false, nil
	case "yes", "true", "1":
		return true, nil
	default:
		return false, r.fail("%s is yes or no, and not %q", column, s)
	}
}

// rows reads a file as CSV, or as JSON where it begins with a bracket: a list of objects
// with the same names as the columns.
func rows(file string, r io.Reader, need []string, each func(row) error) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if strings.HasPrefix(strings.TrimSpace(string(data[:min(len(data), 100)])), "[") {
		return objects(file, data, need, each)
	}
	c := csv.NewReader(bytes.NewReader(data))
	head, err := c.Read()
	if errors.Is(err, io.EOF) {
		return plainly.Errorf("%s is empty: its first row names the columns", file)
	}
	if err != nil {
		return plainly.Errorf("%s: %v", file, err)
	}
	for i := range head {
		head[i] = strings.ToLower(strings.TrimSpace(head[i]))
	}
	for _, n := range need {
		if !slices.Contains(head, n) {
			return plainly.Errorf("%s has no column %q", file, n)
		}
	}
	for n := 2; ; n++ {
		cells, err := c.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return plainly.Errorf("%s: %v", file, err)
		}
		if n > maxRows {
			return plainly.Errorf("%s has more than %d rows", file, maxRows)
		}
		x := row{map[string]string{}, n, file}
		for i, v := range cells {
			x.values[head[i]] = v
		}
		if err := each(x); err != nil {
			return err
		}
	}
}

func objects(file string, data []byte, need []string, each func(row) error) error {
	var list []map[string]any
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if err := d.Decode(&list); err != nil {
		return plainly.Errorf("%s is no list of objects: %v", file, err)
	}
	for i, o := range list {
		x := row{map[string]string{}, i + 1, file}
		for k, v := range o {
			switch v := v.(type) {
			case nil:
			case string:
				x.values[strings.ToLower(k)] = v
			case json.Number, bool:
				x.values[strings.ToLower(k)] = fmt.Sprint(v)
			default:
				return x.fail("%s is a text, a number, true or false", k)
			}
		}
		for _, n := range need {
			if _, ok := x.values[n]; !ok {
				return x.fail("it has no %q", n)
			}
		}
		if err := each(x); err != nil {
			return err
		}
	}
	return nil
}

// own are the columns of people that are no fields of their records.
var own = []string{"id", "entered", "score", "consent", "took back", "do not contact", "opted out", "bounced", "tags",
	"audiences", "last email"}

// ReadPeople reads people for a plan: id, entered (RFC 3339), and what is known of them.
// names says how the file of the sequence calls what its rules ask for.
func ReadPeople(r io.Reader, f *sequence.File, fallback *time.Location) ([]*Person, error) {
	var out []*Person
	seen := map[string]bool{}
	err := rows("people", r, []string{"id", "entered"}, func(x row) error {
		p := &Person{ID: x.get("id"), Record: rule.Record{Values: person.Values{}}, Events: f.Events}
		if p.ID == "" || seen[p.ID] {
			return x.fail("the id %q is there twice, or is none", p.ID)
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

func (p *Person) read(x row, f *sequence.File, fallback *time.Location) (err error) {
	if p.Entered, err = x.instant("entered"); err != nil {
		return err
	}
	if p.Entered.IsZero() {
		return x.fail("it does not say when they entered")
	}
	if p.TookBack, err = x.instant("took back"); err != nil {
		return err
	}
	if p.Touched, err = x.instant("last email"); err != nil {
		return err
	}
	if s := x.get("score"); s != "" {
		if p.Score, err = strconv.ParseFloat(s, 64); err != nil || p.Score != p.Score {
			return x.fail("the score %q is no number", s)
		}
	}
	for k, v := range x.values {
		if v = strings.TrimSpace(v); v == "" || slices.Contains(own, k) || strings.HasPrefix(k, "consent ") {
			continue
		}
		p.Record.Values[rule.Field(k)] = v
		if d, ok := person.Define(rule.Field(k)); ok {
			if p.Record.Values[rule.Field(k)], err = d.Tidy(v, ""); err != nil {
				return x.fail("%s: %v", k, err)
			}
		}
	}
	where := calendar.Whereabouts{Zone: p.Record.Values[person.Zone], Country: p.Record.Values[person.Country],
		City: p.Record.Values[person.City]}
	p.Zone, _ = calendar.ZoneFor(where, fallback)
	if p.Rests, err = f.HolidaysOf(where.Country); err != nil {
		return err
	}
	if p.Record.Tags, err = x.named("tags", f.Names["tag"]); err != nil {
		return err
	}
	if p.Record.Audiences, err = x.named("audiences", f.Names["audience"]); err != nil {
		return err
	}
	known := func(field person.Field) bool { return p.Record.Values[field] != "" }
	p.Reach = contact.Facts{Email: known(person.EmailField), Phone: known(person.PhoneField),
		Profile: known(person.Profile), Postal: known(person.Street) && known(person.City)}
	for column, to := range map[string]*bool{"do not contact": &p.Reach.DoNotContact, "opted out": &p.Reach.OptedOut,
		"no calls": &p.Reach.NoCalls,
		"bounced":  &p.Reach.Bounced} {
		if *to, err = x.yes(column); err != nil {
			return err
		}
	}
	for _, purpose := range append(f.Plan.OwnPurposes(), f.Plan.Ground.Purpose) {
		column := "consent"
		if purpose != f.Plan.Ground.Purpose {
			column = fmt.Sprint("consent ", purpose)
		}
		agreed, err := x.yes(column)
		if err != nil {
			return err
		}
		if x.get(column) != "" {
			is := contact.Withdrawn
			if agreed {
				is = contact.Agreed
			}
			p.Reach.Consents = append(p.Reach.Consents, contact.Said{Purpose: purpose, Is: is})
		}
	}
	return nil
}

// named reads names, with semicolons between, as the numbers that a sequence's file has
// for them. What it does not name, no rule asks for.
func (x row) named(column string, names map[string]string) (out []int64, err error) {
	for _, name := range strings.Split(x.get(column), ";") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		for number, n := range names {
			if !strings.EqualFold(n, name) {
				continue
			}
			id, err := strconv.ParseInt(number, 10, 64)
			if err != nil {
				return nil, plainly.Errorf("the file of the sequence has the name of %q, which is no number", number)
			}
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out, nil
}

// ReadSignals reads what people did: person, at, kind (in words, as "click"), and step,
// link, page, event and machine where they are known.
func ReadSignals(r io.Reader, people []*Person) error {
	byID := index(people)
	kinds := map[string]signal.Kind{}
	for _, k := range signal.Kinds() {
		kinds[k.String()] = k
	}
	err := rows("signals", r, []string{"person", "at", "kind"}, func(x row) error {
		p := byID[x.get("person")]
		if p == nil {
			return x.fail("there is no person %q", x.get("person"))
		}
		at, err := x.instant("at")
		if err != nil {
			return err
		}
		kind, ok := kinds[strings.ToLower(x.get("kind"))]
		if !ok || at.IsZero() {
			return x.fail("the kind %q is none, or it does not say when", x.get("kind"))
		}
		s := signal.Signal{ID: int64(x.n), At: at, Kind: kind}
		numbers := map[string]func(int64){"step": func(n int64) { s.Sequence, s.Step = Sequence, int32(n) },
			"link": func(n int64) { s.Link = int32(n) }, "page": func(n int64) { s.Page = n },
			"event": func(n int64) { s.Event = n }}
		for column, set := range numbers {
			if v := x.get(column); v != "" {
				n, err := strconv.ParseInt(v, 10, 32)
				if err != nil || n <= 0 {
					return x.fail("the %s %q is no number", column, v)
				}
				set(n)
			}
		}
		if s.Machine, err = x.yes("machine"); err != nil {
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
	return rows("outcomes", r, []string{"person", "step", "at", "outcome"}, func(x row) error {
		p := byID[x.get("person")]
		if p == nil {
			return x.fail("there is no person %q", x.get("person"))
		}
		n, err := strconv.ParseInt(x.get("step"), 10, 32)
		step, ok := plan.Step(sequence.StepID(n)).(sequence.Work)
		if err != nil || !ok {
			return x.fail("step %q is none that somebody does", x.get("step"))
		}
		o := Outcome{Step: sequence.StepID(n), What: sequence.Outcome(x.get("outcome"))}
		if !slices.Contains(step.Outcomes(), o.What) {
			return x.fail("%q is no outcome of a %s", o.What, step.Kind().Word)
		}
		if o.At, err = x.instant("at"); err != nil {
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

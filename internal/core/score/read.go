package score

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rows"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Somebody is a person out of a file, with what they did in its order. They are what rules ask about.
type Somebody struct {
	ID      string
	record  rule.Record
	Signals []signal.Signal
}

// Record is what is known of them.
func (s *Somebody) Record() *rule.Record { return &s.record }

// Score is asked by no rule of a model.
func (s *Somebody) Score(rule.Figure, time.Time) float64 { return 0 }

// Count counts what they did.
func (s *Somebody) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(s.Signals, p, from, to)
}

// ReadPeople reads people for a model: id, tags and audiences (with semicolons between), and every other column is a
// field of the record by its name. The file says how its own fields, tags and audiences are called.
func ReadPeople(r io.Reader, f *File) ([]*Somebody, error) {
	var out []*Somebody
	seen := map[string]bool{}
	own := map[string]rule.Field{}
	for number, name := range f.Names[rule.FieldRef] {
		own[strings.ToLower(name)] = rule.Field("own " + number)
	}
	err := rows.Read("people", r, []string{"id"}, func(x rows.Row) (err error) {
		p := &Somebody{ID: x.Get("id"), record: rule.Record{Values: person.Values{}}}
		if p.ID == "" || seen[p.ID] {
			return x.Fail("the id %q is there twice, or is none", p.ID)
		}
		seen[p.ID] = true
		if p.record.Tags, err = x.Named("tags", f.Names[rule.TagRef]); err != nil {
			return err
		}
		if p.record.Audiences, err = x.Named("audiences", f.Names[rule.AudienceRef]); err != nil {
			return err
		}
		for column, v := range x.Values {
			if v = strings.TrimSpace(v); v == "" || column == "id" || column == "tags" || column == "audiences" {
				continue
			}
			field := rule.Field(column)
			if o, ok := own[column]; ok {
				field = o
			} else if d, ok := person.Define(field); ok {
				if v, err = d.Tidy(v, ""); err != nil {
					return x.Fail("%s: %v", column, err)
				}
			}
			p.record.Values[field] = v
		}
		p.record.Fit = f.Model.Fit.Of(&p.record)
		out = append(out, p)
		return nil
	})
	return out, err
}

// ReadSignals reads what people did: person, at (RFC 3339), kind (in words, as "click"); where they are known,
// sequence, message, page and event (by the names or the numbers that the model's file has), step and link
// (numbers), machine (yes or no), and the points that a step gave.
func ReadSignals(r io.Reader, people []*Somebody, f *File) error {
	byID := make(map[string]*Somebody, len(people))
	for _, p := range people {
		byID[p.ID] = p
	}
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
		var wrong error
		rule.ReferPlace(&s.Place, func(what rule.Ref, id *int64) {
			if *id, err = f.number(what, x.Get(string(what))); err != nil {
				wrong = x.Fail("%v", err)
			}
		})
		for column, to := range map[string]*int32{"step": &s.Step, "link": &s.Link} {
			if v := x.Get(column); v != "" {
				n, err := strconv.ParseInt(v, 10, 32)
				if err != nil || n <= 0 {
					return x.Fail("the %s %q is no number", column, v)
				}
				*to = int32(n)
			}
		}
		if v := x.Get("points"); v != "" {
			if s.Worth, err = strconv.Atoi(v); err != nil || s.Worth < -maxPoints || s.Worth > maxPoints {
				return x.Fail("the points %q are no whole number from −1000 to 1000", v)
			}
		}
		if s.Machine, err = x.Yes("machine"); err != nil {
			return err
		}
		p.Signals = append(p.Signals, s)
		return wrong
	})
	for _, p := range people {
		signal.Sort(p.Signals)
	}
	return err
}

// number is by which number the file knows something: one that has a name there, or is one. What no rule asks for has
// none.
func (f *File) number(what rule.Ref, text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	for number, name := range f.Names[what] {
		if strings.EqualFold(name, text) {
			text = number
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, nil // elsewhere than where a rule asks for
	}
	if n <= 0 {
		return 0, fmt.Errorf("the %s %q is no number", what, text)
	}
	return n, nil
}

// Count counts everybody at an instant and writes it as CSV: person, score, band, fit, fit band, at the line, and the
// ledger, an entry after the other.
func (f *File) Count(w io.Writer, people []*Somebody, at time.Time) error {
	m := &f.Model
	out := csv.NewWriter(w)
	if err := out.Write([]string{"person", "score", "band", "fit", "fit band", "at the line", "ledger"}); err != nil {
		return err
	}
	name := func(bands []rule.Band, v float64) string {
		if i := BandOf(bands, v); i >= 0 {
			return bands[i].Name
		}
		return ""
	}
	var ledger []Entry
	cat := f.Catalogue()
	for _, p := range people {
		ledger = m.Ledger(ledger[:0], p.Signals, p, at)
		slices.SortStableFunc(ledger, func(a, b Entry) int { return a.At.Compare(b.At) })
		is := m.Stands(Sum(ledger, at), p.record.Fit, true)
		line := "no"
		if is.Ready {
			line = "yes"
		}
		var lines []string
		for i := range ledger {
			if ledger[i].Worth(at) != 0 {
				lines = append(lines, m.entry(&ledger[i], at, cat))
			}
		}
		if err := out.Write([]string{p.ID, strconv.FormatFloat(is.Score, 'f', -1, 64), name(m.Bands, is.Score),
			strconv.Itoa(p.record.Fit), name(m.FitBands, float64(p.record.Fit)), line,
			strings.Join(lines, "; ")}); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// entry is a line of a ledger in words: "3 for click, 2026-04-14T09:20:00Z to 2026-05-14T09:20:00Z".
func (m *Model) entry(e *Entry, at time.Time, cat *rule.Catalogue) string {
	s := strconv.FormatFloat(e.Worth(at), 'f', -1, 64) + " for " + m.Rules[e.Rule].For(cat)
	if !e.At.IsZero() {
		s += ", " + e.At.UTC().Format(time.RFC3339Nano)
	}
	if !e.Until.IsZero() {
		s += " to " + e.Until.UTC().Format(time.RFC3339Nano)
	}
	return s
}

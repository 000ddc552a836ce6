package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/core/trace"
)

// tracing is what `ombak trace` is asked for.
type tracing struct {
	sequence, people, signals, outcomes string // files
	until, launched                     string // instants
	zone                                string // of those of whom nothing is known
}

func runTrace(_ context.Context, c config) error {
	var x tracing
	f := flag.NewFlagSet("ombak trace", flag.ContinueOnError)
	f.StringVar(&x.sequence, "sequence", "", "the file of the sequence")
	f.StringVar(&x.people, "people", "", "the people, as CSV or JSON")
	f.StringVar(&x.signals, "signals", "", "what they do, as CSV or JSON")
	f.StringVar(&x.outcomes, "outcomes", "", "what comes of calls, social touches and tasks, as CSV or JSON")
	f.StringVar(&x.until, "until", "", "the instant up to which it runs")
	f.StringVar(&x.launched, "launched", "", "the instant of the launch, for the launch hold; without it there is none")
	f.StringVar(&x.zone, "zone", "UTC", "the time zone of those of whom no place is known")
	if err := f.Parse(os.Args[2:]); err != nil {
		return err
	}
	if x.sequence == "" || x.people == "" || x.until == "" || f.NArg() > 0 {
		f.Usage()
		return errors.New("trace needs --sequence, --people and --until")
	}
	out := bufio.NewWriter(os.Stdout)
	if err := x.run(out); err != nil {
		return err
	}
	return out.Flush()
}

// run writes every step of everybody, person by person in the order of their file.
func (x tracing) run(w io.Writer) error {
	until, err := time.Parse(time.RFC3339Nano, x.until)
	if err != nil {
		return fmt.Errorf("--until: %w", err)
	}
	zone, err := calendar.Zone(x.zone)
	if err != nil {
		return fmt.Errorf("--zone: %w", err)
	}
	f, err := readSequence(x.sequence)
	if err != nil {
		return err
	}
	var hold time.Time
	if x.launched != "" && f.Plan.LaunchHold {
		at, err := time.Parse(time.RFC3339Nano, x.launched)
		if err != nil {
			return fmt.Errorf("--launched: %w", err)
		}
		hold = calendar.Span{N: 1, Unit: calendar.WorkingDays}.After(at, zone, calendar.Working{})
	}
	program, err := sequence.Compile(f.Plan, trace.Sequence, hold, calendar.Working{})
	if err != nil {
		return err
	}
	var people []*trace.Person
	if err := reading(x.people, func(r io.Reader) (err error) {
		people, err = trace.ReadPeople(r, f, zone)
		return err
	}); err != nil {
		return err
	}
	if x.signals != "" {
		if err := reading(x.signals, func(r io.Reader) error { return trace.ReadSignals(r, people) }); err != nil {
			return err
		}
	}
	if x.outcomes != "" {
		if err := reading(x.outcomes, func(r io.Reader) error {
			return trace.ReadOutcomes(r, people, f.Plan)
		}); err != nil {
			return err
		}
	}
	var lines []trace.Line
	for _, p := range people {
		lines = append(lines, trace.Run(program, p, until)...)
	}
	return trace.Write(w, lines)
}

func readSequence(file string) (f *sequence.File, err error) {
	err = reading(file, func(r io.Reader) (err error) { f, err = sequence.ReadFile(r); return err })
	return f, err
}

func reading(file string, read func(io.Reader) error) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := read(bufio.NewReader(f)); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return nil
}

// runCheck prints what keeps the sequence of a file from being launched, as far as the
// file alone can tell. It fails where there is anything.
func runCheck(_ context.Context, c config) error {
	if len(os.Args) != 3 {
		return errors.New("ombak check FILE")
	}
	n, err := check(os.Args[2], os.Stdout)
	if err == nil && n > 0 {
		err = fmt.Errorf("%d to mend before it can be launched", n)
	}
	return err
}

func check(file string, w io.Writer) (n int, err error) {
	f, err := readSequence(file)
	if err != nil {
		return 0, err
	}
	problems := f.Plan.Check()
	for _, p := range problems {
		where := "the plan"
		if s := f.Plan.Step(p.Step); s != nil {
			where = fmt.Sprintf("step %d “%s”", p.Step, s.About().Title)
		}
		if _, err := fmt.Fprintf(w, "%s: %s\n", where, p.Text); err != nil {
			return 0, err
		}
	}
	if len(problems) == 0 {
		_, err = fmt.Fprintf(w, "“%s”: nothing keeps it from being launched\n", f.Name)
	}
	return len(problems), err
}

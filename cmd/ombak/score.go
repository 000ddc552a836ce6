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

	"ombak/internal/core/score"
)

// scoring is what `ombak score` is asked for.
type scoring struct {
	model, people, signals string // files
	at                     string // an instant
}

func runScore(_ context.Context, c config) error {
	var x scoring
	f := flag.NewFlagSet("ombak score", flag.ContinueOnError)
	f.StringVar(&x.model, "model", "", "the file of the score model")
	f.StringVar(&x.people, "people", "", "the people, as CSV or JSON")
	f.StringVar(&x.signals, "signals", "", "what they did, as CSV or JSON")
	f.StringVar(&x.at, "at", "", "the instant at which they are counted")
	if err := f.Parse(os.Args[2:]); err != nil {
		return err
	}
	if x.model == "" || x.people == "" || x.at == "" || f.NArg() > 0 {
		f.Usage()
		return errors.New("score needs --model, --people and --at")
	}
	out := bufio.NewWriter(os.Stdout)
	if err := x.run(out); err != nil {
		return err
	}
	return out.Flush()
}

// run writes everybody's score, band and ledger, in the order of their file.
func (x scoring) run(w io.Writer) error {
	at, err := time.Parse(time.RFC3339Nano, x.at)
	if err != nil {
		return fmt.Errorf("--at: %w", err)
	}
	var f *score.File
	if err := reading(x.model, func(r io.Reader) (err error) { f, err = score.ReadFile(r); return err }); err != nil {
		return err
	}
	if err := f.Model.Check(f.Catalogue()); err != nil {
		return fmt.Errorf("%s: %w", x.model, err)
	}
	var people []*score.Somebody
	if err := reading(x.people, func(r io.Reader) (err error) {
		people, err = score.ReadPeople(r, f)
		return err
	}); err != nil {
		return err
	}
	if x.signals != "" {
		if err := reading(x.signals, func(r io.Reader) error { return score.ReadSignals(r, people, f) }); err != nil {
			return err
		}
	}
	return f.Count(w, people, at)
}

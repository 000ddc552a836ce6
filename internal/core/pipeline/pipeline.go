// Package pipeline knows the stages a deal goes through and what they promise.
package pipeline

import (
	"math"

	"ombak/internal/core/plainly"
)

// Stage is a column of the pipeline.
type Stage struct {
	ID    int64
	Name  string
	Share int  // percent of deals in it that are won in the end
	Won   bool // a closed stage: won
	Lost  bool // a closed stage: lost

	Pipeline int64 // to which it belongs; 0: the first

	Nurture int64 // of lost: the sequence into which whoever is lost comes back; 0: none
	After   int   // after so many days
}

// Pipeline is the way of one kind of deal: stages of its own.
type Pipeline struct {
	ID   int64
	Name string
	Team int64 // whose reps begin their deals in it; 0: nobody’s by itself
}

// Check reports what of the pipeline cannot be, or nil.
func (p Pipeline) Check() error {
	if p.Name == "" || len(p.Name) > 80 {
		return plainly.New("a pipeline has a name of at most 80 letters")
	}
	return nil
}

// MaxStages bounds a pipeline, and MaxPipelines how many there are.
const (
	MaxStages    = 20
	MaxPipelines = 20
)

// Check reports what of the stage cannot be, or nil.
func (s Stage) Check() error {
	switch {
	case s.Name == "":
		return plainly.New("a stage has a name")
	case len(s.Name) > 80:
		return plainly.New("a stage’s name has at most 80 letters")
	case s.Share < 0 || s.Share > 100:
		return plainly.New("a stage’s chance is a whole number from 0 to 100 %")
	case s.Won && s.Lost:
		return plainly.New("a stage is won or lost, not both")
	case s.Nurture != 0 && !s.Lost:
		return plainly.New("only whoever is lost comes back to nurture")
	case s.After < 0 || s.After > 3660:
		return plainly.New("whoever is lost comes back after 0 to 3660 days")
	}
	return nil
}

// Closed reports whether deals in the stage are done with.
func (s Stage) Closed() bool { return s.Won || s.Lost }

// Sum is the deals of one stage together. Amounts are in cents.
type Sum struct {
	Stage  int64
	Deals  int
	Amount int64
}

// Column is what stands in one stage.
type Column struct {
	Stage  Stage
	Deals  int
	Amount int64 // sum, in cents
}

// Forecast puts sums to their stages and answers what the open ones promise: each
// amount weighted with its stage's share. A stage may have several; what is in no
// known stage is left out.
func Forecast(stages []Stage, sums []Sum) (columns []Column, promised int64) {
	at := map[int64]int{}
	for i, s := range stages {
		at[s.ID] = i
		columns = append(columns, Column{Stage: s})
	}
	weighted := 0.0
	for _, d := range sums {
		i, ok := at[d.Stage]
		if !ok {
			continue
		}
		columns[i].Deals += d.Deals
		columns[i].Amount += d.Amount
		if !columns[i].Stage.Closed() {
			weighted += float64(d.Amount) * float64(columns[i].Stage.Share) / 100
		}
	}
	return columns, int64(math.Round(weighted))
}

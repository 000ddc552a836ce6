package pipeline

import (
	"slices"

	"ombak/internal/core/plainly"
)

// Part is as what somebody takes part in a deal.
type Part string

// The parts people have in buying (common practice, no source).
const (
	TakesPart Part = ""
	Decides   Part = "decides"
	Pays      Part = "pays"
	Uses      Part = "uses it"
	SpeaksFor Part = "speaks for us"
	Advises   Part = "advises"
	Against   Part = "is against it"
)

// Parts lists them.
func Parts() []Part { return []Part{TakesPart, Decides, Pays, Uses, SpeaksFor, Advises, Against} }

// String is a part in words.
func (p Part) String() string {
	if p == TakesPart {
		return "takes part"
	}
	return string(p)
}

// Key is a part as it is kept.
func (p Part) Key() string { return string(p) }

// Check reports what is wrong with a part.
func (p Part) Check() error {
	if !slices.Contains(Parts(), p) {
		return plainly.New("that is no part somebody can have in a deal")
	}
	return nil
}

// Bounds of a deal.
const (
	MostParts = 50       // people who take part in a deal, besides the one it is about
	MostFiles = 50       // files
	MaxFile   = 10 << 20 // bytes of one file
)

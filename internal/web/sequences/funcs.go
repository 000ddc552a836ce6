package sequences

import (
	"fmt"
	"html/template"

	"ombak/internal/core/sequence"
)

func stepTitle(p *sequence.Plan, id sequence.StepID) string {
	if s := p.Step(id); s != nil {
		return s.About().Title
	}
	return ""
}

var stepFuncs = template.FuncMap{
	"stepTitle": stepTitle,
	"neg":       func(x float64) float64 { return -x },
	"under":     func(top, bottom float64) float64 { return bottom - top },
	"branch":    branchWords,
	"mayStay":   sequence.MayStay,
	"lates":     sequence.Lates,
	"clock":     func(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) },
}

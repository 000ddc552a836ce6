package sequence

// Line is a line of a plan told as a list: a step, or that a stream goes on at a step that
// was told before.
type Line struct {
	Step   Step
	Number int    // of the step in the list, from 1
	Depth  int    // how many branches deep
	Answer string // of the exit that leads here, where there are several: "Clicked"
	Again  bool   // it was told before, under that number
}

// Outline tells the plan as a list, for whoever reads it in sentences: each step once, what
// follows by its main exit first where there is one exit, else each exit as a branch.
func (p *Plan) Outline() []Line {
	numbers := map[StepID]int{}
	var out []Line
	var tell func(id StepID, depth int, answer string)
	tell = func(id StepID, depth int, answer string) {
		for {
			s := p.Step(id)
			if s == nil {
				return
			}
			if n := numbers[id]; n > 0 {
				out = append(out, Line{Step: s, Number: n, Depth: depth, Answer: answer, Again: true})
				return
			}
			numbers[id] = len(numbers) + 1
			out = append(out, Line{Step: s, Number: numbers[id], Depth: depth, Answer: answer})
			exits := s.Exits()
			if len(exits) != 1 {
				for i, e := range exits {
					to := s.About().To[e]
					words := s.Answer(e)
					told := false
					for j, o := range exits { // exits that meet are told together, with the first
						if s.About().To[o] == to && j < i {
							told = true
						}
						if s.About().To[o] == to && j > i {
							words += ", " + s.Answer(o)
						}
					}
					if !told {
						tell(to, depth+1, words)
					}
				}
				return
			}
			id, answer = s.About().To[exits[0]], ""
		}
	}
	tell(p.Start, 0, "")
	return out
}

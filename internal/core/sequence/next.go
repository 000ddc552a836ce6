package sequence

// NextEmails lists the emails that somebody at a step may get next: the first on each way from
// there, that of the step itself included.
func (p *Plan) NextEmails(at StepID) (out []*Email) {
	seen := map[StepID]bool{}
	var walk func(StepID)
	walk = func(id StepID) {
		s := p.Step(id)
		if s == nil || seen[id] {
			return
		}
		seen[id] = true
		if e, ok := s.(*Email); ok {
			out = append(out, e)
			return
		}
		for _, exit := range s.Exits() {
			walk(s.About().To[exit])
		}
	}
	walk(at)
	return out
}

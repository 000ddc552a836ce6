package sequence

import "slices"

// MayStay lists the reasons for which a plan can let people stay. Who opts out, bounces or
// complains always leaves.
func MayStay() []Reason {
	return []Reason{Answered, SaidYes, SaidLater, SaidNo, NotTheOne, MetUs, DealOpened, JoinedExclusion}
}

// What an answer came to when somebody read it: those end a way that the answer itself did not.
const (
	SaidYes   Reason = "said they are interested"
	SaidLater Reason = "said not now"
	SaidNo    Reason = "said they are not interested"
	NotTheOne Reason = "are the wrong person"
)

// JoinedExclusion is why somebody left who came to be among those whom the entry leaves out: in
// one of its audiences, or on one of its sequences.
const JoinedExclusion Reason = "joined an exclusion"

// Stays reports whether nobody leaves the plan for a reason.
func (p *Plan) Stays(r Reason) bool {
	return slices.Contains(p.Stay, r) && slices.Contains(MayStay(), r)
}

// LeftByRule is why somebody left who met the plan's own leave rule, as of the look at which
// they did.
const LeftByRule Reason = "left by its rule"

// Why whoever knows a person takes them out by hand.
const (
	WrongOne     Reason = "taken out: wrong person"
	ByPhone      Reason = "taken out: answered by phone"
	MetInPerson  Reason = "taken out: met in person"
	TheyAskedFor Reason = "taken out: they asked for it"
)

// WhyTakenOut lists the reasons that somebody can give who takes a person out.
func WhyTakenOut() []Reason { return []Reason{WrongOne, ByPhone, MetInPerson, TheyAskedFor} }

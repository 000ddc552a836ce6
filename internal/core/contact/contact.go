// Package contact is the one rule of whether somebody may be reached now: by
// which channel, on what ground, and why not.
//
// Everything that goes out asks it: emails of sequences, to an audience and by
// hand, what forms bring, and calls. The store holds the same rule in SQL, and a
// test holds both against each other.
package contact

// Reason is why somebody may not be reached; empty where they may.
type Reason string

// The reasons, in the order in which they are looked at.
const (
	Erased       Reason = "erased"
	NoAddress    Reason = "no address"
	NoNumber     Reason = "no number"
	NoProfile    Reason = "no profile"
	NoPostal     Reason = "no postal address"
	DoNotContact Reason = "do not contact"
	OptedOut     Reason = "opted out"
	NoCalls      Reason = "asked not to be called"
	Bounced      Reason = "address bounces"
	TookBack     Reason = "took consent back"
	NoConsent    Reason = "no consent"
	NoGround     Reason = "no ground"
)

// Reasons lists them in their order.
func Reasons() []Reason {
	return []Reason{Erased, NoAddress, NoNumber, NoProfile, NoPostal, DoNotContact, OptedOut, NoCalls, Bounced,
		TookBack, NoConsent, NoGround}
}

// Channel is a way to reach somebody.
type Channel int8

// The channels.
const (
	Email Channel = iota
	Call
	Social
	Post
)

// Channels lists them.
func Channels() []Channel { return []Channel{Email, Call, Social, Post} }

// Consent is what somebody said of a purpose.
type Consent int8

// What they said.
const (
	Nothing Consent = iota
	Agreed
	Withdrawn
)

// Said is what somebody said of one purpose.
type Said struct {
	Purpose int64
	Is      Consent
}

// Consents are what somebody said, of each purpose at most once.
type Consents []Said

// To is what they said of a purpose.
func (c Consents) To(purpose int64) Consent {
	for _, s := range c {
		if s.Purpose == purpose {
			return s.Is
		}
	}
	return Nothing
}

// Ground is why one may reach somebody: consent to a purpose, their own
// request, or another that the marketer names and the workspace allows. The
// zero Ground is none.
//
// What anybody can have typed into a form is Claimed: a request made in their
// name by somebody who has not proved to be them. It still goes to somebody who
// opted out, because pressing the link in it is how they prove to have come
// back, but neither where they must not be contacted nor where the address
// bounces.
type Ground struct {
	Purpose int64  `json:"purpose,omitempty"`
	Other   string `json:"other,omitempty"`
	Request bool   `json:"request,omitempty"`
	Claimed bool   `json:"claimed,omitempty"`
}

// Named reports whether there is a ground at all.
func (g Ground) Named() bool { return g.Request || g.Claimed || g.Purpose != 0 || g.Other != "" }

// Facts are what is asked about one person.
type Facts struct {
	Erased       bool
	Email        bool // an address is known
	Phone        bool // a number is known
	Profile      bool // an address on the network is known
	Postal       bool // a street and a town are known
	DoNotContact bool
	OptedOut     bool // or complained
	NoCalls      bool // asked not to be called
	Bounced      bool
	Consents     Consents
}

// Why is the reason why somebody may not be reached by a channel on a ground.
// Do-not-contact, an opt-out, a bounce and a complaint beat every ground but
// one's own request; a bounce is about the address and says nothing of calls.
func Why(f Facts, by Channel, g Ground) Reason {
	switch {
	case f.Erased:
		return Erased
	case by == Email && !f.Email:
		return NoAddress
	case by == Call && !f.Phone:
		return NoNumber
	case by == Social && !f.Profile:
		return NoProfile
	case by == Post && !f.Postal:
		return NoPostal
	case g.Request:
		return ""
	case f.DoNotContact:
		return DoNotContact
	case f.OptedOut && !g.Claimed:
		return OptedOut
	case by == Call && f.NoCalls:
		return NoCalls
	case by == Email && f.Bounced:
		return Bounced
	case g.Claimed:
		return ""
	case g.Purpose != 0 && f.Consents.To(g.Purpose) == Withdrawn:
		return TookBack
	case g.Purpose != 0 && f.Consents.To(g.Purpose) == Nothing:
		return NoConsent
	case !g.Named():
		return NoGround
	}
	return ""
}

// Reachable reports whether somebody could be reached by some channel that a rep has,
// whatever the ground: what the ready line asks before a rep is given them. A card is none.
func Reachable(f Facts) bool {
	some := Ground{Other: "any"}
	for _, by := range []Channel{Email, Call, Social} {
		if Why(f, by, some) == "" {
			return true
		}
	}
	return false
}

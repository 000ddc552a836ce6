package handoff

import (
	"fmt"
	"slices"
	"time"
)

// Rep is somebody who can be handed people.
type Rep struct {
	ID       int64
	Name     string
	Teams    []int64
	Capacity int // most open handoffs at a time; 0: no limit
	Open     int // open handoffs now
	Away     bool
	Weight   int       // how many turns they have where one with a weight of 1 has one; 0: none
	Last     time.Time // last handed somebody
	Turn     float64   // up to where their turns have gone: each moves it by 1/Weight
}

// MaxWeight is the most turns that somebody has beside one.
const MaxWeight = 20

func (r *Rep) room() bool { return !r.Away && (r.Capacity == 0 || r.Open < r.Capacity) }

// How tells by which rule a rep was chosen.
type How string

// The ways, in the order in which they are tried. Pool means nobody has room:
// it waits, and the lead sees it.
const (
	ByOwner   How = "owner"
	ByCompany How = "owner of others at the company"
	ByPlace   How = "territory"
	InTurn    How = "in turn"
	Pool      How = "waiting in the pool"
)

// Case is somebody who is to be handed over.
type Case struct {
	Owner   int64       // 0: nobody
	Company []int64     // who owns others at the company, whoever owns most of them first
	Places  []Territory // whose rules hold for them, in their order
	Not     []int64     // who had them offered and let the clock run out
}

// Territory is where a rule sends people: to a rep, or to whoever is next of a team.
type Territory struct {
	ID   int64
	Name string
	Rep  int64
	Team int64
}

// Decision is who gets somebody, by which rule, and what was asked before.
type Decision struct {
	Rep   int64 // 0: it waits in the pool
	How   How
	Place string   // the territory; empty: none decided
	Why   []string // in the order in which it was asked, the last what decided
}

// Route decides who gets somebody: their owner; the owner of others at the company; the first territory whose rule
// holds; whoever is next in turn among those with room. Owners are given them whether they have room or not, unless
// they are away: the person knows them. A territory whose rep is away, or of whose team nobody has room, decides
// nothing. When nobody has room, it waits in the pool.
func Route(c Case, reps []Rep) Decision {
	d := Decision{How: Pool}
	say := func(format string, args ...any) { d.Why = append(d.Why, fmt.Sprintf(format, args...)) }
	find := func(id int64) *Rep {
		if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == id }); i >= 0 {
			return &reps[i]
		}
		return nil
	}
	// may says why somebody who is named does not get them; empty: they may.
	may := func(r *Rep) string {
		switch {
		case slices.Contains(c.Not, r.ID):
			return "had them offered before"
		case r.Away:
			return "is away"
		}
		return ""
	}
	if c.Owner == 0 {
		say("they have no owner")
	} else if r := find(c.Owner); r == nil {
		say("their owner is no rep")
	} else if why := may(r); why != "" {
		say("their owner, %s, %s", r.Name, why)
	} else {
		say("%s is their owner", r.Name)
		d.Rep, d.How = r.ID, ByOwner
		return d
	}
	named := false
	for _, id := range c.Company {
		r := find(id)
		if r == nil {
			continue
		}
		named = true
		if why := may(r); why != "" {
			say("%s, who has others at their company, %s", r.Name, why)
			continue
		}
		say("%s has others at their company", r.Name)
		d.Rep, d.How = r.ID, ByCompany
		return d
	}
	if !named {
		say("no rep has others at their company")
	}
	if len(c.Places) == 0 {
		say("no territory is theirs")
	}
	for _, t := range c.Places {
		switch r := find(t.Rep); {
		case t.Rep != 0 && r == nil:
			say("the territory “%s” is nobody’s who is a rep", t.Name)
		case t.Rep != 0 && may(r) != "":
			say("%s, who has the territory “%s”, %s", r.Name, t.Name, may(r))
		case t.Rep != 0:
			say("%s has the territory “%s”", r.Name, t.Name)
			d.Rep, d.How, d.Place = r.ID, ByPlace, t.Name
			return d
		default:
			if i := next(reps, t.Team, c.Not); i >= 0 {
				say("%s is next of those who have the territory “%s”", reps[i].Name, t.Name)
				d.Rep, d.How, d.Place = reps[i].ID, ByPlace, t.Name
				return d
			}
			say("nobody who has the territory “%s” has room", t.Name)
		}
	}
	if i := next(reps, 0, c.Not); i >= 0 {
		say("%s is next in turn", reps[i].Name)
		d.Rep, d.How = reps[i].ID, InTurn
		return d
	}
	say("nobody has room")
	return d
}

// next is whose turn it is of those of a team (0: of all) with room; −1: nobody’s. Turns are shared out by weights, as
// start-time fair queueing does (P. Goyal, H. M. Vin and H. Cheng, 1996): whoever had no room or was away for a while
// does not get all that they missed. Among equals it is who has waited longest, then the lower ID.
func next(reps []Rep, team int64, not []int64) int {
	now, best := now(reps), -1
	for i := range reps {
		r := &reps[i]
		if !r.room() || r.Weight <= 0 || slices.Contains(not, r.ID) || team != 0 && !slices.Contains(r.Teams, team) {
			continue
		}
		if best < 0 {
			best = i
			continue
		}
		b := &reps[best]
		mine, theirs := r.start(now), b.start(now)
		switch {
		case mine != theirs:
			if mine < theirs {
				best = i
			}
		case !r.Last.Equal(b.Last):
			if r.Last.Before(b.Last) {
				best = i
			}
		case r.ID < b.ID:
			best = i
		}
	}
	return best
}

// now is where turns are: the start of the last that was taken.
func now(reps []Rep) float64 {
	at := 0.0
	for i := range reps {
		if r := &reps[i]; r.Weight > 0 && r.Turn > 0 {
			at = max(at, r.Turn-1/float64(r.Weight))
		}
	}
	return at
}

// start is where a rep's next turn begins.
func (r *Rep) start(now float64) float64 { return max(r.Turn, now) }

// Given keeps in reps that one of them was handed somebody at an instant, so that
// whoever comes next is routed by it. A rep that is none of them changes nothing.
func Given(reps []Rep, rep int64, at time.Time) {
	HadTurn(reps, rep, at)
	if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == rep }); i >= 0 {
		reps[i].Open++
	}
}

// HadTurn keeps in reps that it was the turn of one of them.
func HadTurn(reps []Rep, rep int64, at time.Time) {
	if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == rep }); i >= 0 {
		r := &reps[i]
		if r.Last = at; r.Weight > 0 {
			r.Turn = r.start(now(reps)) + 1/float64(r.Weight)
		}
	}
}

// Package right says who may do what to something that is somebody's: a call or
// a task on a desk, a handoff, a deal.
//
// Which roles come to a place at all is for the place to say. Of what is there,
// everybody may do what is theirs and what is nobody's yet; leads and admins may
// do anybody's. What waits for a team is for those in it to take.
package right

// Role is what somebody is here.
type Role string

// The roles there are.
const (
	Marketer Role = "marketer"
	Rep      Role = "rep"
	Lead     Role = "lead"
	Admin    Role = "admin"
)

// Roles lists them in the order in which a form offers them.
func Roles() []Role { return []Role{Marketer, Rep, Lead, Admin} }

// Known reports whether there is such a role.
func (r Role) Known() bool { return r == Marketer || r == Rep || r == Lead || r == Admin }

// Who is somebody who does something.
type Who struct {
	ID   int64
	Role Role
	Team int64 // 0: none
}

// MayTake reports whether somebody may take what waits for a team.
func (w Who) MayTake(of int64) bool {
	return of == w.Team && of != 0 && w.Role.Known() || w.Role == Lead || w.Role == Admin
}

// May reports whether somebody may do what belongs to a user; 0: to nobody yet.
func (w Who) May(of int64) bool {
	return of == 0 && w.Role.Known() || of == w.ID && w.ID != 0 || w.Role == Lead || w.Role == Admin
}

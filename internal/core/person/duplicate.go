package person

import (
	"strings"
)

// Known is what is looked at to tell whether two records are one person.
type Known struct {
	First, Last string
	Emails      []string // as Email has them
	Phones      []string // as Phone has them
	Company     string   // whatever tells one company from another; empty: unknown
}

// Alike says why two records are likely one person, or "" where nothing says
// so: an address that differs by dots or a plus part alone, the same telephone
// number with a name in common, or the same name at the same company. Common
// practice, no source.
func Alike(a, b *Known) string {
	for _, x := range a.Emails {
		for _, y := range b.Emails {
			if x != y && Mailbox(x) == Mailbox(y) {
				return "addresses that differ by a dot or a plus part: " + x + " and " + y
			}
		}
	}
	nameA, nameB := nameKey(a.First, a.Last), nameKey(b.First, b.Last)
	for _, x := range a.Phones {
		for _, y := range b.Phones {
			// Colleagues share a switchboard; one of the names must agree or be unknown.
			if x == y &&
				(nameA == "" || nameB == "" || nameKey(a.First) == nameKey(b.First) ||
					nameKey(a.Last) == nameKey(b.Last)) {
				return "the same telephone number: " + ShowPhone(x)
			}
		}
	}
	if a.First != "" && a.Last != "" && nameA == nameB && a.Company != "" && a.Company == b.Company {
		return "the same name at the same company"
	}
	return ""
}

// Mailbox is the form of an address in which dots and a plus part before the @
// do not count, as many mail services have it. It is for finding likely
// doubles, never for sending.
func Mailbox(email string) string {
	at := strings.LastIndexByte(email, '@')
	if at < 0 {
		return email
	}
	local, _, _ := strings.Cut(email[:at], "+")
	return strings.ReplaceAll(local, ".", "") + email[at:]
}

func nameKey(parts ...string) string {
	return strings.ToLower(strings.TrimSpace(strings.Join(parts, " ")))
}

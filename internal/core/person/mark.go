package person

import (
	"strconv"
	"strings"
)

// Marks are what is on a record and no field: in the history of its changes
// they stand beside the fields, with "yes" for what is there and "" for what
// is not.
const (
	DoNotContact Field = "do not contact"

	TagMark      = "tag"      // tag 12
	AudienceMark = "audience" // audience 3, hand-picked
	ConsentMark  = "consent"  // consent 1
	AlsoEmail    = "also email"
	AlsoPhone    = "also phone"
)

// Mark is the key of a mark: of a tag by its number, of a further address by
// itself.
func Mark(kind string, what any) Field {
	switch x := what.(type) {
	case int64:
		return Field(kind + " " + strconv.FormatInt(x, 10))
	case string:
		return Field(kind + " " + x)
	}
	return ""
}

// MarkOf takes a key apart; kind is empty for a field.
func MarkOf(f Field) (kind, what string, id int64) {
	for _, k := range []string{TagMark, AudienceMark, ConsentMark, AlsoEmail, AlsoPhone} {
		if rest, ok := strings.CutPrefix(string(f), k+" "); ok {
			id, _ = strconv.ParseInt(rest, 10, 64) // zero for an address
			return k, rest, id
		}
	}
	if f == DoNotContact {
		return string(DoNotContact), "", 0
	}
	return "", "", 0
}

// Values are what is known of somebody, by field or mark; what is not known is
// not there.
type Values map[Field]string

// Diff is what setting set changes in now: by field, the value before and
// after.
func Diff(now, set Values) (before, after Values) {
	before, after = Values{}, Values{}
	for f, v := range set {
		if now[f] != v {
			before[f], after[f] = now[f], v
		}
	}
	return before, after
}

// Revert is what takes a change back: the values before it, where those after
// it still stand. kept counts the fields that something else has changed since
// and that are left alone.
func Revert(before, after, now Values) (set Values, kept int) {
	set = Values{}
	for f, v := range after {
		if now[f] != v {
			kept++
			continue
		}
		set[f] = before[f]
	}
	return set, kept
}

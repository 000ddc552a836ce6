package store

// LookUpNobody has words asked of each row, as those are that many people have,
// for so many rows.
func LookUpNobody(walk int) (back func()) {
	few, most := fewHave, walkAtMost
	fewHave, walkAtMost = -1, walk
	return func() { fewHave, walkAtMost = few, most }
}

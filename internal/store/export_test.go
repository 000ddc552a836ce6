package store

// AskRows has words asked of each row, as those are that many people have, for
// so many rows.
func AskRows(walk float64) (back func()) {
	few, most, times := fewHave, walkAtMost, walkTimes
	fewHave, walkAtMost, walkTimes = map[Order]float64{}, walk, walk
	return func() { fewHave, walkAtMost, walkTimes = few, most, times }
}

// LikeOne is what PairsOf asks, for a test of how it is answered.
var LikeOne = likeOne

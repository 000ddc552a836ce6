package store

// AskRows has words asked of each row, as those are that many people have, for
// so many rows.
func AskRows(walk float64) (back func()) {
	few, most, times := fewHave, walkAtMost, walkTimes
	fewHave, walkAtMost, walkTimes = map[Order]float64{}, walk, walk
	return func() { fewHave, walkAtMost, walkTimes = few, most, times }
}

// AskFirst has a description asked of so many of an order's first, one by one; to look for all of whom it is true is at
// no cost the work of a moment, or at any.
func AskFirst(n int, moment float64) (back func()) {
	one, signals, most, cost := askAtOnce, askSignalsAtOnce, askAtMost, momentCost
	askAtOnce, askSignalsAtOnce, askAtMost, momentCost = n, n, n, moment
	return func() { askAtOnce, askSignalsAtOnce, askAtMost, momentCost = one, signals, most, cost }
}

// MovePatience has months that are in use be waited for as long.
func MovePatience(wait string) (back func()) {
	was := movePatience
	movePatience = wait
	return func() { movePatience = was }
}

// LikeOne is what PairsOf asks, for a test of how it is answered.
var LikeOne = likeOne

// WordsOf and RareParts are what a search is made of.
var (
	WordsOf   = wordsOf
	RareParts = rareParts
)

// ForgetShares has it be looked anew how often trigrams are.
func (db Queries) ForgetShares() {
	db.grams.mu.Lock()
	defer db.grams.mu.Unlock()
	clear(db.grams.of)
}

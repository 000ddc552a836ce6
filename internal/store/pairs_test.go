package store_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ombak/internal/store"
)

// Records that may be one person's are found by equality, each way by an index: a million
// others are not looked at.
func TestPairsAreFoundByIndexes(t *testing.T) {
	k := open(t)
	var ids []int64
	for i, p := range []store.NewPerson{
		{Email: "ana.radu@x.example", First: "Ana", Last: "Radu", Company: "Otterfield Pens"},
		{Email: "anaradu+fair@x.example", First: "A", Last: "R", Company: "Otterfield Pens"},
		{Email: "a@y.example", First: "ANA", Last: "radu", Company: "Otterfield Pens"},
		{Email: "b@y.example", First: "Ana", Last: "Radu", Company: "Moonwick Harbour"},
	} {
		id, fresh := k.meet(p)
		if !fresh {
			t.Fatalf("person %d is known", i)
		}
		ids = append(ids, id)
	}
	list, err := k.PairsOf(k.ctx, ids[0])
	k.must(err)
	slices.SortFunc(list, func(a, b store.Pair) int { return int(a.B - b.B) })
	if want := []store.Pair{{A: ids[0], B: ids[1]}, {A: ids[0], B: ids[2]}}; !slices.Equal(list, want) {
		t.Errorf("pairs %v, want %v", list, want)
	}
	tx, err := k.DB().BeginTx(k.ctx, nil)
	k.must(err)
	defer tx.Rollback()
	_, err = tx.Exec("set local enable_seqscan = off") // of four people no index would be asked
	k.must(err)
	rows, err := tx.Query("explain " + strings.ReplaceAll(store.LikeOne, "$1", fmt.Sprint(ids[0])))
	k.must(err)
	var plan []string
	for rows.Next() {
		var line string
		k.must(rows.Scan(&line))
		plan = append(plan, line)
	}
	k.must(rows.Err())
	said := strings.Join(plan, "\n")
	for _, index := range []string{"person_mail_key", "person_name", "person_phone"} {
		if !strings.Contains(said, index) && !(index == "person_name" && strings.Contains(said, "person_company")) {
			t.Errorf("%s is not used:\n%s", index, said)
		}
	}
}

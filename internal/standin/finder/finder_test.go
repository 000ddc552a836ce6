package finder

import (
	"context"
	"fmt"
	"net/http/httptest"
	"testing"

	client "ombak/internal/finder"
)

// Of most people it finds something, the same each time; of who has no name or company nothing.
func TestFind(t *testing.T) {
	s := httptest.NewServer(Handler(Options{Seed: 3, Token: "secret"}))
	defer s.Close()
	c := &client.Client{URL: s.URL, Token: "secret"}
	var ask []client.Person
	for i := range 100 {
		ask = append(ask, client.Person{ID: int64(i), First: "Ana", Last: "Strand" + string(rune('a'+i%26)), Company: fmt.Sprint("Fjord", string(rune('a'+i/26)))})
	}
	found, err := c.Find(context.Background(), ask)
	if err != nil {
		t.Fatal(err)
	}
	again, err := c.Find(context.Background(), ask)
	if err != nil || fmt.Sprint(found) != fmt.Sprint(again) {
		t.Errorf("asked again it finds something else, %v", err)
	}
	n := map[client.Quality]int{}
	for _, f := range found {
		n[f.Is]++
	}
	if n[client.Valid] < 25 || n[client.Risky] < 15 || n[client.Direct] < 5 {
		t.Errorf("found are %v", n)
	}
	best := client.Best(found, client.Qualities())
	for _, f := range found {
		if b := best[f.ID]; f.Is == client.Direct && b.Is != client.Direct {
			t.Errorf("of %d the best is %s", f.ID, b.Is)
		}
	}
	if got := client.Best(found, []client.Quality{client.Valid}); len(got) != n[client.Valid] {
		t.Errorf("of valid ones alone there are %d", len(got))
	}
	if got, err := c.Find(context.Background(), []client.Person{{ID: 1, First: "Ana"}, {ID: 2}}); err != nil || len(got) != 0 {
		t.Errorf("of nobody it finds %v, %v", got, err)
	}
	if _, err := c.Find(context.Background(), make([]client.Person, 101)); err == nil {
		t.Error("too many are asked for")
	}
	if _, err := (&client.Client{URL: s.URL}).Find(context.Background(), nil); err == nil {
		t.Error("a stranger is answered")
	}
}

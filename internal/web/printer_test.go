package web

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/store"
)

// A post step is written by form, its cards are exported for the printer with no cell that a
// sheet takes for a formula, and marked as sent.
func TestPrintersList(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "=Ana", Email: "ana@fjord.example", City: "Bergen", Country: "NO"})
	x.exec(fmt.Sprintf("update person set street = 'Kaia 4', postcode = '5003' where id = %d", ana))
	d := x.drafting()
	if _, body := d.do("GET", "/sequences/printer", nil); !strings.Contains(body, "No card waits") {
		t.Error("an empty list says nothing")
	}
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"post"}})
	step := d.draft().Plan.V.Start
	if code, body := d.post(fmt.Sprintf("/steps/%d", step), url.Values{"title": {"Card"},
		"words": {strings.Repeat("a", 2001)}}); code != http.StatusUnprocessableEntity || !strings.Contains(body, "2000") {
		t.Errorf("too many words: %d", code)
	}
	d.post(fmt.Sprintf("/steps/%d", step), url.Values{"title": {"Card"}, "words": {"Dear {{ person.first_name }},\nthanks"},
		"limit": {"9"}, "limit-unit": {"working days"}})
	d.post("/settings", setting("Cards", "rule", "v.r.0", "NO", "ground", "other existing customers",
		"hours.2", "0–24"))
	if _, body := d.post("/launch", url.Values{}); !strings.Contains(body, "Launched.") {
		t.Fatal("it is not launched")
	}
	for range 2 {
		_, err := x.e.Decide(t.Context())
		x.must(err)
	}
	at := fmt.Sprintf("/sequences/printer/%d/%d", d.id, step)
	if _, body := d.do("GET", "/sequences/printer", nil); !strings.Contains(body, at) {
		t.Fatalf("no card waits: %.600s", body)
	}
	_, file := d.do("GET", at+"/cards.csv", nil)
	rows, err := csv.NewReader(strings.NewReader(file)).ReadAll()
	if err != nil || len(rows) != 2 || rows[1][1] != "'=Ana" || rows[1][4] != "Kaia 4" || rows[1][9] != "Dear =Ana,\nthanks" {
		t.Fatalf("the file: %q, %v", rows, err)
	}
	if _, body := d.do("POST", at, url.Values{"do": {"sent"}}); body == "" {
		_, body = d.do("GET", at, nil)
		if !strings.Contains(body, "Tick the cards first") {
			t.Error("nothing ticked is taken")
		}
	}
	d.do("POST", at, url.Values{"do": {"sent"}, "card": {rows[1][0], "x", "-4"}})
	if _, body := d.do("GET", at, nil); !strings.Contains(body, "Noted as sent: 1") || !strings.Contains(body, "No card waits here") {
		t.Errorf("marked as sent: %.600s", body)
	}
}

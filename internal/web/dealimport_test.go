package web

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"ombak/internal/core/right"
	"ombak/internal/store"
)

// A lead sends a file of deals, sees what would become of each row, imports it and takes it back; nobody else may.
func TestAFileOfDeals(t *testing.T) {
	x := newSite(t)
	x.must(x.e.UsualStages(t.Context()))
	x.userOf(right.Rep)
	lead, seller, marketer := x.visitor().signIn("lead"), x.visitor().signIn("rep"), x.visitor().signIn("marketer")
	x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms"})
	file := []byte("person,name,Colour,amount\nana@fjord.example,<b>Pens</b>,red,1200\nbo@fjord.example,<i>,,\n")
	for _, v := range []*visitor{seller, marketer} {
		if res, _ := v.upload("/pipeline/imports", "deals.csv", file); res.StatusCode != http.StatusForbidden {
			t.Errorf("somebody else sends a file: %s", res.Status)
		}
	}
	if _, body := lead.do("GET", "/pipeline/imports", nil); !strings.Contains(body, "A file of deals") ||
		!strings.Contains(body, "First talk") {
		t.Error("the page does not say what a file is like")
	}
	if res, body := lead.do("GET", "/pipeline/imports/start", nil); !strings.Contains(body, "person,name") ||
		!strings.Contains(res.Header.Get("Content-Disposition"), "attachment") {
		t.Errorf("a file to fill in: %q", body)
	}
	if res, body := lead.upload("/pipeline/imports", "x.csv",
		[]byte("a,b\n1,2\n")); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, "needs a column") {
		t.Errorf("no file of deals: %s", res.Status)
	}
	if res, body := lead.upload("/pipeline/imports", "x.csv", nil); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("an empty file: %s %s", res.Status, body)
	}
	res, _ := lead.upload("/pipeline/imports", "deals.csv", file)
	at := res.Header.Get("Location")
	if !strings.HasPrefix(at, "/pipeline/imports/") {
		t.Fatalf("it was sent: %s", res.Status)
	}
	_, body := lead.do("GET", at, nil)
	for _, says := range []string{"&lt;b&gt;Pens", "&lt;i&gt;", "nobody here has the address", "“Colour”",
		"Import 1 row"} {
		if !strings.Contains(body, says) {
			t.Errorf("the page does not say %q", says)
		}
	}
	if _, body := lead.do("GET", at+"/mend", nil); !strings.Contains(body, "line 3: person: nobody here") {
		t.Errorf("to mend: %q", body)
	}
	if res, _ := seller.do("POST", at+"/take", nil); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep takes it: %s", res.Status)
	}
	lead.do("POST", at+"/take", nil)
	if _, body := lead.do("GET", at, nil); !strings.Contains(body, "Take it back") {
		t.Error("it is imported and cannot be taken back")
	}
	if _, body := seller.do("GET", "/pipeline/list", nil); !strings.Contains(body, "&lt;b&gt;Pens") {
		t.Error("the deal is not in the list")
	}
	// What a row would change of a deal stands beside how it is now.
	res, _ = lead.upload("/pipeline/imports", "more.csv", []byte("deal,name,amount,currency,expected,rep\n1,Cages,1200,EUR,"+
		"2026-09-30,nobody\n"))
	_, body = lead.do("GET", res.Header.Get("Location"), nil)
	for says, want := range map[string]bool{"was &lt;b&gt;Pens": true, "was nothing": true, "was 1,200": false} {
		if strings.Contains(body, says) != want {
			t.Errorf("beside a change it is said that it %s: %v", says, !want)
		}
	}
	lead.do("POST", res.Header.Get("Location")+"/drop", nil)
	lead.do("POST", at+"/undo", nil)
	if _, body := seller.do("GET", "/pipeline/list", nil); strings.Contains(body, "Pens") {
		t.Error("the deal is still in the list")
	}
	if res, _ := lead.do("POST", at+"/drop", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("a file that was imported is dropped: %s", res.Status)
	}
	res, _ = lead.upload("/pipeline/imports", "deals.csv", file)
	lead.do("POST", res.Header.Get("Location")+"/drop", nil)
	if res, _ := lead.do("GET", res.Header.Get("Location"), nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("a file that was dropped: %s", res.Status)
	}
}

// A company’s page has its deals, whom it was handed over to, and what all its people did, the newest first.
func TestACompanyJoinsAll(t *testing.T) {
	x := newSite(t)
	x.scored()
	x.must(x.e.UsualStages(t.Context()))
	rep := x.userOf(right.Rep)
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord <Farms>"})
	bo := x.meet(store.NewPerson{First: "Bo", Last: "Lund", Email: "bo@fjord.example", Company: "Fjord <Farms>"})
	other := x.meet(store.NewPerson{First: "Cy", Last: "Elsewhere", Email: "cy@pens.example", Company: "Pens"})
	for _, p := range []int64{ana, bo, other} {
		x.must(x.e.AskForThem(t.Context(), p, rep))
	}
	list, err := x.s.HandoffsOf(t.Context(), store.Last{People: []int64{ana, bo}, Most: 10})
	x.must(err)
	if len(list) != 2 || list[0].Person != bo {
		t.Fatalf("handed over: %+v", list)
	}
	if one, err := x.s.HandoffsOf(t.Context(), store.Last{People: []int64{ana, bo}, Most: 1}); err != nil ||
		len(one) != 1 || one[0].Person != bo {
		t.Errorf("the last one is %+v (%v)", one, err)
	}
	id, err := x.e.Accept(t.Context(), list[0].ID, rep)
	x.must(err)
	p, err := x.s.Person(t.Context(), ana)
	x.must(err)
	_, body := x.visitor().signIn("marketer").do("GET", fmt.Sprintf("/people/companies/%d", *p.CompanyID), nil)
	for _, says := range []string{"Fjord &lt;Farms&gt;", fmt.Sprintf(`href="/pipeline/%d"`, id), "First talk",
		"What happened of late", "Handed over to", "Bo Lund</a>: accepted by"} {
		if !strings.Contains(body, says) {
			t.Errorf("the page does not say %q", says)
		}
	}
	if strings.Contains(body, "Elsewhere") {
		t.Error("somebody of another company is on the page")
	}
}

package web

import (
	"html"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/store"
)

// Find or do knows every place, thing and action by its name, by words anywhere
// in it, and offers nobody what they may not do.
func TestFindOrDo(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Owen", Last: "Munro", Email: "owen@north.example", Company: "Kühl Reservoirs",
		Domain: "north.example"})
	v := x.visitor().signIn("marketer")
	v.do("POST", "/sequences", url.Values{"name": {"Field guide follow-up"}})
	v.do("POST", "/content/messages/new", url.Values{"name": {"Über alarms"}, "starter": {"letter"}})
	v.do("POST", "/content/pages/new", url.Values{"title": {"Calibration clinic"}})
	v.do("POST", "/content/groups/new", url.Values{"name": {"Ports"}})
	rep := x.visitor().signIn("rep")
	for q, want := range map[string]string{
		"Munro, Owen": "/people/1", "kuhl": "/people/companies/1", "reservoirs munro": "/people/1",
		"uber": "/content/messages/1", "guide follow": "/sequences/1",
		"clinic calib": "/content/pages/1", "dupl": "/people/doubles", "import": "/people/imports",
		"shelf": "/content/shelf", "stages": "/settings/stages",
		"mail server": "/settings", "hold": "/sequences/hold-all", "new person": "/people/new",
		"audience": "/people/audiences", "sign out": "/sign-out",
		"invite": "/settings/people", "bands": "/scoring/fit",
	} {
		_, body := v.do("GET", "/find?q="+url.QueryEscape(q), nil)
		if !strings.Contains(html.UnescapeString(body), `"`+want+`"`) {
			t.Errorf("%q does not find %s", q, want)
		}
	}
	if _, body := rep.do("GET", "/find?q=hold", nil); strings.Contains(body, "hold-all") {
		t.Error("a rep is offered to hold everything")
	}
	if _, body := v.do("GET", "/find?q=zzz", nil); !strings.Contains(body, "Nothing found") {
		t.Error("nothing found is not said")
	}
}

// Unicode's own decompositions, and letters that have none (the tz and Latin-1
// letters from memory).
func TestPlain(t *testing.T) {
	for s, want := range map[string]string{"Kühl": "kuhl", "ZOË": "zoe", "Strauß": "strauss", "Ærø": "aero",
		"Łódź": "lodz", "Đặng": "dang", "naïve": "naive", "Ａ": "ａ"} {
		if got := person.Plain(s); got != want {
			t.Errorf("%q is %q, want %q", s, got, want)
		}
	}
}

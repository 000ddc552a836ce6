package web

import (
	"bytes"
	"fmt"
	"html"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/core/event"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/public"
)

func eventTyped(kv ...string) url.Values {
	v := url.Values{"name": {"Calibration clinic"}, "day": {"2026-05-20"}, "from": {"09:00"}, "end-day": {"2026-05-20"},
		"to": {"11:00"}, "zone": {"Asia/Jakarta"}, "link": {"https://karang.example/clinic"}, "seats": {"2"}}
	for i := 0; i < len(kv); i += 2 {
		v.Set(kv[i], kv[i+1])
	}
	return v
}

// An event is made, filled, moved with word to those registered, and cancelled, all by forms;
// what cannot be is said, and what was typed is kept.
func TestEventsByForm(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	bo := x.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	v := x.visitor().signIn("marketer")
	for want, typed := range map[string]url.Values{"ends after it begins": eventTyped("to", "08:00"),
		"whole address":  eventTyped("link", "javascript:alert(1)"),
		"the day and":    eventTyped("day", "soon"),
		"a whole number": eventTyped("seats", "many"), "time zone": eventTyped("zone", "Mars")} {
		res, body := v.do("POST", "/content/events/new", typed)
		if body = html.UnescapeString(body); res.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(strings.ToLower(body), want) || !strings.Contains(body, "Calibration clinic") {
			t.Errorf("%q is not said: %s", want, res.Status)
		}
	}
	res, _ := v.do("POST", "/content/events/new", eventTyped())
	at := res.Header.Get("Location")
	var id int64
	if _, err := fmt.Sscanf(at, "/content/events/%d", &id); err != nil {
		t.Fatalf("made: %s to %q", res.Status, at)
	}
	e, err := x.s.Event(t.Context(), id)
	x.must(err)
	if !e.Starts.Equal(time.Date(2026, 5, 20, 2, 0, 0, 0, time.UTC)) || e.Seats != 2 {
		t.Errorf("kept as %+v", e)
	}
	said := func(form url.Values) string {
		t.Helper()
		v.do("POST", at+"/people", form)
		_, body := v.do("GET", at, nil)
		return html.UnescapeString(body)
	}
	if body := said(url.Values{"do": {"registered"}, "list": {"ANA@fjord.example, nobody@x.example\n<bo@fjord.example>"}}); !strings.
		Contains(body, "Noted for 2 people. Nobody is known by nobody@x.example.") {
		t.Errorf("a pasted list: %.900s", body)
	}
	for _, form := range []url.Values{{"do": {"sing"}}, {"do": {"came"}, "list": {"no address"}}} {
		if body := said(form); !strings.Contains(body, `role="alert"`) && !strings.Contains(body, "note bad") {
			t.Errorf("%v is taken", form)
		}
	}
	if body := said(url.Values{"do": {"cancelled"}, "person": {fmt.Sprint(bo)}}); !strings.Contains(body, "bo@fjord.example") {
		t.Error("who cancelled is not on the list")
	}
	if _, body := v.do("GET", at+"?state=registered", nil); !strings.Contains(body, "ana@fjord.example") ||
		strings.Contains(body, "bo@fjord.example") {
		t.Error("the list of the registered is not theirs")
	}
	if _, body := v.do("GET", "/people?behind=event."+fmt.Sprint(id)+".0.registered", nil); !strings.Contains(body,
		"ana@fjord.example") || strings.Contains(body, "bo@fjord.example") {
		t.Error("the figure does not open into its people")
	}
	if _, body := v.do("GET", at+"/edit", nil); !strings.Contains(body, "It has been moved") {
		t.Error("no word is offered to those registered")
	}
	if res, _ = v.do("POST", at, eventTyped("day", "2026-05-22", "end-day", "2026-05-22", "tell", "1", "subject", "",
		"text", "")); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("word without words: %s", res.Status)
	}
	v.do("POST", at, eventTyped("day", "2026-05-22", "end-day", "2026-05-22", "tell", "1", "subject", "Moved", "text",
		"It is on {{ event.day }}."))
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "Saved; word goes to 1 person.") ||
		!strings.Contains(body, "Friday 22 May 2026") {
		t.Errorf("moved: %.900s", body)
	}
	if res, _ := v.do("POST", at+"/remove", nil); res.Header.Get("Location") != at {
		t.Error("an event with people is deleted")
	}
	v.do("POST", at+"/cancel", url.Values{"tell": {"1"}, "subject": {"Off"}, "text": {"Sorry."}})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "word goes to 1 person") ||
		!strings.Contains(body, "place after all") {
		t.Errorf("cancelled: %.900s", body)
	}
	v.do("POST", at+"/cancel", url.Values{"back": {"1"}})
	if _, body := v.do("GET", "/content/events", nil); !strings.Contains(body, "Calibration clinic") ||
		strings.Contains(body, "cancelled</span>") {
		t.Error("it does not take place again")
	}
	_ = ana
}

// known has a visitor's browser be one in which somebody pressed a link in an email.
func (v *visitor) known(person int64, token string) {
	v.t.Helper()
	jar, err := cookiejar.New(nil)
	v.must(err)
	u, err := url.Parse(v.srv.URL)
	v.must(err)
	jar.SetCookies(u, []*http.Cookie{{Name: public.ReaderCookie, Value: token, Path: "/"}})
	v.c.Jar = jar
}

// A reader registers, takes the event into their calendar, joins and cancels by the link in
// an email; whoever is not proved to be them learns nothing, and changes nothing.
func TestEventsByLink(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	bo := x.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	x.visitor().signIn("marketer").do("POST", "/content/events/new", eventTyped("day", "2026-04-14", "end-day", "2026-04-14",
		"seats", "1", "from", "20:00", "to", "22:00"))
	const at = "/e/1"
	stranger := x.visitor()
	if _, body := stranger.do("GET", at, nil); !strings.Contains(body, "Calibration clinic") ||
		strings.Contains(body, "karang.example/clinic") || strings.Contains(body, "Keep me a place") {
		t.Error("a stranger is shown too much, or too little")
	}
	for _, c := range []struct {
		method, path string
		want         int
	}{{"POST", at, http.StatusForbidden}, {"GET", at + "/event.ics", http.StatusNotFound},
		{"GET", at + "/join", http.StatusSeeOther}, {"GET", "/e/9", http.StatusNotFound}} {
		if res, _ := stranger.do(c.method, c.path, url.Values{"do": {"register"}}); res.StatusCode != c.want {
			t.Errorf("a stranger: %s %s: %s", c.method, c.path, res.Status)
		}
	}
	v := x.visitor()
	v.known(ana, x.e.ReaderToken(ana))
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "Keep me a place") ||
		!strings.Contains(body, "15:00 to 17:00 (Europe/Oslo)") {
		t.Errorf("to her it is shown as %.1500s", body)
	}
	v.do("POST", at, url.Values{"do": {"register"}})
	v.do("POST", at, url.Values{"do": {"register"}}) // a second tab
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "Your place is kept") {
		t.Error("she is not registered")
	}
	_, file := v.do("GET", at+"/event.ics", nil)
	c, err := ical.NewDecoder(bytes.NewReader([]byte(file))).Decode()
	x.must(err)
	if s, err := c.Events()[0].DateTimeStart(time.UTC); err != nil || s.Hour() != 13 {
		t.Errorf("in the calendar it begins %s, %v", s, err)
	}
	w := x.visitor()
	w.known(bo, x.e.ReaderToken(bo))
	if res, body := w.do("POST", at, url.Values{"do": {"register"}}); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "ll seats are taken") {
		t.Errorf("for the seat that is taken: %s", res.Status)
	}
	if res, _ := v.do("GET", at+"/join", nil); res.Header.Get("Location") != at {
		t.Errorf("hours before it begins one joins %s", res.Header.Get("Location"))
	}
	x.visitor().signIn("marketer").do("POST", "/content/events/1", eventTyped("day", "2026-04-14", "end-day", "2026-04-14",
		"seats", "1", "from", "16:30", "to", "18:00")) // in ten minutes
	res, _ := v.do("GET", at+"/join", nil)
	states, err := x.s.StatesAt(t.Context(), 1, []int64{ana, bo})
	x.must(err)
	if res.Header.Get("Location") != "https://karang.example/clinic" || states[ana] != event.Came {
		t.Errorf("joined: to %q, she %q", res.Header.Get("Location"), states[ana])
	}
	if res, _ := v.do("POST", at, url.Values{"do": {"cancel"}}); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("who came cancels: %s", res.Status)
	}
}

// Steps are reckoned from the sequence's event by form, it is chosen in the settings or made
// from the parts list, and a watch waits for its registration.
func TestStepsOfAnEvent(t *testing.T) {
	d := newSite(t).drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"email"}})
	email := d.draft().Plan.V.Start
	form := func(kv ...string) url.Values {
		v := url.Values{"title": {"Step"}}
		for i := 0; i < len(kv); i += 2 {
			v.Set(kv[i], kv[i+1])
		}
		return v
	}
	d.post(fmt.Sprintf("/steps/%d", email), form("when", "before", "from", "2", "from-unit", "days", "from-clock", "08:30",
		"late", "now"))
	s := d.draft().Plan.V.Step(email).(*sequence.Email)
	if s.From == nil || s.From.String() != "2 days before the event at 08:30" || s.Late != sequence.LateNow {
		t.Errorf("the step is due %+v", s.From)
	}
	if code, body := d.post(fmt.Sprintf("/steps/%d", email), form("when", "later", "from", "-3", "from-unit", "days")); code !=
		http.StatusUnprocessableEntity || !strings.Contains(body, "negative") {
		t.Errorf("−3 days after it: %d", code)
	}
	if _, body := d.do("GET", fmt.Sprintf("/sequences/%d/parts", d.id), nil); !strings.Contains(body,
		fmt.Sprintf("/content/events/new?sequence=%d", d.id)) {
		t.Error("the parts list does not miss the event")
	}
	res, _ := d.do("POST", "/content/events/new", eventTyped("sequence", fmt.Sprint(d.id)))
	if res.Header.Get("Location") != fmt.Sprintf("/sequences/%d/parts", d.id) || d.draft().Plan.V.Event != 1 {
		t.Errorf("made from there: to %q, event %d", res.Header.Get("Location"), d.draft().Plan.V.Event)
	}
	d.post("/insert", url.Values{"kind": {"watch"}, "from": {"0"}})
	var watch sequence.StepID
	for _, s := range d.draft().Plan.V.Steps {
		if s.Kind().Word == "watch" {
			watch = s.About().ID
		}
	}
	if watch == 0 {
		t.Fatal("no watch was put in")
	}
	d.post(fmt.Sprintf("/steps/%d", watch), form("signal", fmt.Sprint(int16(signal.Registered)), "times", "1", "until",
		"before", "till", "2", "till-unit", "hours"))
	w := d.draft().Plan.V.Step(watch).(*sequence.Watch)
	if w.Signal != signal.Registered || w.Until == nil || w.Until.String() != "2 hours before the event" {
		t.Errorf("it waits for %+v until %+v", w.Signal, w.Until)
	}
	_ = res
}

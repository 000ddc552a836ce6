package web

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/store"
)

var offered = url.Values{"title": {"A <b>talk</b>"}, "minutes": {"30"}, "step": {"30"}, "buffer": {"0"}, "notice": {"1"}, "horizon": {"20"},
	"most": {"0"}, "where": {"+44 20 7946 0111"}, "slug": {"rep"}, "shown": {"yes"}}

// A rep opens a page, a stranger picks a time on it, proves who they are, moves it and cancels it;
// who fetches an address only changes nothing.
func TestATimeIsPicked(t *testing.T) {
	x := newSite(t)
	rep := x.visitor().signIn("rep")
	if page := rep.follow("/desk/booking", nil); !strings.Contains(page, "Times that people can pick") || strings.Contains(page, "sender.booking") {
		t.Error("a page is there that nobody has made")
	}
	bad := url.Values{}
	for k, v := range offered {
		bad[k] = v
	}
	bad.Set("minutes", "3")
	if res, page := rep.do("POST", "/desk/booking", bad); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, `value="A &lt;b&gt;talk`) {
		t.Errorf("a meeting of three minutes: %s", res.Status)
	}
	if page := rep.follow("/desk/booking", offered); !strings.Contains(page, "sender.booking") {
		t.Error("the page is not open")
	}
	v := x.visitor()
	_, page := v.do("GET", "/b/rep?zone=Asia/Tokyo", nil)
	if !strings.Contains(page, "A &lt;b&gt;talk") || !strings.Contains(page, "small, those of") {
		t.Error("the page lacks the title, or one of the zones")
	}
	at := amid(page, "at=", "&")
	_, page = v.do("GET", "/b/rep?zone=Asia/Tokyo&at="+at, nil)
	if !strings.Contains(page, "Take this time") || !strings.Contains(page, `name="email"`) {
		t.Fatal("the time cannot be picked")
	}
	form := url.Values{"at": {at}, "zone": {"Asia/Tokyo"}, "name": {"Zed"}, "email": {"no address"}, "note": {"<hello>"}}
	if res, page := v.do("POST", "/b/rep", form); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "&lt;hello&gt;") {
		t.Errorf("no address: %s, or what was typed is lost", res.Status)
	}
	form.Set("email", "zed@fjord.example")
	if _, page = v.do("POST", "/b/rep", form); !strings.Contains(page, "Look into your mail") {
		t.Error("nobody is told to look into their mail")
	}
	if res, page := x.visitor().do("POST", "/b/rep", form); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "just been taken") {
		t.Errorf("the same time again: %s", res.Status)
	}
	x.settle()
	link := strings.TrimPrefix(x.e.BookingURL(1), x.e.URL)
	if _, page = v.do("GET", link, nil); !strings.Contains(page, "It is me") {
		t.Error("the link asks for nothing")
	}
	if b, err := x.s.Booking(t.Context(), 1); err != nil || b.State != "asked" {
		t.Errorf("fetched only, it is %s, %v", b.State, err)
	}
	if page = v.follow(link, url.Values{"do": {"confirm"}}); !strings.Contains(page, "It is booked") {
		t.Error("confirmed, it is not booked")
	}
	_, page = v.do("GET", link+"?move=1", nil)
	_, later, _ := strings.Cut(page, "at="+at)
	to := amid(later, "at=", "&")
	if to == "" || to == at {
		t.Fatalf("it can be moved to %q", to)
	}
	if _, page = v.do("GET", link+"?move=1&at="+to, nil); !strings.Contains(page, "Move it here") {
		t.Error("it cannot be moved")
	}
	v.follow(link, url.Values{"do": {"move"}, "at": {to}})
	if b, err := x.s.Booking(t.Context(), 1); err != nil || fmt.Sprint(b.Starts.Unix()) != to || b.Changes != 1 {
		t.Errorf("moved, it is %+v, %v", b, err)
	}
	if res, page := v.do("POST", link, url.Values{"do": {"move"}, "at": {"12345"}}); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "just been taken") {
		t.Errorf("moved to where nothing is free: %s", res.Status)
	}
	for path, want := range map[string]int{"/b/m/1/x": 404, "/b/nobody": 404, "/b/feed/x.ics": 404, "/b/feed/.ics": 404, "/b/m/2" + link[6:]: 404} {
		if res, _ := v.do("GET", path, nil); res.StatusCode != want {
			t.Errorf("%s answers %s", path, res.Status)
		}
	}
	// The rep has it on the booking page and in the calendar that others follow.
	page = rep.follow("/desk/booking/feed", url.Values{})
	feed := amid(page, x.e.URL+"/b/feed/", "<")
	res, body := x.visitor().do("GET", "/b/feed/"+feed, nil)
	cal, err := ical.NewDecoder(bytes.NewReader([]byte(body))).Decode()
	if err != nil || len(cal.Events()) != 1 || !strings.HasPrefix(res.Header.Get("Content-Type"), "text/calendar") {
		t.Errorf("the feed is %q, %v", body, err)
	}
	if page = v.follow(link, url.Values{"do": {"cancel"}}); !strings.Contains(page, "does not take place") {
		t.Error("cancelled, it takes place")
	}
	if page = rep.follow("/desk/booking", nil); !strings.Contains(page, "cancelled") {
		t.Error("the rep does not see it")
	}
	// Closed, it leads nowhere; what was picked can still be looked at.
	shut := url.Values{}
	for k, v := range offered {
		shut[k] = v
	}
	shut.Set("shown", "no")
	rep.follow("/desk/booking", shut)
	if res, _ := v.do("GET", "/b/rep", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("closed, it answers %s", res.Status)
	}
	if res, _ := v.do("GET", link, nil); res.StatusCode != http.StatusOK {
		t.Errorf("what was picked answers %s", res.Status)
	}
}

// A calendar file is uploaded, and its times are not offered; what is none is refused.
func TestBusyTimesAreUploaded(t *testing.T) {
	x := newSite(t)
	rep := x.visitor().signIn("rep")
	rep.follow("/desk/booking", offered)
	_, page := x.visitor().do("GET", "/b/rep", nil)
	at := shellNumber(amid(page, "at=", "&"))
	start := time.Unix(at, 0).UTC()
	file := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20260401T000000Z\r\nDTSTART:" +
		start.Format("20060102T150405Z") + "\r\nDURATION:PT30M\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	if res, page := rep.put("/desk/booking/calendars", map[string]string{"name": "Choir"}, "choir.ics", []byte("hello")); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "no calendar file") {
		t.Errorf("what is no calendar: %s", res.Status)
	}
	rep.put("/desk/booking/calendars", map[string]string{"name": "Choir"}, "choir.ics", []byte(file))
	if page = rep.follow("/desk/booking", nil); !strings.Contains(page, "<b>Choir</b>") || !strings.Contains(page, "1 busy time") {
		t.Errorf("it is not read: %s", amid(page, "My own calendars", "</section>"))
	}
	if _, page = x.visitor().do("GET", "/b/rep", nil); strings.Contains(page, fmt.Sprintf("at=%d&", at)) {
		t.Error("the time is offered still")
	}
	rep.follow("/desk/booking/calendars/1/delete", url.Values{})
	if _, page = x.visitor().do("GET", "/b/rep", nil); !strings.Contains(page, fmt.Sprintf("at=%d&", at)) {
		t.Error("without it the time is not offered")
	}
}

// Hours, zone, days away and what there is time for are one's own to set, and a lead's.
func TestWhenSomebodyWorks(t *testing.T) {
	x := newSite(t)
	users, err := x.s.Users(t.Context())
	x.must(err)
	var rep store.User
	for _, u := range users {
		if u.Role == "rep" {
			rep = u
		}
	}
	path := fmt.Sprintf("/settings/people/%d/hours", rep.ID)
	form := url.Values{"whose": {"own"}, "zone": {"Europe/Oslo"}, "hours.1": {"8–12, 13–16"}, "away": {"25 Dec 2026"}, "most.call": {"30"}}
	page := x.visitor().signIn("rep").follow(path, form)
	for _, want := range []string{`<option selected>Europe/Oslo`, "08:00–12:00, 13:00–16:00", "25 Dec 2026", `value="30"`} {
		if !strings.Contains(page, want) {
			t.Errorf("it lacks %q", want)
		}
	}
	if res, _ := x.visitor().signIn("marketer").do("POST", path, form); res.StatusCode != http.StatusForbidden {
		t.Errorf("a marketer changes a rep’s hours: %s", res.Status)
	}
	for k, v := range map[string]string{"hours.1": "from nine", "away": "soon", "most.call": "many", "zone": "Mars/Olympus"} {
		wrong := url.Values{"whose": {"own"}, "hours.1": {"9–17"}}
		wrong.Set(k, v)
		if res, page := x.visitor().signIn("lead").do("POST", path, wrong); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "Nothing was changed") {
			t.Errorf("%s %q: %s", k, v, res.Status)
		}
	}
	if page := x.visitor().signIn("admin").follow("/settings/changes", nil); !strings.Contains(page, "When "+rep.Name+" works") {
		t.Error("the change is not listed")
	}
}

func shellNumber(s string) (n int64) { fmt.Sscan(s, &n); return n }

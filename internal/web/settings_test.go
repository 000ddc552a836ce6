package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/calendar"
)

// An admin keeps holidays from a calendar file and by hand, takes a day away, and takes that
// back; what cannot be read is shown again beside what is wrong.
func TestHolidaysInTheSettings(t *testing.T) {
	x := newSite(t)
	in := x.visitor().signIn("admin")
	upload := func(text string) string {
		res, page := in.upload("/settings/holidays?country=NO", "days.ics", []byte(text))
		if res.StatusCode == http.StatusSeeOther {
			_, page = in.do("GET", res.Header.Get("Location"), nil)
		}
		return page
	}
	page := upload("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\nBEGIN:VEVENT\r\nUID:1@x.example\r\n" +
		"DTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20200517\r\nRRULE:FREQ=YEARLY\r\nSUMMARY:Day of the <sea>\r\n" +
		"END:VEVENT\r\nEND:VCALENDAR\r\n")
	for _, want := range []string{"Holidays of Norway", "2026-05-17", "2028-05-17", "Day of the &lt;sea&gt;", "3 days"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	if page := upload("no calendar"); !strings.Contains(page, "no calendar file") {
		t.Error("what is no calendar is not named")
	}
	page = in.follow("/settings/holidays", url.Values{"country": {"NO"}, "dates": {"32 Dec 2026"}})
	if !strings.Contains(page, "32 Dec 2026</textarea>") || !strings.Contains(page, "Nothing was changed") {
		t.Error("what was typed is lost")
	}
	in.follow("/settings/holidays", url.Values{"country": {"NO"}, "dates": {"24 Dec 2026 – 26 Dec 2026"}, "name": {"Christmas"}})
	page = in.follow("/settings/holidays/remove", url.Values{"country": {"NO"}, "day": {"2026-12-25"}})
	if strings.Contains(page, "2026-12-25") || !strings.Contains(page, "2026-12-26") {
		t.Error("the day is still there, or another is gone")
	}
	list, err := x.s.SettingChanges(t.Context(), 1)
	x.must(err)
	in.follow(fmt.Sprintf("/settings/changes/%d/undo", list[0].ID), url.Values{})
	if page := in.follow("/settings/holidays?country=NO", nil); !strings.Contains(page, "2026-12-25") {
		t.Error("the day is not back")
	}
	if page := in.follow("/settings/changes", nil); !strings.Contains(page, "taken back") {
		t.Error("the list does not say that it was taken back")
	}
	if page := in.follow("/settings/holidays/remove", url.Values{"country": {"NO"}}); strings.Contains(page, "2026-05-17") {
		t.Error("not all are gone")
	}
}

// Teams and hours are kept by admins, with the hours of a day copied to the others.
func TestTeamsAndHoursInTheSettings(t *testing.T) {
	x := newSite(t)
	in := x.visitor().signIn("admin")
	in.follow("/settings/teams", url.Values{"name": {"North"}})
	teams, err := x.s.Teams(t.Context())
	x.must(err)
	users, err := x.s.Users(t.Context())
	x.must(err)
	in.follow(fmt.Sprintf("/settings/teams/%d", teams[0].ID),
		url.Values{"name": {"North sea"}, "member": {fmt.Sprint(users[0].ID), "x", "-1"}})
	if page := in.follow("/settings/people", nil); strings.Count(page, "North sea") != 1 {
		t.Error("the list of people does not say who is in the team")
	}
	if page := in.follow("/settings/teams", url.Values{"name": {"north SEA"}}); !strings.Contains(page, "a team is called") {
		t.Error("two teams have one name")
	}

	form := url.Values{"calling.1": {"9-12, 13-16"}, "calling-zone": {""}, "calling-off": {""}, "calling-rest": {"on"},
		"sending.1": {"8-9"}, "sending-off": {"24 Dec 2026"}, "rest": {"3"}, "rest-of": {"touch"}, "answer": {"6"},
		"pool": {"20"}, "do": {"hours calling"}}
	page := in.follow("/settings/hours", form)
	if strings.Count(page, "09:00–12:00, 13:00–16:00") != 5 || x.e.Workspace().Calling != nil {
		t.Error("Monday's hours are not those of the other days, or they are kept already")
	}
	form.Del("do")
	in.follow("/settings/hours", form)
	w := x.e.Workspace()
	if w.Calling == nil || w.Calling.Holidays || calendar.Intervals(w.Calling.Days[1]) != "09:00–12:00, 13:00–16:00" ||
		!w.Sending.Holidays || len(w.Sending.Off) != 1 || w.Rest.Days != 3 || !w.Rest.Any || w.AnswerIn != 6 ||
		w.PoolFor != 20 || !w.NoHold {
		t.Errorf("kept is %+v", w)
	}
	id, err := x.e.AddSequence(t.Context(), "As usual here")
	x.must(err)
	draft, err := x.s.Draft(t.Context(), id)
	x.must(err)
	if p := draft.Plan.V; p.LaunchHold || p.Rest != w.Rest || len(p.Hours.Off) != 1 || !p.Hours.Holidays {
		t.Errorf("a new sequence has %+v", p)
	}
	form.Set("calling.1", "nine to five")
	if page := in.follow("/settings/hours", form); !strings.Contains(page, "Nothing was changed") {
		t.Error("hours that are none are kept")
	}
}

// follow sends a form, or gets a page where there is none, and answers the page it leads to.
func (v *visitor) follow(path string, form url.Values) string {
	v.t.Helper()
	method := "POST"
	if form == nil {
		method = "GET"
	}
	res, page := v.do(method, path, form)
	if res.StatusCode == http.StatusSeeOther {
		_, page = v.do("GET", res.Header.Get("Location"), nil)
	}
	return page
}

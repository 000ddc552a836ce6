package engine

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-ical"
	gomail "github.com/emersion/go-message/mail"

	"ombak/internal/core/booking"
	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// offers has rep1 offer half an hour, and answers the page.
func (w *world) offers() *store.BookingPage {
	w.t.Helper()
	p := store.BookingPage{User: w.rep1, Slug: "Tomas-Vale", Shown: true}
	p.Plan.V = booking.Usual()
	p.Plan.V.Where = "+44 20 7946 0123"
	w.must(w.e.KeepBookingPage(w.ctx, p))
	page, err := w.s.BookingPageBySlug(w.ctx, "tomas-vale")
	w.must(err)
	return &page
}

func (w *world) firstFree(page *store.BookingPage) time.Time {
	w.t.Helper()
	list, _, err := w.e.FreeTimes(w.ctx, page, 0)
	w.must(err)
	if len(list) == 0 {
		w.t.Fatal("nothing is free")
	}
	return list[0]
}

// invited reads the calendar that the newest letter to somebody carries.
func (w *world) invited(to string) (method string, ev ical.Event) {
	w.t.Helper()
	source, err := w.mail.Source(w.letters(to)[0])
	w.must(err)
	_, rest, ok := bytes.Cut(source, []byte("text/calendar; method="))
	if !ok {
		w.t.Fatalf("the letter carries no calendar: %s", source)
	}
	method = string(rest[:bytes.IndexAny(rest, ";\r\n")])
	r, err := gomail.CreateReader(bytes.NewReader(source))
	w.must(err)
	for {
		part, err := r.NextPart()
		w.must(err) // at the end of the letter too: there is no file then
		if h, ok := part.Header.(*gomail.AttachmentHeader); ok {
			if name, err := h.Filename(); err == nil && strings.HasSuffix(name, ".ics") {
				cal, err := ical.NewDecoder(part.Body).Decode()
				w.must(err)
				return method, cal.Events()[0]
			}
		}
	}
}

// Somebody whom we know picks a time: it is a signal and a letter with an invitation; they move it
// and cancel it, and their calendar follows (RFC 5546: the same UID, SEQUENCE goes up).
func TestAMeetingIsBookedMovedAndCancelled(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	ana := w.caller("Ana", "NO", w.rep1)
	at := w.firstFree(page)
	if at.Before(day0.Add(4 * time.Hour)) {
		t.Errorf("the first time is at %v: too soon", at)
	}
	id, err := w.e.Book(w.ctx, page, sales.Pick{At: at, Person: ana, Zone: "Asia/Tokyo"})
	w.must(err)
	w.settle()
	if w.did(ana, signal.Meeting) != 1 {
		t.Error("it is no signal")
	}
	text := func() string {
		w.t.Helper()
		parts, err := w.mail.Read(w.letters("ana@desk.example")[0])
		w.must(err)
		return parts.Text
	}
	if !strings.Contains(text(), "(Asia/Tokyo)") || !strings.Contains(text(), "+44 20 7946 0123") {
		t.Errorf("the letter says %q", text())
	}
	method, ev := w.invited("ana@desk.example")
	uid, _ := ev.Props.Text(ical.PropUID)
	if start, err := ev.DateTimeStart(time.UTC); err != nil || method != "REQUEST" || !start.Equal(at) || uid == "" {
		t.Errorf("invited by %s to %v, %v", method, start, err)
	}
	// The same time is nobody else's, and neither is the buffer around it.
	for _, other := range []time.Time{at, at.Add(30 * time.Minute), at.Add(5 * time.Minute)} {
		if _, err := w.e.Book(w.ctx, page, sales.Pick{At: other, Person: ana}); !errors.Is(err, sales.ErrTimeTaken) {
			t.Errorf("%v is taken twice, or none: %v", other, err)
		}
	}
	moved := w.firstFree(page)
	w.must(w.e.Move(w.ctx, id, moved))
	w.settle()
	method, ev = w.invited("ana@desk.example")
	if u, _ := ev.Props.Text(ical.PropUID); method != "REQUEST" || u != uid || ev.Props.Get(ical.PropSequence).Value != "1" {
		t.Errorf("moved by %s, %q, %v", method, u, ev.Props.Get(ical.PropSequence))
	}
	if w.firstFree(page) != at {
		t.Error("moved, the time of before is not free")
	}
	w.must(w.e.Cancel(w.ctx, id))
	w.must(w.e.Cancel(w.ctx, id)) // pressed twice
	w.settle()
	method, ev = w.invited("ana@desk.example")
	if u, _ := ev.Props.Text(ical.PropUID); method != "CANCEL" || u != uid || ev.Props.Get(ical.PropSequence).Value != "2" {
		t.Errorf("cancelled by %s, %q", method, u)
	}
	if w.did(ana, signal.MeetingCancelled) != 1 || len(w.letters("ana@desk.example")) != 3 {
		t.Errorf("%d signals, %d letters", w.did(ana, signal.MeetingCancelled), len(w.letters("ana@desk.example")))
	}
	if err := w.e.Move(w.ctx, id, at); !errors.Is(err, sales.ErrNoBooking) {
		t.Errorf("cancelled, it is moved: %v", err)
	}
}

// Two visitors at one slot: one gets it, the other is told.
func TestTwoAtOneTime(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	at := w.firstFree(page)
	people := make([]int64, 8)
	for i := range people {
		people[i] = w.caller(fmt.Sprint("P", i), "NO", 0)
	}
	var wg sync.WaitGroup
	errs := make([]error, len(people))
	for i, p := range people {
		wg.Go(func() { _, errs[i] = w.e.Book(w.ctx, page, sales.Pick{At: at, Person: p}) })
	}
	wg.Wait()
	got, told := 0, 0
	for _, err := range errs {
		switch {
		case err == nil:
			got++
		case errors.Is(err, sales.ErrTimeTaken):
			told++
		default:
			t.Error(err)
		}
	}
	if got != 1 || told != len(people)-1 || w.count("select count(*) from booking where state = 'booked'") != 1 {
		t.Errorf("%d got it, %d were told", got, told)
	}
}

// Who only says who they are is asked by a letter, with nothing in it that they typed; the time is
// kept for an hour. Nothing is a signal until the link has been pressed.
func TestAStrangerBooks(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	at := w.firstFree(page).Add(2 * time.Hour)
	free := func() bool {
		list, _, err := w.e.FreeTimes(w.ctx, page, 0)
		w.must(err)
		return slices.Contains(list, at)
	}
	pick := sales.Pick{At: at, Name: "Buy {{ now }} cheap", Email: "Zed@desk.example", Note: "http://bad.example"}
	for name, p := range map[string]sales.Pick{"no address": {At: at, Name: "Zed", Email: "zed"}, "no name": {At: at, Email: "z@desk.example"}} {
		if _, err := w.e.Book(w.ctx, page, p); err == nil {
			t.Errorf("%s: is booked", name)
		}
	}
	id, err := w.e.Book(w.ctx, page, pick)
	w.must(err)
	w.settle()
	zed := int64(w.count("select person_id from booking where id = $1", id))
	parts, err := w.mail.Read(w.letters("zed@desk.example")[0])
	w.must(err)
	if w.did(zed, signal.Meeting) != 0 || strings.Contains(parts.Text, "cheap") || strings.Contains(parts.Text, "bad.example") ||
		!strings.Contains(parts.Text, "/b/m/") {
		t.Errorf("asked, it says %q", parts.Text)
	}
	if free() {
		t.Error("the time is not kept for them")
	}
	w.clock.set(day0.Add(61 * time.Minute))
	if !free() {
		t.Error("after an hour the time is kept still")
	}
	// Pressed late, it is theirs where nobody has taken it since.
	w.clock.set(at.Add(-time.Hour))
	w.must(w.e.Confirm(w.ctx, id))
	w.must(w.e.Confirm(w.ctx, id))
	w.settle()
	if w.did(zed, signal.Meeting) != 1 || len(w.letters("zed@desk.example")) != 2 {
		t.Errorf("confirmed, %d signals and %d letters", w.did(zed, signal.Meeting), len(w.letters("zed@desk.example")))
	}
	// An address is not written to again and again by who only says that it is theirs.
	for range 3 {
		_, err = w.e.Book(w.ctx, page, sales.Pick{At: w.firstFree(page), Name: "Yan", Email: "yan@desk.example"})
		w.must(err)
	}
	if _, err = w.e.Book(w.ctx, page, sales.Pick{At: w.firstFree(page), Name: "Yan", Email: "yan@desk.example"}); err == nil {
		t.Error("a fourth letter goes to who has not answered three")
	}
	// What nobody has confirmed is forgotten a day later, and Yan’s time is taken meanwhile.
	w.clock.set(day0.Add(60 * time.Hour))
	w.must(w.e.ForgetAsked(w.ctx))
	if n := w.count("select count(*) from booking where state = 'asked'"); n != 0 {
		t.Errorf("%d are asked still", n)
	}
}

// A meeting lies on the desk of whom it is with from shortly before it begins; what came of it is a
// signal, and can be said otherwise.
func TestAMeetingOnTheDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	ana := w.caller("Ana", "NO", w.rep1)
	at := w.firstFree(page)
	id, err := w.e.Book(w.ctx, page, sales.Pick{At: at, Person: ana})
	w.must(err)
	if d := w.day(sales.Ask{User: w.rep1}); len(d.Items) != 1 || d.Able != 0 || d.Items[0].Why != sales.Begins ||
		!d.Items[0].From.Equal(at.Add(-10*time.Minute)) {
		t.Fatalf("hours before it is %+v", d.Items)
	}
	if err := w.e.Met(w.ctx, id, w.rep1, booking.Held); err == nil {
		t.Error("it was held before it began")
	}
	w.clock.set(at.Add(-5 * time.Minute))
	if d := w.day(sales.Ask{User: w.rep1, Kind: desk.Meeting}); d.Able != 1 || !d.Items[0].By.Equal(at) {
		t.Errorf("at hand is %+v", d.Items)
	}
	if err := w.e.PassOn(w.ctx, store.MeetingWork, id, w.rep1, w.rep2, ""); err == nil {
		t.Error("it is passed on")
	}
	if _, err := w.e.Postpone(w.ctx, store.MeetingWork, id, w.rep1, "tomorrow"); err == nil {
		t.Error("it is put off by one side")
	}
	w.clock.set(at.Add(20 * time.Minute))
	if err := w.e.Met(w.ctx, id, w.rep2, booking.Held); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another says what came of it: %v", err)
	}
	w.must(w.e.Met(w.ctx, id, w.rep1, booking.Held))
	if w.did(ana, signal.MeetingHeld) != 1 || len(w.day(sales.Ask{User: w.rep1}).Items) != 0 {
		t.Error("held, it is no signal or on the desk still")
	}
	w.must(w.e.Met(w.ctx, id, w.rep1, booking.Missed))
	if w.did(ana, signal.MeetingHeld) != 0 || w.did(ana, signal.MeetingMissed) != 1 {
		t.Error("said otherwise, both count or none")
	}
	w.must(w.e.Met(w.ctx, id, w.rep1, booking.Booked))
	if w.did(ana, signal.MeetingMissed) != 0 || len(w.day(sales.Ask{User: w.rep1}).Items) != 1 {
		t.Error("taken back, it counts still or is not on the desk")
	}
}

// Free times are those of the rep’s own hours, less days away, and less what their own calendar
// says, from a file or an address that is read again and keeps what it had where it fails.
func TestFreeTimesOfARep(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	hours := calendar.OfficeHours(14*60, 16*60)
	work := desk.Worker{Zone: "Europe/Oslo", Hours: &hours, Away: []calendar.Date{{Year: 2026, Month: 4, Day: 15}}}
	_, err := w.e.SetWork(w.ctx, w.rep1, work, w.rep1)
	w.must(err)
	if _, err := w.e.SetWork(w.ctx, w.rep1, work, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another changes when they work: %v", err)
	}
	times := func() string {
		w.t.Helper()
		list, zone, err := w.e.FreeTimes(w.ctx, page, 0)
		w.must(err)
		var out []string
		for _, x := range list[:min(len(list), 5)] {
			out = append(out, x.In(zone).Format("2 15:04"))
		}
		return strings.Join(out, ", ")
	}
	// Four hours from 11:20 in Oslo; on the 15th they are away.
	if got := times(); got != "14 15:30, 16 14:00, 16 14:30, 16 15:00, 16 15:30" {
		t.Errorf("free are %s", got)
	}
	ics := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20260401T000000Z\r\n" +
		"DTSTART;TZID=Europe/Oslo:20260402T140000\r\nDURATION:PT1H\r\nRRULE:FREQ=WEEKLY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	_, err = w.e.AddCalendar(w.ctx, store.BusyCalendar{User: w.rep1, Name: "Choir"}, strings.NewReader(ics))
	w.must(err)
	if got := times(); got != "14 15:30, 16 15:00, 16 15:30, 17 14:00, 17 14:30" {
		t.Errorf("with a choir on Thursdays free are %s", got)
	}
	answer, asked := ics, 0
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		if asked++; answer == "" {
			http.Error(rw, "gone", http.StatusGone)
			return
		}
		fmt.Fprint(rw, strings.ReplaceAll(answer, "20260402", "20260403")) // Fridays
	}))
	defer server.Close()
	_, err = w.e.AddCalendar(w.ctx, store.BusyCalendar{User: w.rep1, Address: server.URL + "/me.ics"}, nil)
	w.must(err)
	if got := times(); got != "14 15:30, 16 15:00, 16 15:30, 17 15:00, 17 15:30" {
		t.Errorf("with Fridays free are %s", got)
	}
	if n, err := w.e.ReadCalendars(w.ctx); err != nil || n != 0 {
		t.Errorf("read a moment ago, %d are read again, %v", n, err)
	}
	answer = ""
	w.clock.set(day0.Add(61 * time.Minute))
	if n, err := w.e.ReadCalendars(w.ctx); err != nil || n != 1 {
		t.Errorf("%d are read, %v", n, err)
	}
	list, err := w.s.BusyCalendars(w.ctx, w.rep1, w.clock.Now())
	w.must(err)
	if len(list) != 2 || !strings.Contains(list[1].Trouble, "410") || list[1].Times == 0 {
		t.Errorf("it says %+v", list)
	}
	w.e.PrivateServers = false
	if _, err := w.e.AddCalendar(w.ctx, store.BusyCalendar{User: w.rep1, Address: server.URL}, nil); err == nil || !strings.Contains(err.Error(), "private") {
		t.Errorf("a calendar on this machine is read: %v", err)
	}
	for _, address := range []string{"", "file:///etc/passwd", "ftp://x.example/a.ics", "http://"} {
		if _, err := w.e.AddCalendar(w.ctx, store.BusyCalendar{User: w.rep1, Address: address}, nil); err == nil {
			t.Errorf("%q is an address", address)
		}
	}
	w.must(w.e.RemoveCalendar(w.ctx, list[0].ID, w.rep1))
	if err := w.e.RemoveCalendar(w.ctx, list[1].ID, w.rep2); !store.IsNotFound(err) {
		t.Errorf("another removes it: %v", err)
	}
	// Who is away today gets no handoff.
	work.Away = append(work.Away, calendar.Date{Year: 2026, Month: 4, Day: 14})
	_, err = w.e.SetWork(w.ctx, w.rep1, work, w.rep1)
	w.must(err)
	ben := w.caller("Ben", "NO", 0)
	w.must(w.e.HandOver(w.ctx, ben))
	if n := w.count("select rep_id from handoff where person_id = $1", ben); int64(n) != w.rep2 {
		t.Errorf("handed to %d", n)
	}
}

// A rep’s calendar is followed by a secret address, which can be renewed.
func TestTheFeed(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.offers()
	ana := w.caller("Ana", "NO", w.rep1)
	_, err := w.e.Book(w.ctx, page, sales.Pick{At: w.firstFree(page), Person: ana})
	w.must(err)
	w.must(w.e.RenewFeed(w.ctx, w.rep1, false))
	first, err := w.s.BookingPageOf(w.ctx, w.rep1)
	w.must(err)
	body, err := w.e.Feed(w.ctx, first.Feed)
	w.must(err)
	cal, err := ical.NewDecoder(bytes.NewReader(body)).Decode()
	if err != nil || len(cal.Events()) != 1 || len(first.Feed) < 20 {
		t.Fatalf("the feed is %s, %v", body, err)
	}
	w.must(w.e.RenewFeed(w.ctx, w.rep1, false))
	if _, err := w.e.Feed(w.ctx, first.Feed); !store.IsNotFound(err) {
		t.Errorf("the address of before leads somewhere: %v", err)
	}
	w.must(w.e.RenewFeed(w.ctx, w.rep1, true))
	if _, err := w.e.Feed(w.ctx, ""); !store.IsNotFound(err) {
		t.Errorf("no address leads somewhere: %v", err)
	}
}

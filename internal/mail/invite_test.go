package mail

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
	netmail "net/mail"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"
)

// The examples of RFC 5545 that an invitation meets, from memory: the text of section 3.3.11, the UTC time of 3.3.5
// (form 2), the long line of 3.1.
var meeting = Event{
	UID: "t1@mail.karang.example", Title: "Review; of pens, and moorings \\ 3B", Place: "Conference Room - 3B",
	Note: "Project XYZ Final Review\nConference Room - 3B\nCome Prepared.\nThis is a long description that exists " +
		"on a long line, höher als fünfundsiebzig Oktette.",
	Start: time.Date(1998, 1, 19, 7, 0, 0, 5, time.UTC), End: time.Date(1998, 1, 19, 8, 0, 0, 0, time.UTC),
	Stamp:         time.Date(1998, 1, 1, 0, 0, 0, 0, time.UTC),
	OrganiserName: "Ines \"Radu\"; of, Karang\r\nBCC:x", Organiser: "ines@karang.example",
	Attendee: "ana@fjord.example",
}

// TestInvitationsByTheStandard holds an invitation against RFC 5545 as it is written, and has go-ical read it back.
func TestInvitationsByTheStandard(t *testing.T) {
	b, err := Invitation(meeting)
	if err != nil {
		t.Fatal(err)
	}
	source := string(b)
	if strings.Contains(strings.ReplaceAll(source, "\r\n", ""), "\n") || strings.Contains(source, "\r\nBCC") {
		t.Error("a line ends otherwise than by CRLF, or a name breaks out of its line (3.1)")
	}
	for _, line := range strings.Split(source, "\r\n") {
		if len(line) > 75 {
			t.Errorf("a line of %d octets, not folded (3.1): %s", len(line), line)
		}
	}
	whole := strings.ReplaceAll(source, "\r\n ", "")
	for _, want := range []string{
		"BEGIN:VCALENDAR\r\n", "VERSION:2.0\r\n", "METHOD:REQUEST\r\n", "END:VCALENDAR\r\n",
		"DTSTART:19980119T070000Z\r\n",
		`SUMMARY:Review\; of pens\, and moorings \\ 3B` + "\r\n",
		`DESCRIPTION:Project XYZ Final Review\nConference Room - 3B\nCome Prepared.\n`,
		"mailto:ana@fjord.example\r\n",
	} {
		if !strings.Contains(whole, want) {
			t.Errorf("it has no %q:\n%s", want, whole)
		}
	}
	read := func(r io.Reader) {
		t.Helper()
		cal, err := ical.NewDecoder(r).Decode()
		if err != nil || len(cal.Events()) != 1 {
			t.Fatalf("read back: %v", err)
		}
		e := cal.Events()[0]
		for name, want := range map[string]string{ical.PropSummary: meeting.Title, ical.PropLocation: meeting.Place,
			ical.PropDescription: meeting.Note, ical.PropUID: meeting.UID} {
			if got, err := e.Props.Text(name); err != nil || got != want {
				t.Errorf("%s reads %q, %v; want %q", name, got, err, want)
			}
		}
		start, err := e.DateTimeStart(time.UTC)
		end, err2 := e.DateTimeEnd(time.UTC)
		if err != nil || err2 != nil || !start.Equal(meeting.Start.Truncate(time.Second)) || !end.Equal(meeting.End) {
			t.Errorf("from %v to %v, %v, %v", start, end, err, err2)
		}
		if who := e.Props.Get(ical.PropOrganizer); who == nil || who.Value != "mailto:ines@karang.example" ||
			who.Params.Get(ical.ParamCommonName) != "Ines Radu; of, KarangBCC:x" {
			t.Errorf("the organiser: %+v", who)
		}
	}
	read(bytes.NewReader(b))

	// In a letter it is a part that calendars take by its method (RFC 6047), as mime/multipart reads it.
	l := letter
	l.Invite = b
	var out bytes.Buffer
	if err := Write(&out, l); err != nil {
		t.Fatal(err)
	}
	m, err := netmail.ReadMessage(&out)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	var walk func(kind string, body io.Reader)
	walk = func(kind string, body io.Reader) {
		media, params, err := mime.ParseMediaType(kind)
		if err != nil {
			t.Fatal(err)
		}
		if media == "text/calendar" {
			found++
			if params["method"] != "REQUEST" {
				t.Errorf("its method is %q", params["method"])
			}
			read(body)
		}
		if !strings.HasPrefix(media, "multipart/") {
			return
		}
		for r := multipart.NewReader(body, params["boundary"]); ; { // it undoes quoted-printable by itself
			p, err := r.NextPart()
			if err == io.EOF {
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			walk(p.Header.Get("Content-Type"), p)
		}
	}
	walk(m.Header.Get("Content-Type"), m.Body)
	if found != 1 {
		t.Errorf("%d parts are for calendars", found)
	}

	for says, change := range map[string]func(*Event){
		"no title": func(e *Event) {
			e.Title = " "
		}, "no start": func(e *Event) {
			e.Start = time.Time{}
		}, "an end before its start": func(e *Event) { e.End = e.Start },
	} {
		e := meeting
		change(&e)
		if _, err := Invitation(e); err == nil {
			t.Errorf("an invitation with %s was written", says)
		}
	}
}

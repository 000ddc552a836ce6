package mail

import (
	"bytes"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/emersion/go-ical"

	"ombak/internal/core/plainly"
)

// Event is what an invitation is to.
type Event struct {
	UID                      string // the same for every change of the event
	Title, Place, Note       string
	Start, End               time.Time
	OrganiserName, Organiser string
	Attendee                 string
	Stamp                    time.Time
}

// Invitation writes an event as an invitation (RFC 5545, with the method
// REQUEST of RFC 5546), with its times in UTC.
func Invitation(e Event) ([]byte, error) {
	if strings.TrimSpace(e.Title) == "" || e.Start.IsZero() || !e.End.After(e.Start) {
		return nil, plainly.New("an invitation needs a title, a start and how long it takes")
	}
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropProductID, "-//Ombak//EN")
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropMethod, "REQUEST")
	ev := ical.NewEvent()
	ev.Props.SetText(ical.PropUID, e.UID)
	ev.Props.SetDateTime(ical.PropDateTimeStamp, e.Stamp.UTC().Truncate(time.Second))
	ev.Props.SetDateTime(ical.PropDateTimeStart, e.Start.UTC().Truncate(time.Second))
	ev.Props.SetDateTime(ical.PropDateTimeEnd, e.End.UTC().Truncate(time.Second))
	ev.Props.SetText(ical.PropSummary, e.Title)
	if e.Place != "" {
		ev.Props.SetText(ical.PropLocation, e.Place)
	}
	if e.Note != "" {
		ev.Props.SetText(ical.PropDescription, e.Note)
	}
	address := func(name, a string) *ical.Prop {
		p := ical.NewProp(name)
		p.SetURI(&url.URL{Scheme: "mailto", Opaque: a})
		return p
	}
	organiser := address(ical.PropOrganizer, e.Organiser)
	if e.OrganiserName != "" {
		organiser.Params.Set(ical.ParamCommonName, strings.Map(func(r rune) rune {
			if r == '"' || r < ' ' {
				return -1 // a parameter has no way to hold it (RFC 5545, 3.2)
			}
			return r
		}, e.OrganiserName))
	}
	ev.Props.Set(organiser)
	attendee := address(ical.PropAttendee, e.Attendee)
	attendee.Params.Set(ical.ParamRSVP, "TRUE")
	ev.Props.Add(attendee)
	cal.Children = append(cal.Children, ev.Component)
	var b bytes.Buffer
	if err := ical.NewEncoder(&b).Encode(cal); err != nil {
		return nil, err
	}
	return fold(b.Bytes()), nil
}

// fold breaks lines of more than 75 octets between letters, which the encoder
// does not (RFC 5545, 3.1).
func fold(source []byte) []byte {
	const most = 75
	var out bytes.Buffer
	for _, line := range bytes.SplitAfter(source, []byte("\r\n")) {
		room := most
		for len(line) > room+len("\r\n") {
			n := room
			for n > 1 && !utf8.RuneStart(line[n]) {
				n--
			}
			out.Write(line[:n])
			out.WriteString("\r\n ")
			line, room = line[n:], most-1
		}
		out.Write(line)
	}
	return out.Bytes()
}

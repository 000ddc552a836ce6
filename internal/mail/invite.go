package mail

import (
	"bytes"
	"net/url"
	"strconv"
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
	Sequence                 int  // how often it was changed (RFC 5545, 3.8.7.4)
	Cancelled                bool // it does not take place
}

// Invitation writes an event as an invitation (RFC 5545, with the method REQUEST of RFC 5546), with
// its times in UTC. A move is one with the same UID and a Sequence that has gone up (RFC 5546, 2.1.4).
func Invitation(e Event) ([]byte, error) {
	if strings.TrimSpace(e.Title) == "" || e.Start.IsZero() || !e.End.After(e.Start) {
		return nil, plainly.New("an invitation needs a title, a start and how long it takes")
	}
	return written("REQUEST", "", []Event{e})
}

// Cancellation writes that an event that somebody was invited to does not take place (the method
// CANCEL of RFC 5546, 3.2.5).
func Cancellation(e Event) ([]byte, error) {
	e.Cancelled = true
	return written("CANCEL", "", []Event{e})
}

// Feed writes events as a calendar that is followed by its address, with its name (RFC 7986, 5.1)
// and how often it is worth to be read again (5.7).
func Feed(name string, list []Event) ([]byte, error) { return written("", name, list) }

// MethodOf is the method of a calendar that Invitation or Cancellation has written.
func MethodOf(source []byte) string {
	if bytes.Contains(source, []byte("METHOD:CANCEL\r\n")) {
		return "CANCEL"
	}
	return "REQUEST"
}

func written(method, name string, list []Event) ([]byte, error) {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropProductID, "-//Ombak//EN")
	cal.Props.SetText(ical.PropVersion, "2.0")
	if method != "" {
		cal.Props.SetText(ical.PropMethod, method)
	}
	if name != "" {
		cal.Props.SetText("NAME", name)
		often := ical.NewProp("REFRESH-INTERVAL")
		often.Value = "PT15M"
		often.Params.Set(ical.ParamValue, "DURATION")
		cal.Props.Set(often)
	}
	for _, e := range list {
		cal.Children = append(cal.Children, component(e))
	}
	if len(list) == 0 { // a calendar has at least one part (RFC 5545, 3.6), and the encoder insists
		return []byte("BEGIN:VCALENDAR\r\nPRODID:-//Ombak//EN\r\nVERSION:2.0\r\nEND:VCALENDAR\r\n"), nil
	}
	var b bytes.Buffer
	if err := ical.NewEncoder(&b).Encode(cal); err != nil {
		return nil, err
	}
	return fold(b.Bytes()), nil
}

func component(e Event) *ical.Component {
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
	if e.Sequence > 0 || e.Cancelled {
		n := ical.NewProp(ical.PropSequence)
		n.Value = strconv.Itoa(e.Sequence)
		ev.Props.Set(n)
	}
	if e.Cancelled {
		ev.SetStatus(ical.EventCancelled)
	}
	address := func(name, a string) *ical.Prop {
		p := ical.NewProp(name)
		p.SetURI(&url.URL{Scheme: "mailto", Opaque: a})
		return p
	}
	if e.Organiser != "" {
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
	}
	if e.Attendee != "" {
		attendee := address(ical.PropAttendee, e.Attendee)
		if !e.Cancelled {
			attendee.Params.Set(ical.ParamRSVP, "TRUE")
		}
		ev.Props.Add(attendee)
	}
	return ev.Component
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

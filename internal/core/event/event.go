// Package event is what people are invited to: a workshop, a visit, a talk. An event has a
// day and a place, people register for it, and come or stay away. Steps of sequences and
// rules refer to it; what is reckoned from it follows when it is moved.
package event

import (
	"bytes"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Event is one event. Instants are UTC.
type Event struct {
	ID        int64     `json:"-"`
	Name      string    `json:"name"`
	Note      string    `json:"-"` // what it is for, in a few words
	Starts    time.Time `json:"starts"`
	Ends      time.Time `json:"ends"`
	Zone      string    `json:"zone"`            // IANA name: where its day and time are read
	Place     string    `json:"place,omitempty"` // in words; empty: online
	Link      string    `json:"link,omitempty"`  // where one joins; https
	Page      int64     `json:"-"`               // whose form registers; 0: none
	Seats     int       `json:"-"`               // 0: as many as come
	Revision  int       `json:"-"`               // counts each move and the cancelling (RFC 5545, SEQUENCE)
	Moved     time.Time `json:"-"`
	Cancelled time.Time `json:"cancelled,omitzero"` // zero: it takes place
}

// Limits of an event.
const (
	MaxSeats = 1_000_000
	MaxDays  = 31 // from its start to its end
)

// Check reports why it cannot be kept, or nil.
func (e *Event) Check() error {
	switch {
	case e.Name == "":
		return plainly.New("give the event a name")
	case e.Starts.Year() < 2000 || e.Starts.Year() > 2200:
		return plainly.New("choose the day and the time at which it begins")
	case !e.Ends.After(e.Starts):
		return plainly.New("it ends after it begins")
	case e.Ends.Sub(e.Starts) > MaxDays*24*time.Hour:
		return plainly.Errorf("it lasts at most %d days", MaxDays)
	case e.Seats < 0 || e.Seats > MaxSeats:
		return plainly.Errorf("the seats are a whole number up to %d; 0 is as many as come", MaxSeats)
	}
	if _, err := calendar.Zone(e.Zone); err != nil {
		return err
	}
	if e.Link != "" {
		if u, err := url.Parse(e.Link); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
			return plainly.New("the link is a whole address, with https:// before it")
		}
	}
	return nil
}

// Location is where its day and time are read; UTC where nobody knows the zone any more.
func (e *Event) Location() *time.Location {
	loc, err := calendar.Zone(e.Zone)
	if err != nil {
		return time.UTC
	}
	return loc
}

// Off reports whether it does not take place.
func (e *Event) Off() bool { return !e.Cancelled.IsZero() }

// Offset is how far from an event something is due. Days and working days are counted in
// dates from its first, or with After its last, and the clock of the event's zone is Clock;
// minutes and hours are elapsed time from its start or end. The zero Offset is its start.
type Offset struct {
	Span  calendar.Span `json:"span"`
	After bool          `json:"after,omitempty"`
	Clock int           `json:"clock,omitempty"` // minutes since midnight, for days
}

// At is the instant an offset from the event is.
func (e *Event) At(o Offset) time.Time {
	from, sign := e.Starts, -1
	if o.After {
		from, sign = e.Ends, 1
	}
	switch {
	case o.Span.N == 0:
		return from
	case o.Span.Unit == calendar.Minutes:
		return from.Add(time.Duration(sign*o.Span.N) * time.Minute)
	case o.Span.Unit == calendar.Hours:
		return from.Add(time.Duration(sign*o.Span.N) * time.Hour)
	}
	loc := e.Location()
	d := calendar.DateOf(from, loc)
	for left := o.Span.N; left > 0; {
		d = d.Add(sign)
		if o.Span.Unit != calendar.WorkingDays || (calendar.Working{}).On(d) {
			left--
		}
	}
	return calendar.At(d, time.Duration(o.Clock)*time.Minute, loc)
}

// String says it: "2 days before the event at 09:00", "when the event begins".
func (o Offset) String() string {
	if o.Span.N == 0 {
		if o.After {
			return "when the event ends"
		}
		return "when the event begins"
	}
	side := "before"
	if o.After {
		side = "after"
	}
	s := o.Span.String() + " " + side + " the event"
	if o.OfDays() {
		s += fmt.Sprintf(" at %02d:%02d", o.Clock/60, o.Clock%60)
	}
	return s
}

// OfDays reports whether it counts dates, and so has a clock.
func (o Offset) OfDays() bool {
	return o.Span.N > 0 && (o.Span.Unit == calendar.Days || o.Span.Unit == calendar.WorkingDays)
}

// Check reports why it cannot stand in a plan, or nil.
func (o Offset) Check() error {
	if o.Clock < 0 || o.Clock >= 24*60 {
		return plainly.New("its time is none of the day")
	}
	return o.Span.Check()
}

// State is how somebody stands to an event.
type State string

// The states, as they are stored.
const (
	None       State = "" // they have nothing to do with it
	Registered State = "registered"
	Cancelled  State = "cancelled"
	Came       State = "came"
	StayedAway State = "stayed away"
)

// States lists what is stored.
func States() []State { return []State{Registered, Cancelled, Came, StayedAway} }

// Title is the state as a button or a heading has it.
func (s State) Title() string {
	if s == None {
		return ""
	}
	return strings.ToUpper(string(s[:1])) + string(s[1:])
}

// Holds reports whether the state takes a seat: they registered and did not cancel.
func (s State) Holds() bool { return s == Registered || s == Came || s == StayedAway }

var moves = map[State][]State{
	None:       {Registered, Came}, // who comes without having registered has come all the same
	Registered: {Cancelled, Came, StayedAway},
	Cancelled:  {Registered, Came},
	Came:       {StayedAway},
	StayedAway: {Came},
}

// To reports whether somebody can come from one state to another.
func (s State) To(next State) bool {
	for _, x := range moves[s] {
		if x == next {
			return true
		}
	}
	return false
}

// Calendar is the event as a calendar file holds it (RFC 5545): for the reader to put into
// their own, told by METHOD:PUBLISH or, where it does not take place, CANCEL. stamp is when
// the file is made, uid what names the event everywhere.
func (e *Event) Calendar(uid string, stamp time.Time) ([]byte, error) {
	c := ical.NewCalendar()
	c.Props.SetText(ical.PropVersion, "2.0")
	c.Props.SetText(ical.PropProductID, "-//Ombak//EN")
	method := "PUBLISH"
	v := ical.NewEvent()
	v.Props.SetText(ical.PropUID, uid)
	v.Props.SetDateTime(ical.PropDateTimeStamp, stamp.UTC())
	v.Props.SetDateTime(ical.PropDateTimeStart, e.Starts.UTC())
	v.Props.SetDateTime(ical.PropDateTimeEnd, e.Ends.UTC())
	v.Props.SetText(ical.PropSummary, e.Name)
	revision := ical.NewProp(ical.PropSequence)
	revision.Value = fmt.Sprint(e.Revision)
	v.Props.Set(revision)
	if place := e.Where(); place != "" {
		v.Props.SetText(ical.PropLocation, place)
	}
	if e.Off() {
		method = "CANCEL"
		v.SetStatus(ical.EventCancelled)
	} else {
		v.SetStatus(ical.EventConfirmed)
	}
	c.Props.SetText(ical.PropMethod, method)
	c.Children = append(c.Children, v.Component)
	var b bytes.Buffer
	if err := ical.NewEncoder(&b).Encode(c); err != nil {
		return nil, fmt.Errorf("writing the calendar file of an event: %w", err)
	}
	return b.Bytes(), nil
}

// Where is its place in words; online where it has a link alone.
func (e *Event) Where() string {
	if e.Place == "" && e.Link != "" {
		return "online"
	}
	return e.Place
}

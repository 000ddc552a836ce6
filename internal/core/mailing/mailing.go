// Package mailing is the rules of a one-off email: one message to one audience,
// at one time.
//
// Who gets it is decided once, when it is launched, and looked at once more
// when each email goes out. Everybody else is left out for one reason, the
// first of Reasons that applies, and the list of them is kept.
package mailing

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
)

// Reason is why somebody of the audience does not get it: one of this package's
// or one of contact's.
type Reason = contact.Reason

// The reasons there are besides those of the contact rule.
const (
	Excluded Reason = "excluded"
	OpenDeal Reason = "open deal"
	InRest   Reason = "in rest"
)

// Reasons lists all in the order in which they are looked at.
func Reasons() []Reason {
	return slices.Concat([]Reason{Excluded}, contact.Reasons(), []Reason{OpenDeal, InRest})
}

// Facts are what is asked about one person.
type Facts struct {
	contact.Facts // with what they say of the plan's purpose
	Excluded      bool
	OpenDeal      bool
	LastMail      time.Time // when an email that they did not ask for last went or was to go out to them; zero: never
}

// Plan is what of a one-off email decides who gets it and when.
type Plan struct {
	Rest      int                   `json:"rest"`        // nobody who got an email within so many days; 0: everybody
	WithDeals bool                  `json:"with_deals"`  // also those with an open deal
	At        time.Time             `json:"at,omitzero"` // not before; zero: at once
	Hours     calendar.SendingHours `json:"hours"`       // of the reader's clock
	Tags      Tags                  `json:"tags"`
}

// Tags are campaign tags that links take along.
type Tags struct {
	Source   string `json:"source,omitempty"`
	Medium   string `json:"medium,omitempty"`
	Campaign string `json:"campaign,omitempty"`
	Content  string `json:"content,omitempty"`
}

// NewPlan is a plan as it begins: in office hours, with three days of rest
// (common practice, no source).
func NewPlan() Plan {
	return Plan{Rest: 3, Hours: calendar.OfficeHours(8*60, 17*60), Tags: Tags{Source: "ombak", Medium: "email"}}
}

// Check reports what of the plan cannot be, or nil.
func (p *Plan) Check() error {
	if p.Rest < 0 || p.Rest > 365 {
		return plainly.New("the rest is a whole number of days from 0 to 365")
	}
	for _, t := range []string{p.Tags.Source, p.Tags.Medium, p.Tags.Campaign, p.Tags.Content} {
		if len(t) > 100 {
			return plainly.New("a campaign tag has at most 100 letters")
		}
	}
	return p.Hours.Check()
}

// Why is the reason why somebody does not get it at an instant, empty where
// they do. It goes out on consent to a purpose.
func (p *Plan) Why(f Facts, purpose int64, now time.Time) Reason {
	if f.Excluded {
		return Excluded
	}
	if why := contact.Why(f.Facts, contact.Email, contact.Ground{Purpose: purpose}); why != "" {
		return why
	}
	switch {
	case f.OpenDeal && !p.WithDeals:
		return OpenDeal
	case p.Rest > 0 && !f.LastMail.IsZero() && f.LastMail.After(now.Add(-time.Duration(p.Rest)*24*time.Hour)):
		return InRest
	}
	return ""
}

// When is the instant at which the email to a reader in a zone, with the holidays of their
// country, may go out, not before now.
func (p *Plan) When(now time.Time, zone *time.Location, holidays calendar.Holidays) (time.Time, error) {
	if p.At.After(now) {
		now = p.At
	}
	return p.Hours.Resting(holidays).Next(now, zone)
}

// Forecast says how many emails go out on which day when a sender takes at most
// so many a day (0: as many as there are): the days on which the first ready
// ones are due, and those behind them. Days are dates.
func Forecast(due map[string]int, limit int, next func(day string) string) ([]Day, error) {
	days := make([]string, 0, len(due))
	for d := range due {
		days = append(days, d)
	}
	slices.Sort(days)
	if len(days) == 0 {
		return nil, nil
	}
	var out []Day
	left, seen := 0, 0
	for d := days[0]; left > 0 || seen < len(days); d = next(d) {
		for ; seen < len(days) && days[seen] <= d; seen++ { // next may pass some over
			left += due[days[seen]]
		}
		n := left
		if limit > 0 {
			n = min(n, limit)
		}
		left -= n
		if n > 0 {
			out = append(out, Day{d, n})
		}
		if len(out) > 400 {
			return out, plainly.Errorf("it would take more than %d days", len(out)-1)
		}
	}
	return out, nil
}

// Day is how many go out on a date.
type Day struct {
	Date string
	N    int
}

// Tagged is a link's target with the campaign tags; those it has already stay.
// Addresses that are not of the web stay as they are.
func (t Tags) Tagged(target string) string {
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https" {
		return target
	}
	q := u.Query()
	changed := false
	for _, x := range [][2]string{{"utm_source", t.Source}, {"utm_medium", t.Medium}, {"utm_campaign", t.Campaign},
		{"utm_content", t.Content}} {
		if x[1] = strings.TrimSpace(x[1]); x[1] != "" && !q.Has(x[0]) {
			q.Set(x[0], x[1])
			changed = true
		}
	}
	if !changed {
		return target
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// LinkAct is what pressing a link does besides leading somewhere.
type LinkAct struct {
	Link int
	act.Act
}

// MarshalJSON writes the link beside the act: {"link": 2, "do": "tag", "what": "keen"}.
func (l LinkAct) MarshalJSON() ([]byte, error) {
	body, err := json.Marshal(act.Kept{Act: l.Act})
	if err != nil {
		return nil, err
	}
	return append(fmt.Appendf(nil, `{"link":%d,`, l.Link), body[1:]...), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (l *LinkAct) UnmarshalJSON(data []byte) error {
	var head struct{ Link int }
	var kept act.Kept
	if err := errors.Join(json.Unmarshal(data, &head), json.Unmarshal(data, &kept)); err != nil {
		return err
	}
	*l = LinkAct{head.Link, kept.Act}
	return nil
}

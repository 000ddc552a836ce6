package shell

import (
	"net/url"
	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"slices"
	"strconv"
	"time"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// weekdays are the days of the week as a form lists them.
var weekdays = []time.Weekday{1, 2, 3, 4, 5, 6, 0}

// ReadHours reads sending hours from the fields name.0 (Sunday) to name.6 and name-zone.
// Where they cannot be read, it answers those of before beside what is wrong. The button
// "hours name" has every working day be as Monday is.
func ReadHours(f url.Values, name string, before *calendar.SendingHours) (*calendar.SendingHours, error) {
	h := &calendar.SendingHours{Zone: f.Get(name + "-zone")}
	if !f.Has(name + ".1") { // it is just being opened
		if before != nil {
			return before, nil
		}
		hours := calendar.OfficeHours(9*60, 17*60)
		return &hours, nil
	}
	for _, d := range weekdays {
		list, err := calendar.ParseIntervals(f.Get(name + "." + strconv.Itoa(int(d))))
		if err != nil {
			return before, plainly.Errorf("%s: %w", d, err)
		}
		h.Days[d] = list
	}
	if f.Get("do") == "hours "+name {
		for d := time.Tuesday; d <= time.Friday; d++ {
			h.Days[d] = slices.Clone(h.Days[time.Monday])
		}
	}
	if h.Zone != "" {
		if _, err := calendar.Zone(h.Zone); err != nil {
			return before, err
		}
	}
	h.Holidays = f.Has(name+"-off") && f.Get(name+"-rest") == ""
	off, err := calendar.ParseDates(f.Get(name + "-off"))
	if err != nil {
		return h, plainly.Errorf("days off: %w", err) // the hours are as they were typed
	}
	h.Off = off
	return h, nil
}

// shownCountry is a country's English name, where it is known, else its code.
func shownCountry(code string) string {
	r, err := language.ParseRegion(code)
	if err != nil {
		return code
	}
	if name := display.English.Regions().Name(r); name != "" {
		return name
	}
	return code
}

package calendar

import (
	_ "embed"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	_ "time/tzdata" // the zones ship with the program: a bare machine has none

	"ombak/internal/core/plainly"
)

// zoneTab is zone.tab of the tz database (public domain), which gives every
// country its zones.
//
//go:embed zone.tab
var zoneTab string

// mostPeople names, for countries of several zones whose first row in zone.tab
// is not it, the zone in which most people live. Common practice, no source:
// the zone of the largest city.
var mostPeople = map[string]string{
	"AQ": "Antarctica/McMurdo", "AR": "America/Argentina/Buenos_Aires", "AU": "Australia/Sydney",
	"BR": "America/Sao_Paulo", "CA": "America/Toronto", "CD": "Africa/Kinshasa", "CL": "America/Santiago",
	"CN": "Asia/Shanghai", "CY": "Asia/Nicosia", "DE": "Europe/Berlin", "EC": "America/Guayaquil",
	"ES": "Europe/Madrid", "FM": "Pacific/Chuuk", "GL": "America/Nuuk", "ID": "Asia/Jakarta",
	"KI": "Pacific/Tarawa", "KZ": "Asia/Almaty", "MH": "Pacific/Majuro", "MN": "Asia/Ulaanbaatar",
	"MX": "America/Mexico_City", "MY": "Asia/Kuala_Lumpur", "NZ": "Pacific/Auckland", "PF": "Pacific/Tahiti",
	"PG": "Pacific/Port_Moresby", "PS": "Asia/Gaza", "PT": "Europe/Lisbon", "RU": "Europe/Moscow",
	"UA": "Europe/Kyiv", "UM": "Pacific/Wake", "US": "America/New_York", "UZ": "Asia/Tashkent",
}

type zoneRow struct{ name, city string }

var zones = sync.OnceValue(func() map[string][]zoneRow {
	m := map[string][]zoneRow{}
	for line := range strings.Lines(zoneTab) {
		f := strings.Split(strings.TrimRight(line, "\n"), "\t")
		if strings.HasPrefix(line, "#") || len(f) < 3 {
			continue
		}
		city := f[2][strings.LastIndexByte(f[2], '/')+1:]
		m[f[0]] = append(m[f[0]], zoneRow{f[2], strings.ToLower(strings.ReplaceAll(city, "_", " "))})
	}
	return m
})

// Whereabouts is what a record knows of where somebody is.
type Whereabouts struct {
	Zone    string // IANA name, or empty
	Country string // ISO 3166-1 alpha-2, or empty
	City    string
}

// ZoneFor finds the zone to read a person's clock in: the one on the record;
// the only one of their country; where the country has several, the one whose
// place in the tz database is their city; else that of the country's largest
// population, with guess set; else fallback. An unknown zone name on the record
// is passed over as if there were none.
func ZoneFor(w Whereabouts, fallback *time.Location) (loc *time.Location, guess bool) {
	if w.Zone != "" && w.Zone != "Local" {
		if loc, err := load(w.Zone); err == nil {
			return loc, false
		}
	}
	rows := zones()[strings.ToUpper(strings.TrimSpace(w.Country))]
	name := ""
	switch {
	case len(rows) == 0:
		return fallback, false
	case len(rows) == 1:
		name = rows[0].name
	default:
		city := strings.ToLower(strings.TrimSpace(w.City))
		for _, r := range rows {
			if city != "" && r.city == city {
				name = r.name
			}
		}
		if name == "" {
			name, guess = rows[0].name, true
			if m := mostPeople[strings.ToUpper(strings.TrimSpace(w.Country))]; m != "" {
				name = m
			}
		}
	}
	loc, err := load(name)
	if err != nil {
		return fallback, false
	}
	return loc, guess
}

// Zone finds a zone by its IANA name. The machine's own zone has none.
func Zone(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, plainly.Errorf("%q is no time zone", name)
	}
	l, err := load(name)
	if err != nil {
		return nil, plainly.Errorf("%q is no time zone", name)
	}
	return l, nil
}

var loaded sync.Map // name → *time.Location; time.LoadLocation reads afresh at each call

func load(name string) (*time.Location, error) {
	if l, ok := loaded.Load(name); ok {
		return l.(*time.Location), nil
	}
	l, err := time.LoadLocation(name)
	if err == nil {
		loaded.Store(name, l)
	}
	return l, err
}

// ZoneNames lists the zones of all countries by name.
func ZoneNames() []string {
	seen := map[string]bool{"UTC": true}
	for _, rows := range zones() {
		for _, r := range rows {
			seen[r.name] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

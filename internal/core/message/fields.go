package message

import (
	"fmt"
	"html"
	"regexp"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/core/person"
)

// Field is a merge field that a message can use.
type Field struct {
	Name  string // "person.first_name"
	Label string
	Usual string       // a fallback to begin with
	Of    person.Field // what on the record it is; empty for the sender's and the owner's
}

// Fields lists the merge fields there are: of the person, their company, their
// owner and the sender. own are the workspace's own fields.
func Fields(own []person.Definition) []Field {
	out := []Field{
		{"person.first_name", "First name", "there", person.FirstName},
		{"person.last_name", "Last name", "", person.LastName}, {"person.title", "Title", "your role", person.Title},
		{"person.email", "Email", "", person.EmailField}, {"person.phone", "Phone", "", person.PhoneField},
		{"person.department", "Department", "your team", person.Department},
		{"person.country", "Country", "your country", person.Country},
		{"person.region", "Region", "your region", person.Region}, {"person.city", "City", "your town", person.City},
		{"person.street", "Street", "", person.Street}, {"person.postcode", "Postcode", "", person.Postcode},
		{"person.language", "Language", "", person.Language}, {"person.source", "Source", "", person.Source},
		{"person.campaign", "Campaign they came by", "", person.Campaign},
		{"company.name", "Company", "your site", person.Company},
		{"company.industry", "Industry", "your industry", person.Industry},
		{"company.domain", "Company’s domain", "", person.Domain},
		{"company.country", "Company’s country", "", person.CompanyCountry},
		{"owner.name", "Owner’s name", "", ""}, {"owner.first_name", "Owner’s first name", "", ""},
		{"owner.email", "Owner’s email", "", ""}, {"owner.phone", "Owner’s phone", "", ""},
		{"owner.booking", "Owner’s booking page", "", ""}, {"sender.booking", "Sender’s booking page", "", ""},
		{"sender.name", "Sender’s name", "", ""}, {"sender.first_name", "Sender’s first name", "", ""},
		{"sender.email", "Sender’s email", "", ""}, {"sender.phone", "Sender’s phone", "", ""},
	}
	out = append(out, Field{EventTitle, "Event of the invitation", "", ""},
		Field{EventDay, "Its day, in the reader’s zone", "", ""},
		Field{EventTime, "Its time, in the reader’s zone", "", ""}, Field{EventPlace, "Its place", "online", ""},
		Field{CampaignName, "Campaign", "", ""})
	for _, d := range own {
		if id, ok := d.Field.OwnID(); ok {
			group := "person"
			if d.Company {
				group = "company"
			}
			out = append(out, Field{fmt.Sprintf("%s.own_%d", group, id), d.Name, "", d.Field})
		}
	}
	return out
}

// The fields that belong to the message and to what it is sent for.
const (
	EventTitle   = "event.title"
	EventDay     = "event.day"
	EventTime    = "event.time"
	EventPlace   = "event.place"
	CampaignName = "campaign.name"
)

const shelfField = "shelf.item_"

// ShelfField is the field that says the title of an item of the shelf.
func ShelfField(item int64) string { return fmt.Sprintf("%s%d", shelfField, item) }

// Tell adds to a reader's values what the invitation says, by the clock of
// their zone. Without one it adds nothing.
func (i *Invite) Tell(v Values, zone *time.Location) {
	if i == nil {
		return
	}
	at := i.Start.In(zone)
	v[EventTitle], v[EventPlace] = i.Title, i.Place
	v[EventDay], v[EventTime] = at.Format("Monday 2 January 2006"), at.Format("15:04 MST")
}

// TellEvent adds to a reader's values what there is to say of an event, by the clock of
// their zone; its link leads to what they can do about it.
func TellEvent(v Values, e *event.Event, zone *time.Location) {
	i := Invite{Title: e.Name, Start: e.Starts, Place: e.Where()}
	i.Tell(v, zone)
}

// EventLink is the target of a link to what a reader can do about an event: register,
// cancel, take it into their calendar, join.
func EventLink(id int64) string { return fmt.Sprintf("/e/%d", id) }

// Values are what the fields are for one reader, by full name. A field that is
// absent, or empty but for spaces, has no value.
type Values map[string]string

// ValuesOf fills the fields of a record in. Sender and owner are for the caller
// to add.
func ValuesOf(v person.Values, fields []Field) Values {
	out := Values{}
	for _, f := range fields {
		if f.Of == "" || v[f.Of] == "" {
			continue
		}
		x := person.Shown(v[f.Of])
		switch f.Of {
		case person.Country, person.CompanyCountry:
			x = person.CountryName(x)
		case person.Language:
			x = person.LanguageName(x)
		case person.PhoneField:
			x = person.ShowPhone(x)
		}
		out[f.Name] = x
	}
	return out
}

// Missing says which field kept a message from one reader.
type Missing struct{ Field string }

func (m *Missing) Error() string {
	return fmt.Sprintf("the merge field %s has no value and no fallback", m.Field)
}

// Plain marks it as an error that users may read.
func (*Missing) Plain() {}

// Unknown says that a message uses a field that does not exist.
type Unknown struct{ Field string }

func (u *Unknown) Error() string { return fmt.Sprintf("there is no merge field %s", u.Field) }

// Plain marks it as an error that users may read.
func (*Unknown) Plain() {}

var (
	tag  = regexp.MustCompile(`\{\{-?\s*(.*?)\s*-?\}\}`)
	name = regexp.MustCompile(`^[a-z_]+(\.[a-z_0-9]+)*`)
)

// signatureField is the sender's signature: HTML of their own, cleaned.
const signatureField = "sender.signature"

func firstWord(s string) string {
	if f := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == '|' }); len(f) > 0 {
		return f[0]
	}
	return "{{ }}"
}

// Needed lists the fields of a text that have no fallback: a reader without a
// value does not get it.
func Needed(src string) []string {
	var out []string
	for _, m := range tag.FindAllStringSubmatch(src, -1) {
		body := html.UnescapeString(m[1])
		field := name.FindString(body)
		if field == "" || field == signatureField || slices.Contains(out, field) {
			continue
		}
		if _, fallback, ok := strings.Cut(body, "default:"); ok && strings.Trim(fallback, ` "'`) != "" {
			continue
		}
		out = append(out, field)
	}
	return out
}

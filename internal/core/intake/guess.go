package intake

import (
	"strings"
	"unicode"

	"ombak/internal/core/person"
)

// heads are words that columns are headed with, without spaces and signs, and
// what they mean. Common practice, no source.
var heads = map[string]string{
	"firstname": "first name", "givenname": "first name", "forename": "first name", "vorname": "first name",
	"prénom": "first name", "prenom": "first name", "nombre": "first name", "fornavn": "first name",
	"förnamn": "first name", "nome": "first name", "first": "first name",
	"lastname": "last name", "surname": "last name", "familyname": "last name", "nachname": "last name",
	"nom": "last name", "apellido": "last name", "apellidos": "last name", "etternavn": "last name",
	"efternamn": "last name", "sobrenome": "last name", "last": "last name",
	"name": FullName, "fullname": FullName, "contact": FullName, "contactname": FullName,
	"email": "email", "emailaddress": "email", "mail": "email", "eposta": "email", "epost": "email", "correo": "email",
	"correoelectrónico": "email", "workemail": "email", "businessemail": "email", "courriel": "email",
	"secondemail": FurtherEmail, "email2": FurtherEmail, "otheremail": FurtherEmail, "furtheremail": FurtherEmail,
	"privateemail": FurtherEmail, "personalemail": FurtherEmail,
	"phone": "phone", "phonenumber": "phone", "telephone": "phone", "telefon": "phone", "teléfono": "phone",
	"téléphone": "phone", "tel": "phone", "mobile": "phone", "mobilephone": "phone", "directphone": "phone",
	"workphone": "phone",
	"phone2":    FurtherPhone, "otherphone": FurtherPhone, "furtherphone": FurtherPhone, "homephone": FurtherPhone,
	"fax":   Skip,
	"title": "title", "jobtitle": "title", "position": "title", "role": "title", "function": "title",
	"stilling": "title", "cargo": "title", "puesto": "title",
	"seniority": "seniority", "level": "seniority", "department": "department", "dept": "department",
	"abteilung": "department", "avdeling": "department",
	"company": "company", "companyname": "company", "organisation": "company", "organization": "company",
	"account": "company", "accountname": "company", "employer": "company", "firma": "company", "empresa": "company",
	"société": "company", "bedrift": "company",
	"companydomain": "company domain", "domain": "company domain", "website": "company domain", "web": "company domain",
	"companywebsite": "company domain",
	"industry":       "industry", "sector": "industry", "branche": "industry", "companysize": "company size",
	"employees": "company size", "numberofemployees": "company size", "size": "company size",
	"revenue": "revenue", "annualrevenue": "revenue", "turnover": "revenue", "companycountry": "company country",
	"country": "country", "land": "country", "país": "country", "pays": "country", "countrycode": "country",
	"region": "region", "state": "region", "province": "region", "county": "region", "stateprovince": "region",
	"city": "city", "town": "city", "ort": "city", "stadt": "city", "ciudad": "city", "ville": "city", "by": "city",
	"timezone": "time zone", "zone": "time zone", "tz": "time zone", "language": "language", "lang": "language",
	"sprache": "language", "idioma": "language", "språk": "language",
	"profile": "profile", "profileurl": "profile", "url": "profile", "owner": "owner", "rep": "owner",
	"source": "source", "leadsource": "source", "utmsource": "source", "medium": "medium", "utmmedium": "medium",
	"campaign": "campaign", "utmcampaign": "campaign",
	"term": "term", "utmterm": "term", "content": "content", "utmcontent": "content",
	"tags": Tags, "tag": Tags, "labels": Tags, "categories": Tags, "note": Note, "notes": Note, "comment": Note,
	"comments":     Note,
	"donotcontact": "do not contact", "dnc": "do not contact",
}

func plainHead(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// Guess says what each column is: by its head, by the names of the workspace's
// own fields, and, where the head says nothing, by what stands in it. A field
// is guessed for one column only.
func Guess(head []string, sample [][]string, own []person.Definition) []string {
	out := make([]string, len(head))
	used := map[string]bool{}
	take := func(i int, t string) {
		if t != Skip && (!used[t] || t == Tags) {
			out[i], used[t] = t, true
		}
	}
	for i, h := range head {
		p := plainHead(h)
		if p == "" {
			continue
		}
		for _, d := range own {
			if plainHead(d.Name) == p {
				take(i, string(d.Field))
			}
		}
		if out[i] == "" {
			if _, ok := person.Define(person.Field(strings.ToLower(strings.TrimSpace(h)))); ok {
				if d, _ := person.Define(person.Field(strings.ToLower(strings.TrimSpace(h)))); !d.Fixed {
					take(i, string(d.Field))
				}
			} else if t, ok := heads[p]; ok {
				take(i, t)
			}
		}
	}
	for i := range head {
		if out[i] != "" {
			continue
		}
		if _, known := heads[plainHead(head[i])]; known {
			continue
		}
		var emails, links, n int
		for _, row := range sample {
			if i >= len(row) || strings.TrimSpace(row[i]) == "" {
				continue
			}
			n++
			v := strings.TrimSpace(row[i])
			if _, err := person.Email(v); err == nil {
				emails++
			}
			if strings.HasPrefix(v, "https://") || strings.HasPrefix(v, "http://") {
				links++
			}
		}
		if n > 0 && emails*10 >= n*8 {
			t := string(person.EmailField)
			if used[t] {
				t = FurtherEmail
			}
			take(i, t)
		} else if n > 0 && links*10 >= n*8 {
			take(i, string(person.Profile))
		}
	}
	return out
}

// Targets lists what a column can be read as, in the order of an editor.
func Targets(own []person.Definition) []string {
	var out []string
	for _, d := range person.Definitions() {
		if d.Fixed {
			continue
		}
		out = append(out, string(d.Field))
		switch d.Field {
		case person.LastName:
			out = append(out, FullName)
		case person.EmailField:
			out = append(out, FurtherEmail)
		case person.PhoneField:
			out = append(out, FurtherPhone)
		}
	}
	for _, d := range own {
		out = append(out, string(d.Field))
	}
	return append(out, Tags, Note, string(person.DoNotContact))
}

package people

import (
	"context"
	"io"
	"strings"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// ExportColumns are the columns of an export, by name: every field that can be
// imported again, then tags and what else belongs to a record.
func ExportColumns(cat *rule.Catalogue) (names []string, fields []person.Field) {
	for _, d := range cat.Fields() {
		if d.Fixed {
			continue
		}
		names, fields = append(names, d.Name), append(fields, d.Field)
		switch d.Field {
		case person.EmailField:
			names, fields = append(names, intake.FurtherEmail), append(fields, intake.FurtherEmail)
		case person.PhoneField:
			names, fields = append(names, intake.FurtherPhone), append(fields, intake.FurtherPhone)
		}
	}
	names, fields = append(names, intake.Tags, string(person.DoNotContact)),
		append(fields, intake.Tags, person.DoNotContact)
	for _, d := range cat.Consents() {
		names, fields = append(names, d.Name), append(fields, d.Field)
	}
	return append(names, intake.Note), append(fields, intake.Note)
}

// Export writes everybody whom a query is about, as they come.
func (e *People) Export(ctx context.Context, q store.PeopleQuery, form roster.Form, w io.Writer) (n int64, err error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return 0, err
	}
	out, err := roster.NewWriter(form, w)
	if err != nil {
		return 0, err
	}
	names, fields := ExportColumns(cat)
	if err := out.Head(names); err != nil {
		return 0, err
	}
	cells := make([]string, len(fields))
	err = e.Store.EachPerson(ctx, q, func(p *store.ExportedPerson) error {
		n++
		v := p.Values()
		for i, f := range fields {
			switch f {
			case intake.FurtherEmail:
				cells[i] = strings.Join(p.Emails.V, "; ")
			case intake.FurtherPhone:
				cells[i] = strings.Join(p.Phones.V, "; ")
			case intake.Tags:
				cells[i] = strings.Join(p.Tags.V, "; ")
			case intake.Note:
				cells[i] = intake.NotesText(p.Notes.V)
			case person.DoNotContact:
				cells[i] = ""
				if p.DoNotContact {
					cells[i] = "yes"
				}
			default:
				if kind, _, id := person.MarkOf(f); kind == person.ConsentMark {
					cells[i] = ""
					for _, c := range p.Consents.V {
						if c.Purpose == id {
							cells[i] = intake.ConsentText(c)
						}
					}
					continue
				}
				cells[i] = person.Shown(v[f])
			}
		}
		return out.Row(cells)
	})
	if err != nil {
		return n, err
	}
	return n, out.Close()
}

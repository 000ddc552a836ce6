package store

import (
	"context"
	"fmt"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
)

// importer writes the SQL that applies staged rows by a mapping.
type importer struct {
	m     *intake.Mapping
	own   []int64
	types map[int64]person.Type
	has   map[string]bool

	companyOwn   []int64 // columns that are own fields of companies
	companyTypes map[int64]person.Type
	consents     bool // some column says what people agreed to
}

func newImporter(ctx context.Context, q querier, m *intake.Mapping) (*importer, error) {
	i := &importer{m: m, has: map[string]bool{}}
	var err error
	if i.types, err = ownTypes(ctx, q, false); err != nil {
		return nil, err
	}
	if i.companyTypes, err = ownTypes(ctx, q, true); err != nil {
		return nil, err
	}
	for _, c := range m.Columns {
		i.has[c] = true
		if id, ok := person.Field(c).OwnID(); ok && i.types[id] == "" {
			i.companyOwn = append(i.companyOwn, id)
		} else if ok {
			i.own = append(i.own, id)
		}
		if kind, _, _ := person.MarkOf(person.Field(c)); kind == person.ConsentMark {
			i.consents = true
		}
	}
	i.has[string(person.FirstName)] = i.has[string(person.FirstName)] || i.has[intake.FullName]
	i.has[string(person.LastName)] = i.has[string(person.LastName)] || i.has[intake.FullName]
	i.has[string(person.PhoneField)] = i.has[string(person.PhoneField)] || i.has[intake.FurtherPhone]
	i.has[string(person.EmailField)] = true
	i.has[string(person.Company)] = true // told by the domain of the address
	return i, nil
}

// taken is the value of a column after a row was applied to a known person.
func (i *importer) taken(col string) string {
	if i.m.Policy == intake.Replace && col != "email" {
		return fmt.Sprintf("case when coalesce(r.%[1]s, '') <> '' then r.%[1]s else p.%[1]s end", col)
	}
	return fmt.Sprintf("case when p.%[1]s = '' then coalesce(r.%[1]s, '') else p.%[1]s end", col)
}

// compared is a subquery over rows r and their people p: what each would
// become, and what of it is a change.
func (i *importer) compared(where string) string {
	sel, before, after := "", "", ""
	pair := func(key, was, is string) {
		before += fmt.Sprintf(", '%s', case when %s is distinct from %s then coalesce(%s, '') end", key, was, is, was)
		after += fmt.Sprintf(", '%s', case when %s is distinct from %s then coalesce(%s, '') end", key, was, is, is)
	}
	for _, f := range stagedFields[:18] {
		if !i.has[string(f.f)] && !(f.f == person.Source && i.m.Source != "") {
			continue
		}
		sel += fmt.Sprintf(", %s as %s", i.taken(f.col), f.col)
		pair(string(f.f), "p."+f.col, "("+i.taken(f.col)+")")
	}
	company := "coalesce(p.company_id, n.id)"
	owner := "coalesce(p.owner_id, r.owner_id)"
	own := "coalesce(r.own, '{}') || p.own"
	if i.m.Policy == intake.Replace {
		company, owner, own = "coalesce(n.id, p.company_id)", "coalesce(r.owner_id, p.owner_id)",
			"p.own || coalesce(r.own, '{}')"
	}
	sel += ", " + company + " as company_id, " + owner + " as owner_id, " + own +
		" as own, (p.do_not_contact or coalesce(r.do_not_contact, false)) as do_not_contact"
	changed := "(" + company + ") is distinct from p.company_id"
	before += ", 'company', case when " + changed + " then coalesce(o.name, '') end, 'company domain', case when " +
		changed + " then coalesce(o.domain, '') end"
	after += ", 'company', case when " + changed + " then coalesce(n.name, '') end, 'company domain', case when " +
		changed + " then coalesce(n.domain, '') end"
	pair("owner", "(select u.name from app_user u where u.id = p.owner_id)",
		"(select u.name from app_user u where u.id = ("+owner+"))")
	pair("do not contact", "case when p.do_not_contact then 'yes' else '' end",
		"case when p.do_not_contact or coalesce(r.do_not_contact, false) then 'yes' else '' end")
	for _, id := range i.own {
		pair(string(person.Own(id)), ownTextSQL(i.types[id], id, "p.own"), ownTextSQL(i.types[id], id, own))
	}
	return `select p.id, r.n` + sel + `, jsonb_strip_nulls(jsonb_build_object(` + before[2:] +
		`)) as before, jsonb_strip_nulls(jsonb_build_object(` + after[2:] + `
		)) as after
		from import_row r join person p on p.id = r.person_id left join company o on o.id = p.company_id
		left join lateral (select c.id, c.name, c.domain from company c where c.domain = r.domain union all
			select *
			from (
				select c.id, c.name, c.domain
				from company c
				where r.domain is null and r.company <> '' and lower(c.name) = lower(r.company)
				order by c.id
				limit 1) x
			limit 1) n on true
		where ` + where
}

// ownTextSQL is the text of an own field among own fields, as ownText has it.
func ownTextSQL(t person.Type, id int64, own string) string {
	if t == person.SeveralOf {
		return fmt.Sprintf("array_to_string(array(select jsonb_array_elements_text(case when "+
			"jsonb_typeof((%s)->'%d') = 'array' then (%s)->'%d' else '[]' end)), E'\\x1f')", own, id, own, id)
	}
	return fmt.Sprintf("coalesce((%s)->>'%d', '')", own, id)
}

// CountImport says, of the staged rows of an import, how many people are new,
// would be changed, and would stay as they are.
func (db Queries) CountImport(ctx context.Context, batch int64, m *intake.Mapping) (ImportCounts, error) {
	var c ImportCounts
	i, err := newImporter(ctx, db, m)
	if err != nil {
		return c, err
	}
	if c.Rejected,
		err = one[int64](ctx, db, "select count(*) from import_reject where batch_id = $1 and not taken",
		batch); err != nil {
		return c, err
	}
	if c.New, err = one[int64](ctx, db, "select count(*) from import_row where batch_id = $1 and fate = 1",
		batch); err != nil {
		return c, err
	}
	known, err := one[int64](ctx, db, "select count(*) from import_row where batch_id = $1 and fate = 2", batch)
	if err != nil {
		return c, err
	}
	if m.Policy != intake.Leave && known > 0 {
		if c.Updated,
			err = one[int64](ctx, db,
			"select count(*) from ("+i.compared("r.batch_id = $1 and r.fate = 2")+
				") x where x.before <> '{}' or x.after <> '{}'", batch); err != nil {
			return c, fmt.Errorf("counting what an import would change: %w", err)
		}
	}
	c.Unchanged = known - c.Updated
	c.Rows = known + c.New + c.Rejected
	return c, nil
}

// Piece is a part of an import's rows: of those from From to To, the ones whose
// companies fall to a share. Shares of an import can be applied side by side:
// they never keep people of one company at the same time, and so do not get in
// each other's way at its row.
type Piece struct{ From, To, Share int }

// Shares is how many shares there are.
const Shares = 2

const shareOf = "(hashtext(coalesce(r.domain, r.company, r.email, '')) & 1)"

// StagedPieces lists the pieces of size rows that are staged and not yet
// applied, by their shares.
func (db Queries) StagedPieces(ctx context.Context, batch int64, size int) ([Shares][]Piece, error) {
	var out [Shares][]Piece
	list, err := all[Piece](ctx, db,
		`select distinct (n - 1) / $2 * $2 + 1 as "from", (n - 1) / $2 * $2 + $2 as "to", `+shareOf+
			` as share from import_row r where batch_id = $1 order by 1`, batch, size)
	for _, p := range list {
		out[p.Share] = append(out[p.Share], p)
	}
	return out, err
}

// PrepareImport makes what all pieces of an import need, before they are
// applied side by side: the companies that rows name, and the tags.
func (tx Tx) PrepareImport(ctx context.Context, m *intake.Mapping, a Author) error {
	i, err := newImporter(ctx, tx, m)
	if err != nil {
		return err
	}
	run := func(q string, more ...any) (int64, error) {
		return exec(ctx, tx, q, append([]any{a.Batch}, more...)...)
	}
	if err := i.companies(run, a); err != nil {
		return fmt.Errorf("importing companies: %w", err)
	}
	for _, t := range m.Tags {
		if _, err := tx.TagNamed(ctx, t, a.User, a.At); err != nil {
			return err
		}
	}
	if i.has[intake.Tags] {
		if _, err := run(`
			insert into tag (name, owner_id, created_at)
			select distinct on (lower(t)) t, nullif($3::bigint, 0), $2
			from import_row r, unnest(r.tags) t
			where r.batch_id = $1
			order by lower(t)
			on conflict (lower(name)) do nothing`, a.At, a.User); err != nil {
			return fmt.Errorf("importing tags: %w", err)
		}
	}
	return nil
}

// AddCounts notes that rows of an import were applied. It is the last that a
// piece does: those beside it wait for its row from then on.
func (tx Tx) AddCounts(ctx context.Context, batch int64, c ImportCounts) error {
	if _, err := exec(ctx, tx, `
		update import
		set counts = counts || jsonb_build_object('new', coalesce((counts->>'new')::bigint, 0) + $2::bigint, 'updated',
			coalesce((counts->>'updated')::bigint, 0) + $3::bigint, 'unchanged',
			coalesce((counts->>'unchanged')::bigint, 0) + $4::bigint)
		where batch_id = $1`, batch, c.New, c.Updated, c.Unchanged); err != nil {
		return err
	}
	_, err := exec(ctx, tx, "update batch set done = done + $2 where id = $1", batch, c.New+c.Updated+c.Unchanged)
	return err
}

// pieceRows is the condition of a piece on import_row r; its values come first.
const pieceRows = "r.batch_id = $1 and r.n between $2 and $3 and " + shareOf + " = $4"

// ApplyRows makes people of the staged rows from to to, and answers what became
// of them.
//
// Somebody among them may have come by another way since the check: then
// nothing is applied and the answer is ErrTaken, and the piece is to be applied
// again with again set, which looks first.
func (tx Tx) ApplyRows(
	ctx context.Context, m *intake.Mapping, p Piece, again bool, a Author,
) (c ImportCounts, err error) {
	i, err := newImporter(ctx, tx, m)
	if err != nil {
		return c, err
	}
	fail := func(what string, err error) (ImportCounts, error) {
		return c, fmt.Errorf("importing rows %d to %d: %s: %w", p.From, p.To, what, err)
	}
	span := []any{a.Batch, p.From, p.To, p.Share}
	run := func(q string, more ...any) (int64, error) {
		return exec(ctx, tx, q, append(append([]any{}, span...), more...)...)
	}
	const rows = pieceRows
	if again {
		if _, err = run(`update import_row r set fate = 2, person_id = p.id from person p where ` + rows +
			` and r.fate = 1 and p.email = r.email and p.email <> '' and p.id <> r.person_id`); err != nil {
			return fail("looking again", err)
		}
	}
	cols, vals := "", ""
	for _, f := range stagedFields[:18] {
		if i.has[string(f.f)] || f.f == person.Source && m.Source != "" {
			cols += ", " + f.col
			vals += ", coalesce(r." + f.col + ", '')"
		}
	}
	if c.New, err = run(`insert into person (id, created_at, batch_id, company_id, owner_id, own, do_not_contact`+cols+
		`
		) overriding system value
		select r.person_id, $5, $1,
			coalesce(c.id, (select k.id from company k where r.domain is null and r.company is not null
			and lower(k.name) = lower(r.company) order by k.id limit 1)), r.owner_id, coalesce(r.own, '{}'),
			coalesce(r.do_not_contact, false)`+vals+`
		from import_row r left join company c on c.domain = r.domain
		where `+rows+` and r.fate = 1`, a.At); err != nil {
		if taken(err) {
			return c, ErrTaken
		}
		return fail("new people", err)
	}
	if m.Policy != intake.Leave {
		set := ""
		for _, f := range stagedFields[:18] {
			if i.has[string(f.f)] || f.f == person.Source && m.Source != "" {
				set += fmt.Sprintf(", %s = x.%s", f.col, f.col)
			}
		}
		if c.Updated,
			err = one[int64](ctx, tx,
			`with x as materialized (select * from (`+i.compared(rows+" and r.fate = 2")+
				`
			) y where before <> '{}' or after <> '{}'),
			done as (update person p set company_id = x.company_id, owner_id = x.owner_id, own = x.own,
				do_not_contact = x.do_not_contact`+set+`
			from x where p.id = x.id),
			noted as (
				insert into change (person_id, at, user_id, how, batch_id, before, after)
				select id, $5, nullif($6::bigint, 0), $7, $1, before, after
				from x)
			select count(*) from x`, append(append([]any{}, span...), a.At, a.User, a.How)...); err != nil {
			return fail("people who are known", err)
		}
	}
	known, err := one[int64](ctx, tx, "select count(*) from import_row r where "+rows+" and fate = 2", span...)
	if err != nil {
		return fail("counting", err)
	}
	c.Unchanged = known - c.Updated
	if err = i.marks(ctx, tx, run, a); err != nil {
		return fail("tags and the like", err)
	}
	// What is applied is no longer staged: an import that is cut off goes on with the rest.
	if _, err = run("delete from import_row r where " + rows); err != nil {
		return fail("clearing up", err)
	}
	return c, nil
}

// companies makes the companies that the file names and nobody knows, and fills
// in what it says of those that are known.
func (i *importer) companies(run func(string, ...any) (int64, error), a Author) error {
	if _, err := run(`
		insert into company (name, domain, industry, size, revenue, country, own, created_at, batch_id)
		select r.name, r.domain, coalesce(r.industry, ''), coalesce(r.size, 0), coalesce(r.revenue, ''),
			coalesce(r.country, ''), coalesce(r.own, '{}'), $2, $1
		from import_company r
		where r.batch_id = $1 and case
			when r.domain is not null then not exists (select from company c where c.domain = r.domain)
			else not exists (select from company c where lower(c.name) = lower(r.name)) end
		order by r.domain, r.name on conflict (domain) do nothing`, a.At); err != nil {
		return err
	}
	if i.m.Policy == intake.Leave ||
		!(i.has[string(person.Industry)] || i.has[string(person.Size)] || i.has[string(person.Revenue)] ||
			i.has[string(person.CompanyCountry)] || len(i.companyOwn) > 0) {
		return nil
	}
	next := func(col, empty string) string {
		if i.m.Policy == intake.Replace {
			return fmt.Sprintf("coalesce(r.%[1]s, c.%[1]s)", col)
		}
		return fmt.Sprintf("case when c.%[1]s = %[2]s then coalesce(r.%[1]s, %[2]s) else c.%[1]s end", col, empty)
	}
	if !i.has[string(person.CompanyCountry)] {
		// The country is the person's then: good enough for a new company alone.
		if _, err := run("update import_company set country = null where batch_id = $1"); err != nil {
			return err
		}
	}
	own := "coalesce(r.own, '{}') || c.own"
	if i.m.Policy == intake.Replace {
		own = "c.own || coalesce(r.own, '{}')"
	}
	before, after := "", ""
	for _, id := range i.companyOwn {
		was, is := ownTextSQL(i.companyTypes[id], id, "own0"), ownTextSQL(i.companyTypes[id], id, "own1")
		before += fmt.Sprintf(" || case when %s <> %s then jsonb_build_object('%s', %s) else '{}' end", was, is,
			person.Own(id), was)
		after += fmt.Sprintf(" || case when %s <> %s then jsonb_build_object('%s', %s) else '{}' end", was, is,
			person.Own(id), is)
	}
	_, err := run(`with x as materialized (select distinct on (c.id) c.id, c.own as own0, `+own+
		` as own1, c.industry as industry0, c.size as size0, c.revenue as revenue0, c.country as country0,
			`+next("industry", "''")+` as industry1, `+next("size", "0")+` as size1, `+next("revenue", "''")+
		` as revenue1, `+next("country", "''")+`
			as country1
			from import_company r
			cross join lateral (
				select *
				from company c
				where c.domain = r.domain
				union all (
					select *
					from company c
					where r.domain is null and lower(c.name) = lower(r.name)
					order by c.id
					limit 1)) c
			where r.batch_id = $1 and c.batch_id is distinct from $1 order by c.id),
		ch as (
			select *
			from x
			where (industry0, size0, revenue0, country0, own0) is distinct from (industry1, size1, revenue1, country1,
				own1)),
		done as (
			update company c
			set industry = ch.industry1, size = ch.size1, revenue = ch.revenue1, country = ch.country1, own = ch.own1
			from ch
			where c.id = ch.id)
		insert into change (company_id, at, user_id, how, batch_id, company_own, before, after)
		select id, $2, nullif($3::bigint, 0), $4, $1, jsonb_build_array(own0, own1),
			jsonb_build_object('industry', industry0, 'company size', size0::text, 'revenue', revenue0,
				'company country', country0)`+before+`
			,
			jsonb_build_object('industry', industry1, 'company size', size1::text, 'revenue', revenue1,
				'company country', country1)`+after+` from ch`, a.At, a.User, a.How)
	return err
}

// marks puts tags, audience, consent and further addresses on everybody.
func (i *importer) marks(ctx context.Context, tx Tx, run func(string, ...any) (int64, error), a Author) error {
	const rows = pieceRows
	note := func(key string) string {
		return ` insert into change (person_id, at, user_id, how, batch_id, before, after)
			select d.person_id, $5, nullif($6::bigint, 0), $7, $1, jsonb_object_agg(` + key +
			`, ''), jsonb_object_agg(` + key + `, 'yes')
			from done d join import_row r on ` + rows +
			` and r.person_id = d.person_id and r.fate = 2 group by d.person_id`
	}
	if len(i.m.Tags) > 0 || i.has[intake.Tags] {
		if _, err := run(`
			with done as (insert into person_tag (tag_id, person_id, at) select distinct t.id, r.person_id,
				$5::timestamptz from import_row r join person p on p.id = r.person_id,
				unnest(coalesce(r.tags, '{}') || $8::text[]) n join tag t on lower(t.name) = lower(n)
			where `+rows+` on conflict do nothing returning person_id, tag_id)`+note("'tag ' || d.tag_id"), a.At,
			a.User, a.How, i.m.Tags); err != nil {
			return err
		}
	}
	if i.m.Audience != 0 {
		if _, err := run(`
				with done as (insert into audience_member (audience_id, person_id, joined_at) select $8, r.person_id,
					$5 from import_row r join person p on p.id = r.person_id
				where `+rows+
			`
			and exists (select from audience where id = $8 and not live)
			on conflict do nothing
			returning person_id, audience_id),
			moved as (
				insert into audience_move (audience_id, person_id, at, joined)
				select audience_id, person_id, $5, true
				from done),
			counted as (update audience set members = members + (select count(*) from done) where id = $8)`+
			note("'audience ' || d.audience_id"), a.At, a.User, a.How, i.m.Audience); err != nil {
			return err
		}
	}
	if i.consents {
		// What is known of somebody's consent outweighs a list.
		if _, err := run(`
			insert into consent (person_id, purpose_id, given, at, how, ground, user_id, batch_id)
			select r.person_id, x.purpose, x.given, coalesce(x.at, $5), coalesce(x.how, 'by import'),
				coalesce(x.ground, ''), nullif($6::bigint, 0), $1
			from import_row r
			join person p on p.id = r.person_id
			cross join lateral jsonb_to_recordset(r.said->'consents') as x(purpose bigint, given boolean,
				at timestamptz, how text, ground text)
			where `+rows+
			` and not exists (select from consent c where c.person_id = r.person_id and c.purpose_id = x.purpose)`,
			a.At, a.User); err != nil {
			return err
		}
	}
	if i.m.Purpose != 0 {
		// What somebody once said about a purpose themselves outweighs a list.
		if _, err := run(`
			insert into consent (person_id, purpose_id, given, at, how, ground, user_id, batch_id)
			select r.person_id, $8, true, $5, 'by import', $7, nullif($6::bigint, 0), $1
			from import_row r join person p on p.id = r.person_id where `+rows+
			` and not exists (select from consent c where c.person_id = r.person_id and c.purpose_id = $8)`, a.At,
			a.User, i.m.Ground, i.m.Purpose); err != nil {
			return err
		}
	}
	for _, k := range []struct{ kind, col, target string }{{"email", "emails", intake.FurtherEmail},
		{"phone", "phones", intake.FurtherPhone}} {
		if !i.has[k.target] {
			continue
		}
		if _, err := run(`
			with done as (
				insert into contact_point (person_id, kind, value)
				select distinct r.person_id, '`+k.kind+`', v
				from import_row r
				join person p on p.id = r.person_id, unnest(r.`+k.col+`) v
				where `+rows+` and v <> p.`+k.kind+`
					and not ('`+k.kind+`' = 'email' and exists (select from person o where o.email = v))
				on conflict do nothing
				returning person_id, value)`+note("'also "+k.kind+" ' || d.value"),
			a.At, a.User, a.How); err != nil {
			return err
		}
	}
	if i.has[intake.Note] {
		// A note that is there already, word for word, is not put there twice.
		if _, err := run(`
			insert into note (person_id, at, user_id, batch_id, text)
			select r.person_id, coalesce((x.v->>'at')::timestamptz, $5),
				coalesce((select u.id from app_user u where lower(u.name) = lower(x.v->>'by') order by u.id limit 1),
				nullif($6::bigint, 0)), $1, left(x.v->>'text', 10000)
			from import_row r
			join person p on p.id = r.person_id
			cross join lateral jsonb_array_elements(r.said->'notes') with ordinality as x(v, n)
			where `+rows+
			`
				and not exists (
					select from note o
					where o.person_id = r.person_id and o.text = left(x.v->>'text', 10000)
						and o.batch_id is distinct from $1)
				order by r.n, x.n`, a.At, a.User); err != nil {
			return err
		}
	}
	return nil
}

// UndoNew removes up to n people whom an import made and nothing else has
// touched since, from the one after on. It answers the last it looked at (0:
// there is nobody left to look at), how many went and how many stay.
func (tx Tx) UndoNew(ctx context.Context, batch, after int64, n int) (last, gone, kept int64, err error) {
	ids, err := all[int64](ctx, tx,
		"select id from person where batch_id = $1 and id > $2 and erased_at is null order by id limit $3 for update",
		batch, after, n)
	if err != nil || len(ids) == 0 {
		return 0, 0, 0, err
	}
	free, err := all[int64](ctx, tx, `
		select p.id
		from unnest($2::bigint[]) as p(id)
		where not exists (select from signal x where x.person_id = p.id)
			and not exists (select from enrolment x where x.person_id = p.id)
		and not exists (select from incoming x where x.person_id = p.id)
			and not exists (select from handoff x where x.person_id = p.id)
			and not exists (select from deal x where x.person_id = p.id)
		and not exists (select from touch x where x.person_id = p.id)
			and not exists (select from personal_edit x where x.person_id = p.id)
		and not exists (select from visitor x where x.person_id = p.id) and not exists (
			select from note x where x.person_id = p.id and x.batch_id is distinct from $1)
		and not exists (
			select from change x where x.person_id = p.id and x.batch_id is distinct from $1)
		and not exists (select from consent x where x.person_id = p.id and x.batch_id is distinct from $1)`, batch, ids)
	if err != nil {
		return 0, 0, 0, fmt.Errorf("looking for what nothing has touched: %w", err)
	}
	if _, err := exec(ctx, tx, `
		with gone as (delete from audience_member where person_id = any ($1) returning audience_id)
		update audience a
		set members = members - x.n
		from (select audience_id, count(*) as n from gone group by 1) x
		where a.id = x.audience_id`, free); err != nil {
		return 0, 0, 0, err
	}
	if _, err := exec(ctx, tx, "delete from person where id = any ($1)", free); err != nil {
		return 0, 0, 0, fmt.Errorf("removing people: %w", err)
	}
	return ids[len(ids)-1], int64(len(free)), int64(len(ids) - len(free)), nil
}

// UndoRest removes what else an import made: companies with nobody left, notes
// and consents.
func (tx Tx) UndoRest(ctx context.Context, batch int64) error {
	for _, q := range []string{
		"delete from note where batch_id = $1",
		"delete from consent where batch_id = $1", `
			update company c
			set industry = h.before->>'industry', size = (h.before->>'company size')::int,
				revenue = h.before->>'revenue', country = h.before->>'company country', own = case
				when c.own = h.company_own->1 then h.company_own->0 else c.own end
			from change h
			where h.batch_id = $1 and h.company_id = c.id
				and (c.industry, c.size::text, c.revenue, c.country) = (h.after->>'industry', h.after->>'company size',
				h.after->>'revenue', h.after->>'company country')`,
		"delete from company c where batch_id = $1 and not exists (select from person p where p.company_id = c.id) " +
			"and not exists (select from deal d where d.company_id = c.id)",
	} {
		if _, err := exec(ctx, tx, q, batch); err != nil {
			return fmt.Errorf("taking back the rest of an import: %w", err)
		}
	}
	return nil
}

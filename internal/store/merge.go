package store

import (
	"context"
	"encoding/json"
	"fmt"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Merged is what a merge did, kept so that it can be taken back: the record
// that went, and everything that moved from it to the one that stayed.
type Merged struct {
	Kept  int64              `json:"kept"`
	Gone  int64              `json:"gone"`
	Row   json.RawMessage    `json:"row"`
	Moved map[string][]int64 `json:"moved"`           // table → ids
	Tags  []int64            `json:"tags,omitempty"`  // that the one that stayed did not have
	Hand  []int64            `json:"hand,omitempty"`  // hand-picked audiences likewise
	HadT  []int64            `json:"hadTags"`         // that the one that went had
	HadH  []int64            `json:"hadAudiences"`    //
	Also  []string           `json:"also,omitempty"`  // addresses and numbers that were added, "email a@b"
	Ended []int64            `json:"ended,omitempty"` // enrolments that ended because both were on the sequence
	Parts []mergedPart       `json:"parts,omitempty"` // in deals, that one of the two has already
	// opt-out, bounce and do-not-contact of the one that stayed, before
	Stood json.RawMessage `json:"stood"`
	Mail  MergedMail      `json:"mail"`
}

// mergedPart is a part in a deal that went by a merge.
type mergedPart struct {
	Deal   int64  `json:"deal"   db:"deal_id"`
	Person int64  `json:"person" db:"person_id"`
	Part   string `json:"part"`
}

// belongings are the tables whose rows belong to a person and move with them.
var belongings = []string{"signal", "enrolment", "touch", "incoming", "handoff", "deal", "note", "change", "consent",
	"shelf_taken", "page_answer", "task", "attendance", "comeback",
	"booking", "outside_letter", "deal_part"}

// Errors of merging.
var (
	ErrTwoDeals    = plainly.New("both have an open deal: close one of them first")
	ErrTwoHandoffs = plainly.New("both are with a rep to decide on: have one of the handoffs decided first")
)

// Merge makes two records one. The values in set stand in the end; everything
// that happened with the one that goes has then happened with the one that
// stays. It notes how to take that back.
func (tx Tx) Merge(ctx context.Context, keep, gone int64, set person.Values, a Author) (Merged, error) {
	g := merging{tx: tx, ctx: ctx, a: a, set: set,
		m: Merged{Kept: keep, Gone: gone, Moved: map[string][]int64{}}}
	// What the one that goes has alone is moved before it goes; its addresses come to the
	// one that stays after it, for an address is one person's.
	for _, part := range []func() error{g.allowed, g.note, g.endDoubles, g.lastLines, g.oneInDeals, g.move, g.marks,
		g.leaveLive,
		g.standings, g.remove, g.settle} {
		if err := part(); err != nil {
			return g.m, fmt.Errorf("merging person %d into %d: %w", gone, keep, err)
		}
	}
	return g.m, tx.MarkStandings(ctx, []int64{keep}, a.At)
}

// merging is a merge while it is made.
type merging struct {
	tx     Tx
	ctx    context.Context
	a      Author
	set    person.Values
	m      Merged
	points []ContactPoint // that the one that goes had, its main ones too
}

// allowed locks both and sees that neither stands in the other's way.
func (g *merging) allowed() error {
	rows, err := all[int64](g.ctx, g.tx,
		"select id from person where id in ($1, $2) and erased_at is null order by id for update", g.m.Kept, g.m.Gone)
	if err != nil {
		return err
	}
	if len(rows) != 2 {
		return ErrNotFound
	}
	for _, c := range []struct {
		query string
		err   error
	}{
		{"select count(*) = 2 from deal where person_id in ($1, $2) and closed_at is null", ErrTwoDeals},
		{"select count(*) = 2 from handoff where person_id in ($1, $2) and state = 'open'", ErrTwoHandoffs},
	} {
		two, err := one[bool](g.ctx, g.tx, c.query, g.m.Kept, g.m.Gone)
		if err != nil {
			return err
		}
		if two {
			return c.err
		}
	}
	return nil
}

// note keeps both as they are.
func (g *merging) note() (err error) {
	if g.m.Row, err = one[json.RawMessage](g.ctx, g.tx, "select to_jsonb(p) from person p where id = $1",
		g.m.Gone); err != nil {
		return err
	}
	g.m.Stood, err = one[json.RawMessage](g.ctx, g.tx, `
		select jsonb_build_object('stopped_at', stopped_at, 'stopped_by', stopped_by, 'opted_out_at', opted_out_at,
			'no_calls_at', no_calls_at,
			'bounced_at', bounced_at, 'do_not_contact', do_not_contact, 'away_until', away_until, 'held_at', held_at,
			'created_at', created_at)
		from person where id = $1`, g.m.Kept)
	return err
}

// endDoubles has a person be on a sequence once: of two open ways the one of the
// record that stays goes on.
func (g *merging) endDoubles() (err error) {
	if g.m.Ended, err = all[int64](g.ctx, g.tx, `
		update enrolment e
		set ended_at = $3, reason = 'merged', due = null, look = null
		where e.person_id = $2 and e.ended_at is null
		and exists (
			select from enrolment k where k.person_id = $1 and k.sequence_id = e.sequence_id and k.ended_at is null)
		returning e.id`, g.m.Kept, g.m.Gone, g.a.At); err != nil || len(g.m.Ended) == 0 {
		return err
	}
	return g.tx.Withdraw(g.ctx, g.m.Ended, "merged", g.a.At)
}

// oneInDeals has whoever of the two would be in one deal twice be in it once.
func (g *merging) oneInDeals() (err error) {
	g.m.Parts, err = all[mergedPart](g.ctx, g.tx, `
		delete from deal_part x
		where x.person_id in ($1, $2) and (
			exists (select from deal d where d.id = x.deal_id and d.person_id in ($1, $2))
			or x.person_id = $2 and exists (
				select from deal_part o where o.deal_id = x.deal_id and o.person_id = $1))
		returning x.deal_id, x.person_id, x.part`, g.m.Kept, g.m.Gone)
	return err
}

// lastOf are the tables of which, for one thing, the newest line of a person is current.
var lastOf = map[string]string{"consent": "purpose_id", "attendance": "event_id"}

// lastLines has the later of two current consents stand, and of two attendances.
func (g *merging) lastLines() error {
	for table, of := range lastOf {
		if _, err := exec(g.ctx, g.tx, `
			update `+table+` c set current = false where c.person_id in ($1, $2) and c.current
			and exists (
				select from `+table+` o
				where o.person_id in ($1, $2) and o.`+of+` = c.`+of+` and o.current
					and (o.at, o.id) > (c.at, c.id))`, g.m.Kept, g.m.Gone); err != nil {
			return err
		}
	}
	return nil
}

// move gives what happened with the one to the other.
func (g *merging) move() (err error) {
	if err = mergeMail(g.ctx, g.tx, &g.m, g.a.At); err != nil {
		return err
	}
	for _, t := range belongings {
		if g.m.Moved[t], err = all[int64](g.ctx, g.tx,
			"update "+t+" set person_id = $1 where person_id = $2 returning id", g.m.Kept, g.m.Gone); err != nil {
			return err
		}
	}
	return moveMail(g.ctx, g.tx, &g.m)
}

// marks gives tags and places in hand-picked audiences to the one that stays.
func (g *merging) marks() (err error) {
	if g.m.HadT, err = all[int64](g.ctx, g.tx, "select tag_id from person_tag where person_id = $1",
		g.m.Gone); err != nil {
		return err
	}
	if g.m.HadH, err = all[int64](g.ctx, g.tx, `
		select m.audience_id
		from audience_member m
		join audience a on a.id = m.audience_id
		where m.person_id = $1 and not a.live`, g.m.Gone); err != nil {
		return err
	}
	if g.m.Tags, err = all[int64](g.ctx, g.tx, `
		insert into person_tag (tag_id, person_id, at)
		select tag_id, $1, at from person_tag where person_id = $2
		on conflict do nothing
		returning tag_id`, g.m.Kept, g.m.Gone); err != nil {
		return err
	}
	for _, id := range g.m.HadH {
		if err := setMembers(g.ctx, g.tx, id, []int64{g.m.Gone}, false, g.a.At); err != nil {
			return err
		}
		there, err := one[bool](g.ctx, g.tx,
			"select exists (select from audience_member where audience_id = $1 and person_id = $2)", id, g.m.Kept)
		if err != nil {
			return err
		}
		if there {
			continue
		}
		g.m.Hand = append(g.m.Hand, id)
		if err := setMembers(g.ctx, g.tx, id, []int64{g.m.Kept}, true, g.a.At); err != nil {
			return err
		}
	}
	return nil
}

// leaveLive has live audiences let the record go, with what they count.
func (g *merging) leaveLive() error {
	_, err := exec(g.ctx, g.tx, `
		with gone as (delete from audience_member where person_id = $1 returning audience_id),
		noted as (
			insert into audience_move (audience_id, person_id, at, joined) select audience_id, $1, $2, false from gone)
		update audience a set members = members - 1 from gone where a.id = gone.audience_id`, g.m.Gone, g.a.At)
	return err
}

// standings has whatever kept either from being reached keep both.
func (g *merging) standings() error {
	_, err := exec(g.ctx, g.tx, `
		update person k
		set held_at = coalesce(k.held_at, g.held_at),
			stopped_at = greatest(k.stopped_at, g.stopped_at),
			stopped_by = case
				when g.stopped_at > coalesce(k.stopped_at, '-infinity') then g.stopped_by
				else k.stopped_by end,
			opted_out_at = coalesce(k.opted_out_at, g.opted_out_at),
			no_calls_at = coalesce(k.no_calls_at, g.no_calls_at),
			bounced_at = case
				when $3 = k.email then k.bounced_at
				when $3 = g.email then g.bounced_at
				else coalesce(k.bounced_at, g.bounced_at) end,
			do_not_contact = k.do_not_contact or g.do_not_contact,
			away_until = greatest(k.away_until, g.away_until),
			created_at = least(k.created_at, g.created_at)
		from person g
		where k.id = $1 and g.id = $2`, g.m.Kept, g.m.Gone, g.set[person.EmailField])
	return err
}

// remove has the one go, and keeps by what it was found.
func (g *merging) remove() (err error) {
	var old struct{ Email, Phone string }
	if err := json.Unmarshal(g.m.Row, &old); err != nil {
		return err
	}
	if g.points, err = all[ContactPoint](g.ctx, g.tx,
		"delete from contact_point where person_id = $1 returning kind, value", g.m.Gone); err != nil {
		return err
	}
	g.points = append(g.points, ContactPoint{"email", old.Email}, ContactPoint{"phone", old.Phone})
	_, err = exec(g.ctx, g.tx, "delete from person where id = $1", g.m.Gone)
	return err
}

// settle sets the values that are to stand, and keeps every other address and number
// beside them.
func (g *merging) settle() error {
	p, err := one[Person](g.ctx, g.tx, personFields+"where p.id = $1", g.m.Kept)
	if err != nil {
		return err
	}
	now := p.Values()
	final := func(f person.Field) string {
		if v, ok := g.set[f]; ok {
			return v
		}
		return now[f]
	}
	for _, c := range append(g.points, ContactPoint{"email", p.Email}, ContactPoint{"phone", p.Phone}) {
		if c.Value == "" || c.Value == final(person.EmailField) || c.Value == final(person.PhoneField) {
			continue
		}
		n, err := exec(g.ctx, g.tx, `
			insert into contact_point (person_id, kind, value) values ($1, $2, $3)
			on conflict (person_id, kind, value) do nothing`, g.m.Kept, c.Kind, c.Value)
		if err != nil {
			return err
		}
		if n > 0 {
			g.m.Also = append(g.m.Also, c.Kind+" "+c.Value)
		}
	}
	if _, err := exec(g.ctx, g.tx, "delete from contact_point where person_id = $1 and kind = 'email' and value = $2",
		g.m.Kept, final(person.EmailField)); err != nil {
		return err
	}
	_, err = g.tx.Change(g.ctx, []Edit{{P: &p, Now: now, Set: g.set}}, g.a)
	return err
}

// Unmerge takes a merge back: the record that went is there again, with what
// was its own. What has happened since stays where it happened.
func (tx Tx) Unmerge(ctx context.Context, m Merged, a Author) error {
	fail := func(err error) error { return fmt.Errorf("taking the merge of person %d back: %w", m.Gone, err) }
	list, err := all[Changed](ctx, tx, changeFields+"where h.person_id = $1 and h.batch_id = $2 order by h.id desc",
		m.Kept, a.Batch)
	if err != nil {
		return fail(err)
	}
	p, err := one[Person](ctx, tx, personFields+"where p.id = $1 and p.erased_at is null", m.Kept)
	if IsNotFound(err) {
		return plainly.New("the record that was kept is not there any more")
	}
	if err != nil {
		return fail(err)
	}
	for _, also := range m.Also {
		if _, err := exec(ctx, tx, "delete from contact_point where person_id = $1 and kind || ' ' || value = $2",
			m.Kept, also); err != nil {
			return fail(err)
		}
	}
	for _, h := range list {
		set, _ := person.Revert(h.Before.V, h.After.V, p.Values())
		if _, err := tx.Change(ctx, []Edit{{P: &p, Now: p.Values(), Set: set}},
			Author{User: a.User, How: a.How, At: a.At}); err != nil {
			return fail(err)
		}
	}
	// What the database computes itself is not for us to write.
	columns, err := one[string](ctx, tx, `select string_agg(quote_ident(attname), ', ') from pg_attribute
		where attrelid = 'person'::regclass and attnum > 0 and not attisdropped and attgenerated = ''`)
	if err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "insert into person ("+columns+") overriding system value select "+columns+
		" from jsonb_populate_record(null::person, $1)", m.Row); err != nil {
		if taken(err) {
			return plainly.New("the address of the record that went is somebody else’s by now")
		}
		return fail(err)
	}
	// It is there again, and was not made now.
	if _, err := exec(ctx, tx, "delete from recorded where person_id = $1 and before is null", m.Gone); err != nil {
		return fail(err)
	}
	if _, err := exec(ctx, tx, `
		update person p
		set stopped_at = x.stopped_at, stopped_by = x.stopped_by, opted_out_at = x.opted_out_at,
			no_calls_at = x.no_calls_at,
			bounced_at = x.bounced_at, do_not_contact = x.do_not_contact, away_until = x.away_until,
			held_at = x.held_at, created_at = x.created_at
		from jsonb_populate_record(null::person, $2) x where p.id = $1`, m.Kept, m.Stood); err != nil {
		return fail(err)
	}
	for _, t := range belongings {
		if len(m.Moved[t]) == 0 {
			continue
		}
		if _, err := exec(ctx, tx, "update "+t+" set person_id = $2 where id = any ($1) and person_id = $3", m.Moved[t],
			m.Gone, m.Kept); err != nil {
			return fail(err)
		}
	}
	for _, x := range m.Parts {
		if _, err := exec(ctx, tx, `
			insert into deal_part (deal_id, person_id, part)
			select id, $2, $3 from deal where id = $1
			on conflict do nothing`, x.Deal, x.Person, x.Part); err != nil {
			return fail(err)
		}
	}
	if err := unmergeMail(ctx, tx, m); err != nil {
		return fail(err)
	}
	for _, id := range m.Ended {
		if _, err := exec(ctx, tx, `
				update enrolment
				set ended_at = null, reason = '', due = $2, look = $2
				where id = $1 and reason = 'merged'`, id, a.At); err != nil {
			return fail(err)
		}
	}
	// For each purpose, and each event, the latest of each is current again.
	for table, of := range lastOf {
		if _, err := exec(ctx, tx, `
			update `+table+` c
			set current = not exists (
				select from `+table+` o where o.person_id = c.person_id and o.`+of+` = c.`+of+` and o.id > c.id)
			where c.person_id in ($1, $2)
			and c.current <> (not exists (select from `+table+` o where o.person_id = c.person_id
				and o.`+of+` = c.`+of+` and o.id > c.id))`, m.Kept, m.Gone); err != nil {
			return fail(err)
		}
	}
	if _, err := exec(ctx, tx,
		"insert into person_tag (tag_id, person_id, at) select id, $1, $3 from tag where id = any ($2) on conflict "+
			"do nothing", m.Gone, m.HadT, a.At); err != nil {
		return fail(err)
	}
	if _, err := exec(ctx, tx, "delete from person_tag where person_id = $1 and tag_id = any ($2)", m.Kept,
		m.Tags); err != nil {
		return fail(err)
	}
	for _, id := range m.HadH {
		if err := setMembers(ctx, tx, id, []int64{m.Gone}, true, a.At); err != nil {
			return fail(err)
		}
	}
	for _, id := range m.Hand {
		if err := setMembers(ctx, tx, id, []int64{m.Kept}, false, a.At); err != nil {
			return fail(err)
		}
	}
	return tx.MarkStandings(ctx, []int64{m.Kept, m.Gone}, a.At)
}

// NotDouble notes that two records are two people.
func (tx Tx) NotDouble(ctx context.Context, a, b int64) error {
	_, err := exec(ctx, tx,
		"insert into not_double values (least($1::bigint, $2), greatest($1::bigint, $2)) on conflict do nothing", a, b)
	return err
}

// Pair is two records that may be one person.
type Pair struct{ A, B int64 }

// PairsToLookAt finds pairs of records that share something telling: the
// mailbox without dots and plus parts, a telephone number, or name and
// company. The core says which are alike, and why.
func (s *Store) PairsToLookAt(ctx context.Context, n int) ([]Pair, error) {
	var out []Pair
	err := s.InTx(ctx, func(tx Tx) error {
		if err := wide(ctx, tx); err != nil {
			return err
		}
		var err error
		out, err = all[Pair](ctx, tx, `
				with keyed as (
				select id, 'm' || replace(split_part(split_part(email, '@', 1), '+', 1), '.',
					'') || '@' || split_part(email, '@', 2) as k
				from person
				where email <> '' and erased_at is null
				union all select id, 'p' || phone from person where phone <> '' and erased_at is null
				union all select person_id, 'p' || value from contact_point where kind = 'phone'
				union all select id, 'n' || lower(first_name) || ' ' || lower(last_name) || '@' || company_id
				from person
				where first_name <> '' and last_name <> '' and company_id is not null and erased_at is null),
			groups as (
				select k, array_agg(distinct id order by id) as ids
				from keyed
				group by k
				having count(distinct id) between 2 and 20),
			pairs as (
				select distinct a.id as a, b.id as b
				from groups g, unnest(g.ids) as a(id), unnest(g.ids) as b(id)
				where a.id < b.id)
			select a, b
			from pairs
			where not exists (select from not_double d where d.low = a and d.high = b)
			order by b desc, a desc
			limit $1`, n)
		return err
	})
	return out, err
}

// StillPairs leaves those out that were said to be two people since.
func (db Queries) StillPairs(ctx context.Context, pairs []Pair) ([]Pair, error) {
	a, b := make([]int64, len(pairs)), make([]int64, len(pairs))
	for i, p := range pairs {
		a[i], b[i] = p.A, p.B
	}
	return all[Pair](ctx, db, `
		select u.a, u.b
		from unnest($1::bigint[], $2::bigint[]) with ordinality as u(a, b, n)
		where not exists (select from not_double d where d.low = u.a and d.high = u.b)
		order by u.n`, a, b)
}

// mailKey is an address less what mail servers leave out, as an index has it.
func mailKey(of string) string {
	return "(replace(split_part(split_part(" + of + ".email, '@', 1), '+', 1), '.', '') || '@' || " +
		"split_part(" + of + ".email, '@', 2))"
}

// likeOne finds who may be one person with somebody, by equality alone: by the address's
// key, the number, and the name as the index of names has it.
var likeOne = `
	with me as (select * from person where id = $1),
	same as (
		select p.id
		from person p, me
		where p.email <> '' and me.email <> '' and p.id <> me.id
			and ` + mailKey("p") + ` = ` + mailKey("me") + `
			and p.company_id is not distinct from me.company_id -- the key finds them, not who all works there
		union select p.id from person p, me where p.phone <> '' and p.phone = me.phone and p.id <> me.id
		union select p.id
		from person p, me
		where p.company_id = me.company_id and lower(p.first_name collate "C") = lower(me.first_name collate "C")
			and lower(p.last_name collate "C") = lower(me.last_name collate "C") and p.last_name <> ''
			and p.id <> me.id)
	select least(id, $1) as a, greatest(id, $1) as b
	from same
	where not exists (select from not_double d where d.low = least(id, $1) and d.high = greatest(id, $1))
	limit 20`

// PairsOf finds the pairs that one person is half of.
func (db Queries) PairsOf(ctx context.Context, id int64) ([]Pair, error) {
	return all[Pair](ctx, db, likeOne, id)
}

// KnownOf reads what is looked at to tell whether records are one person.
func (db Queries) KnownOf(ctx context.Context, ids []int64) (map[int64]person.Known, error) {
	rows, err := all[struct {
		ID             int64
		First, Last    string
		Emails, Phones JSON[[]string]
		Company        string
	}](ctx, db, `
		select p.id, p.first_name as first, p.last_name as last, coalesce(p.company_id::text, '') as company,
		(
			select coalesce(json_agg(v), '[]')
			from (
				select p.email as v
				where p.email <> ''
				union select value
				from contact_point c
				where c.person_id = p.id and c.kind = 'email') x) as emails,
		(
			select coalesce(json_agg(v), '[]')
			from (
				select p.phone as v
				where p.phone <> ''
				union select value
				from contact_point c
				where c.person_id = p.id and c.kind = 'phone') x) as phones
		from person p where p.id = any ($1) and p.erased_at is null`, ids)
	out := make(map[int64]person.Known, len(rows))
	for _, r := range rows {
		out[r.ID] = person.Known{First: r.First, Last: r.Last, Emails: r.Emails.V, Phones: r.Phones.V,
			Company: r.Company}
	}
	return out, err
}

// Belongs counts what belongs to a record, by kind.
func (db Queries) Belongs(ctx context.Context, id int64) (map[string]int, error) {
	rows, err := all[struct {
		What string
		N    int
	}](ctx, db, `
		select 'signal' as what, count(*) as n
		from signal
		where person_id = $1
		union all select 'note', count(*)
		from note
		where person_id = $1
		union all select 'tag', count(*)
		from person_tag
		where person_id = $1
		union all select 'deal', count(*)
		from deal
		where person_id = $1`, id)
	out := map[string]int{}
	for _, r := range rows {
		out[r.What] = r.N
	}
	return out, err
}

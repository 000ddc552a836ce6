package store

import (
	"context"
	"strings"
	"time"
)

// DealPart is that somebody takes part in a deal.
type DealPart struct {
	Deal    int64  `db:"deal_id"`
	Person  int64  `db:"person_id"`
	Part    string // a pipeline.Part
	First   string
	Last    string
	Email   string
	Title   string
	Company string
	Score   float64
}

// Full is their name, or their address where they have none.
func (p DealPart) Full() string {
	if name := strings.TrimSpace(p.First + " " + p.Last); name != "" {
		return name
	}
	return p.Email
}

const partFields = `
	select x.deal_id, x.person_id, x.part, p.first_name as first, p.last_name as last, p.email, p.title,
		coalesce(c.name, '') as company,
		` + firstScore + ` as score
	from deal_part x
	join person p on p.id = x.person_id
	left join company c on c.id = p.company_id `

// DealPeople lists who takes part in a deal, besides the one it is about.
func (db Queries) DealPeople(ctx context.Context, deal int64) ([]DealPart, error) {
	return all[DealPart](ctx, db, partFields+"where x.deal_id = $1 order by x.id", deal)
}

// CouldTakePart lists some others with an address at the company of a deal, who take no part in it yet.
func (db Queries) CouldTakePart(ctx context.Context, deal int64) ([]DealPart, error) {
	return all[DealPart](ctx, db, `
		select p.id as person_id, p.first_name as first, p.last_name as last, p.email, p.title
		from deal d
		join person p on p.company_id = d.company_id
		where d.id = $1 and p.id <> d.person_id and p.email <> '' and p.erased_at is null
			and not exists (select from deal_part x where x.deal_id = d.id and x.person_id = p.id)
		order by p.id
		limit 50`, deal)
}

// KeepPart has somebody take part in a deal, and keeps who said so; was is their part before, in words.
func (tx Tx) KeepPart(ctx context.Context, p DealPart, was string, user int64, at time.Time) error {
	if n, err := exec(ctx, tx, `
		insert into deal_part (deal_id, person_id, part)
		select $1, id, $3 from person where id = $2 and erased_at is null
		on conflict (deal_id, person_id) do update
		set part = excluded.part`, p.Deal, p.Person, p.Part); err != nil {
		return err
	} else if n == 0 {
		return ErrNotFound
	}
	now, err := one[DealPart](ctx, tx, partFields+"where x.deal_id = $1 and x.person_id = $2", p.Deal, p.Person)
	if err != nil {
		return err
	}
	became := strings.TrimSpace(now.Full() + " " + now.Part)
	if was == became {
		return nil
	}
	return addDealChange(ctx, tx, p.Deal, user, "takes part", was, became, at)
}

// RemovePart has somebody take no part in a deal any more, and answers their name and part; empty: they took none.
func (tx Tx) RemovePart(ctx context.Context, deal, person int64) (was string, err error) {
	p, err := one[DealPart](ctx, tx, partFields+"where x.deal_id = $1 and x.person_id = $2", deal, person)
	if IsNotFound(err) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	_, err = exec(ctx, tx, "delete from deal_part where deal_id = $1 and person_id = $2", deal, person)
	return strings.TrimSpace(p.Full() + " " + p.Part), err
}

// NoteDeal keeps that something of a deal was changed.
func (tx Tx) NoteDeal(ctx context.Context, deal, user int64, what, was, became string, at time.Time) error {
	return addDealChange(ctx, tx, deal, user, what, was, became, at)
}

// OpenDealsAt lists the open deals of a company that are not about one of its people.
func (db Queries) OpenDealsAt(ctx context.Context, person int64) ([]Deal, error) {
	return all[Deal](ctx, db, dealFields+`
		where d.closed_at is null and d.person_id <> $1
			and d.company_id = (select company_id from person where id = $1)
		order by d.worth desc, d.id
		limit 10`, person)
}

// DealFile is a file that is kept with a deal.
type DealFile struct {
	ID   int64
	Deal int64 `db:"deal_id"`
	Name string
	Type string // of its content
	Size int64
	At   time.Time
	User string
}

const fileFields = `
	select f.id, f.deal_id, f.name, f.type, f.size, f.at, coalesce(a.name, '') as "user"
	from deal_file f
	left join app_user a on a.id = f.user_id `

// DealFiles lists the files of a deal, the newest first.
func (db Queries) DealFiles(ctx context.Context, deal int64) ([]DealFile, error) {
	return all[DealFile](ctx, db, fileFields+"where f.deal_id = $1 order by f.id desc", deal)
}

// AddDealFile keeps one.
func (tx Tx) AddDealFile(ctx context.Context, f DealFile, data []byte, user int64) error {
	_, err := exec(ctx, tx, `
		insert into deal_file (deal_id, name, type, size, data, at, user_id)
		values ($1, $2, $3, $4, $5, $6, nullif($7::bigint, 0))`, f.Deal, f.Name, f.Type, len(data), data, f.At, user)
	return err
}

// DealFile reads one with its content.
func (db Queries) DealFile(ctx context.Context, deal, id int64) (f DealFile, data []byte, err error) {
	if f, err = one[DealFile](ctx, db, fileFields+"where f.deal_id = $1 and f.id = $2", deal, id); err != nil {
		return f, nil, err
	}
	data, err = one[[]byte](ctx, db, "select data from deal_file where id = $1", id)
	return f, data, err
}

// RemoveDealFile removes one, and answers its name.
func (tx Tx) RemoveDealFile(ctx context.Context, deal, id int64) (string, error) {
	return one[string](ctx, tx, "delete from deal_file where deal_id = $1 and id = $2 returning name", deal, id)
}

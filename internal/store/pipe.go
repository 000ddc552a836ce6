package store

import (
	"context"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
)

// Pipelines lists them in their order.
func (db Queries) Pipelines(ctx context.Context) ([]pipeline.Pipeline, error) {
	return all[pipeline.Pipeline](ctx, db, `
		select id, name, coalesce(team_id, 0) as team
		from pipeline
		order by position, id`)
}

// LockPipelines lists them within a transaction, locked.
func (tx Tx) LockPipelines(ctx context.Context) ([]pipeline.Pipeline, error) {
	return all[pipeline.Pipeline](ctx, tx, `
		select id, name, coalesce(team_id, 0) as team
		from pipeline
		order by position, id
		for update`)
}

// KeepPipeline changes a pipeline, or keeps a new one at the end where its id is 0; one that went comes back with the
// number it had.
func (tx Tx) KeepPipeline(ctx context.Context, p pipeline.Pipeline) (int64, error) {
	if p.ID == 0 {
		return one[int64](ctx, tx, `
			insert into pipeline (name, team_id, position)
			values ($1, nullif($2::bigint, 0), (select coalesce(max(position), 0) + 1 from pipeline))
			returning id`, p.Name, p.Team)
	}
	return one[int64](ctx, tx, `
		insert into pipeline (id, name, team_id, position) overriding system value
		values ($1, $2, nullif($3::bigint, 0), (select coalesce(max(position), 0) + 1 from pipeline))
		on conflict (id) do update
		set name = excluded.name, team_id = excluded.team_id
		returning id`, p.ID, p.Name, p.Team)
}

// StagesIn counts the stages of a pipeline.
func (tx Tx) StagesIn(ctx context.Context, pipe int64) (int, error) {
	return one[int](ctx, tx, "select count(*) from stage where pipeline_id = $1", pipe)
}

// RemovePipeline removes one that has no stage.
func (tx Tx) RemovePipeline(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "delete from pipeline where id = $1", id)
	return err
}

// Rates lists all rates into a currency, those of each currency from the newest day on.
func (db Queries) Rates(ctx context.Context, base string) ([]pipeline.Rate, error) {
	list, err := all[struct {
		Currency string
		Day      time.Time
		Value    string
	}](ctx, db, `
		select currency, day, trim_scale(value)::text as value
		from rate
		where base = $1
		order by currency, day desc`, base)
	out := make([]pipeline.Rate, len(list))
	for i, r := range list {
		out[i] = pipeline.Rate{Currency: r.Currency, Base: base, Day: calendar.DateOf(r.Day, time.UTC), Value: r.Value}
	}
	return out, err
}

// KeepRates keeps rates, each in the place of one of its day; one without a value goes.
func (tx Tx) KeepRates(ctx context.Context, list []pipeline.Rate) error {
	n := len(list)
	currencies, bases, days, values := make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	for i, r := range list {
		currencies[i], bases[i], days[i], values[i] = r.Currency, r.Base, r.Day.String(), r.Value
	}
	// Of several for one day the last is meant.
	const u = `(
			select distinct on (currency, base, day) currency, base, day, value
			from unnest($1::text[], $2::text[], $3::date[], $4::text[]) with ordinality as x(currency, base, day,
				value, n)
			order by currency, base, day, n desc) as u`
	if _, err := exec(ctx, tx, `
		delete from rate r
		using `+u+`
		where r.currency = u.currency and r.base = u.base and r.day = u.day and u.value = ''`, currencies, bases, days,
		values); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `
		insert into rate (currency, base, day, value)
		select u.currency, u.base, u.day, replace(u.value, ',', '.')::numeric
		from `+u+`
		where u.value <> ''
		on conflict (currency, base, day) do update
		set value = excluded.value`, currencies, bases, days, values)
	return err
}

// RateOf is the rate of a currency on exactly a day; one without a value: there is none.
func (tx Tx) RateOf(ctx context.Context, r pipeline.Rate) (pipeline.Rate, error) {
	value, err := one[string](ctx, tx, `
		select trim_scale(value)::text
		from rate
		where currency = $1 and base = $2 and day = $3::date
		for update`, r.Currency, r.Base, r.Day.String())
	if IsNotFound(err) {
		err = nil
	}
	r.Value = value
	return r, err
}

// DealCurrencies lists the currencies that deals have, and those without a rate into a base: how many deals there are.
func (db Queries) DealCurrencies(ctx context.Context) ([]DealCurrency, error) {
	return all[DealCurrency](ctx, db, `
		select currency, count(*) as deals, count(*) filter (where not rated) as unrated
		from deal
		group by currency
		order by currency`)
}

// DealCurrency is a currency in which deals are worth something.
type DealCurrency struct {
	Currency string
	Deals    int
	Unrated  int // of which nobody knows a rate
}

// RateDeals keeps what deals (nil: all) are worth in a base, by the rules of pipeline.Worth, with days in a zone.
func (tx Tx) RateDeals(ctx context.Context, deals []int64, base string, zone *time.Location, now time.Time) error {
	currencies, err := all[string](ctx, tx, `
		select distinct currency
		from deal
		where $1::bigint[] is null or id = any ($1)`, deals)
	if err != nil {
		return err
	}
	scales := make([]string, len(currencies))
	for i, c := range currencies {
		scales[i] = pipeline.Scale(c, base)
	}
	_, err = exec(ctx, tx, `
		with locked as (
			select id, currency, amount, (coalesce(closed_at, $5) at time zone $6)::date as day
			from deal
			where $1::bigint[] is null or id = any ($1)
			order by id
			for update),
		rated as (
			select d.id, case when d.currency = $4 then d.amount else round(d.amount * r.value * c.scale) end as worth
			from locked d
			join unnest($2::text[], $3::numeric[]) as c(currency, scale) using (currency)
			left join lateral (
				select x.value
				from rate x
				where x.currency = d.currency and x.base = $4
				order by x.day > d.day, case when x.day <= d.day then x.day end desc, x.day
				limit 1) r on true)
		update deal d
		set worth = coalesce(x.worth, 0), rated = x.worth is not null
		from rated x
		where d.id = x.id and (d.worth, d.rated) is distinct from (coalesce(x.worth, 0)::bigint, x.worth is not null)`,
		deals, currencies, scales, base, now, zone.String())
	return err
}

package store

import (
	"context"
	"time"
)

// Lifted is somebody who came over the ready line because the model changed, and by nothing else.
type Lifted struct {
	Person                      int64 `db:"person_id"`
	First, Last, Email, Company string
	Owner                       string
	Score                       float64
	Due                         *time.Time // when they are handed over; nil: nobody has said so
}

// AddLifted keeps whom a version of a model brought over the line.
func (tx Tx) AddLifted(ctx context.Context, model int64, version int, people []int64, scores []float64) error {
	if len(people) == 0 {
		return nil
	}
	_, err := exec(ctx, tx, `
		insert into score_lifted (model_id, person_id, version, score)
		select $1, u.person, $2, u.score
		from unnest($3::bigint[], $4::float8[]) as u(person, score)
		order by u.person
		on conflict (model_id, person_id) do update
		set version = excluded.version, score = excluded.score, due = null, done_at = null`, model, version, people,
		scores)
	return err
}

// LiftedBy lists whom the change brought over the line and who are not handed over yet: those who have an instant
// first, then those with the highest scores.
func (db Queries) LiftedBy(ctx context.Context, model int64, most int) ([]Lifted, error) {
	return all[Lifted](ctx, db, `
		select l.person_id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
			coalesce(u.name, '') as owner, l.score, l.due
		from score_lifted l
		join person p on p.id = l.person_id
		left join company c on c.id = p.company_id
		left join app_user u on u.id = p.owner_id
		where l.model_id = $1 and l.done_at is null
		order by l.due nulls last, l.score desc, l.person_id
		limit $2`, model, most)
}

// LiftedWaiting counts those who are not handed over yet, and how many of them have an instant.
func (db Queries) LiftedWaiting(ctx context.Context, model int64) (all, planned int64, err error) {
	r, err := one[struct{ All, Planned int64 }](ctx, db, `
		select count(*) as all, count(due) as planned
		from score_lifted
		where model_id = $1 and done_at is null`, model)
	return r.All, r.Planned, err
}

// PlanLifted gives those without an instant one each, n at every instant in turn, the highest scores first; those
// beyond the last wait. It answers how many have one.
func (tx Tx) PlanLifted(ctx context.Context, model int64, n int, waves []time.Time) (int64, error) {
	return exec(ctx, tx, `
		update score_lifted l
		set due = ($3::timestamptz[])[1 + (x.place - 1) / $2]
		from (
			select person_id, row_number() over (order by score desc, person_id) as place
			from score_lifted
			where model_id = $1 and done_at is null and due is null) x
		where l.model_id = $1 and l.person_id = x.person_id
			and x.place <= $2 * cardinality($3::timestamptz[])`, model, n, waves)
}

// ForgetLifted drops those who have not been handed over.
func (tx Tx) ForgetLifted(ctx context.Context, model int64) (int64, error) {
	return exec(ctx, tx, "delete from score_lifted where model_id = $1 and done_at is null", model)
}

// ClaimLifted takes up to n people who are to be handed over by now, and notes that they are.
func (tx Tx) ClaimLifted(ctx context.Context, now time.Time, n int) ([]LiftedOf, error) {
	return all[LiftedOf](ctx, tx, `
		update score_lifted
		set done_at = $1
		where (model_id, person_id) in (
			select model_id, person_id
			from score_lifted
			where due <= $1 and done_at is null
			order by due, person_id
			limit $2
			for update skip locked)
		returning model_id as model, person_id as person`, now, n)
}

// LiftedOf is who came over the line of a model by a change of it.
type LiftedOf struct{ Model, Person int64 }

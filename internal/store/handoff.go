package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ombak/internal/core/handoff"
)

// Handoff is a person offered to a rep.
type Handoff struct {
	ID       int64
	Person   int64  `db:"person_id"`
	Rep      *int64 `db:"rep_id"`
	RepName  string `db:"rep_name"`
	State    string
	MadeBy   string `db:"made_by"`
	How      string
	Sequence *int64 `db:"sequence_id"`
	Brief    JSON[handoff.Brief]
	Made     time.Time  `db:"made_at"`
	Decided  *time.Time `db:"decided_at"`
	Reason   string
	Why      JSON[[]string]
	Comeback int64      `db:"comeback_id"`
	Cool     *time.Time `db:"cool_until"`
	Model    int64      `db:"model_id"` // whose line was crossed; 0: none was

	First, Last, Email, Title, Company string
	Country, City, Zone, Phone         string
}

const handoffFields = `
	select h.id, h.person_id, h.rep_id, coalesce(a.name, '') as rep_name, h.state, h.made_by, h.how, h.sequence_id,
		h.brief, h.made_at, h.decided_at, h.reason, to_jsonb(h.why) as why,
		coalesce(h.comeback_id, 0) as comeback_id, h.cool_until, coalesce(h.model_id, 0) as model_id,
	p.first_name as first, p.last_name as last, p.email, p.title, coalesce(c.name, '') as company, p.country, p.city,
		p.zone, p.phone
	from handoff h
	join person p on p.id = h.person_id
	left join company c on c.id = p.company_id
	left join app_user a on a.id = h.rep_id `

// Handable tells which of some people may be handed over, with their owners (0 for
// none): nobody who has an open handoff or an open deal is.
func (tx Tx) Handable(ctx context.Context, people []int64) (owners map[int64]int64, err error) {
	list, err := all[struct{ ID, Owner int64 }](ctx, tx, `
		select p.id, coalesce(p.owner_id, 0) as owner
		from person p
		where p.id = any ($1)
			and not exists (select from handoff h where h.person_id = p.id and h.state = 'open')
			and not exists (select from deal_of d where d.person_id = p.id and d.closed_at is null)`, people)
	owners = make(map[int64]int64, len(list))
	for _, p := range list {
		owners[p.ID] = p.Owner
	}
	return owners, err
}

// Unowned lists those of some people who have no owner.
func (tx Tx) Unowned(ctx context.Context, people []int64) ([]int64, error) {
	return all[int64](ctx, tx, "select id from person where id = any ($1) and owner_id is null order by id", people)
}

// NewHandoff is one to be kept.
type NewHandoff struct {
	Person, Rep, Sequence int64 // rep and sequence 0: none
	Model                 int64 // whose line was crossed; 0: none was
	MadeBy                string
	How                   string
	Why                   []string
	Brief                 handoff.Brief
	At                    time.Time
}

// AddHandoffs keeps handoffs, and that their reps were handed somebody: whoever has
// no owner has the rep as one. It answers whose it kept: somebody who has an open
// one already gets none.
func (tx Tx) AddHandoffs(ctx context.Context, list []NewHandoff) ([]int64, error) {
	n := len(list)
	who, rep, seq := make([]int64, n), make([]int64, n), make([]int64, n)
	by, how, briefs, at := make([]string, n), make([]string, n), make([]string, n), make([]time.Time, n)
	model := make([]int64, n)
	why := make([]string, n) // as JSON: a list of lists has no shape of its own
	for i, h := range list {
		brief, err := json.Marshal(h.Brief)
		if err != nil {
			return nil, fmt.Errorf("the brief about person %d: %w", h.Person, err)
		}
		who[i], rep[i], seq[i], model[i] = h.Person, h.Rep, h.Sequence, h.Model
		reasons, err := json.Marshal(append([]string{}, h.Why...))
		if err != nil {
			return nil, err
		}
		by[i], how[i], briefs[i], at[i], why[i] = h.MadeBy, h.How, string(brief), h.At, string(reasons)
	}
	made, err := all[int64](ctx, tx, `
		with made as (
			insert into handoff (person_id, rep_id, made_by, how, sequence_id, brief, made_at, clock_from, clock_due,
				why, model_id)
			select u.who, nullif(u.rep, 0), u.by, u.how, nullif(u.seq, 0), u.brief, u.at, u.at, u.at,
				array(select jsonb_array_elements_text(u.why)), nullif(u.model, 0)
			from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::jsonb[],
				$7::timestamptz[], $8::jsonb[], $9::bigint[])
				with ordinality as u(who, rep, seq, by, how, brief, at, why, model, n)
			order by u.n
			on conflict (person_id) where state = 'open' do nothing
			returning person_id, rep_id, made_at),
		turn as (
			update app_user a set handed_at = t.at
			from (select rep_id, max(made_at) as at from made where rep_id is not null group by rep_id) t
			where a.id = t.rep_id),
		owned as (
			update person p set owner_id = made.rep_id
			from made
			where p.id = made.person_id and made.rep_id is not null and p.owner_id is null)
		select person_id from made`, who, rep, seq, by, how, briefs, at, why, model)
	if err != nil {
		return nil, fmt.Errorf("handing over %d people: %w", n, err)
	}
	return made, nil
}

// MostHandoffs is how many open handoffs are listed at most.
const MostHandoffs = 200

// OpenHandoffs lists the n oldest of those waiting for a rep, and those in the pool, the
// oldest first; rep 0 stands for everybody's.
func (db Queries) OpenHandoffs(ctx context.Context, rep int64, n int) ([]Handoff, error) {
	return all[Handoff](ctx, db, handoffFields+`
		where h.id in (
			select id
			from handoff
			where state = 'open' and ($1 = 0 or rep_id = $1 or rep_id is null)
			order by made_at, id
			limit $2)
		order by h.made_at, h.id`, planned([]any{rep, n})...)
}

// Handoff reads one.
func (db Queries) Handoff(ctx context.Context, id int64) (Handoff, error) {
	return one[Handoff](ctx, db, handoffFields+"where h.id = $1", id)
}

// LockHandoff is Handoff within a transaction, locked.
func (tx Tx) LockHandoff(ctx context.Context, id int64) (Handoff, error) {
	return one[Handoff](ctx, tx, handoffFields+"where h.id = $1 for update of h", id)
}

// HandoffsOf lists the last handoffs of some people, the newest first.
func (db Queries) HandoffsOf(ctx context.Context, of Last) ([]Handoff, error) {
	ids, err := of.ids(ctx, db, "handoff", "made_at")
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return all[Handoff](ctx, db, handoffFields+"where h.id = any ($1) order by h.id desc", ids)
}

// DecideHandoff closes an open handoff for a rep. It answers ErrNotFound where
// it is not open.
func (tx Tx) DecideHandoff(ctx context.Context, id, rep int64, state, reason string, at time.Time) (Handoff, error) {
	n, err := exec(ctx, tx, `update handoff set state = $3, reason = $4, decided_at = $5, rep_id = coalesce(rep_id, $2)
		where id = $1 and state = 'open'`, id, rep, state, reason, at)
	if err != nil {
		return Handoff{}, err
	}
	if n == 0 {
		return Handoff{}, ErrNotFound
	}
	return one[Handoff](ctx, tx, handoffFields+"where h.id = $1", id)
}

// OpenHandoffOf is somebody's open handoff; false: they have none.
func (tx Tx) OpenHandoffOf(ctx context.Context, person int64) (id int64, open bool, err error) {
	id, err = one[int64](ctx, tx, "select id from handoff where person_id = $1 and state = 'open'", person)
	if IsNotFound(err) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// RemoveHandoff removes a handoff that nobody has decided, or the one that was accepted as it was
// made; false: somebody has decided it.
func (tx Tx) RemoveHandoff(ctx context.Context, id int64, accepted bool) (bool, error) {
	if _, err := exec(ctx, tx, "delete from accepted where handoff_id = $1 and $2", id, accepted); err != nil {
		return false, err
	}
	if _, err := exec(ctx, tx, "delete from desk_item where kind = 2 and item_id = $1", id); err != nil {
		return false, err
	}
	n, err := exec(ctx, tx, "delete from handoff where id = $1 and (state = 'open' or $2 and state = 'accepted')", id,
		accepted)
	return n == 1, err
}

package store

import (
	"context"
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

	First, Last, Email, Title, Company string
	Country, City, Zone, Phone         string
}

const handoffFields = `select h.id, h.person_id, h.rep_id, coalesce(a.name, '') as rep_name, h.state, h.made_by, h.how, h.sequence_id, h.brief, h.made_at, h.decided_at, h.reason,
	p.first_name as first, p.last_name as last, p.email, p.title, coalesce(c.name, '') as company, p.country, p.city, p.zone, p.phone
	from handoff h join person p on p.id = h.person_id left join company c on c.id = p.company_id left join app_user a on a.id = h.rep_id `

// CanHand reports whether a person may be handed over: nobody who has an open
// handoff or an open deal is.
func CanHand(ctx context.Context, tx Tx, person int64) (bool, error) {
	return one[bool](ctx, tx, `select not exists (select from handoff where person_id = $1 and state = 'open')
		and not exists (select from deal where person_id = $1 and closed_at is null)`, person)
}

// OwnerOf answers a person's owner, 0 for none.
func OwnerOf(ctx context.Context, tx Tx, person int64) (int64, error) {
	return one[int64](ctx, tx, "select coalesce(owner_id, 0) from person where id = $1", person)
}

// NewHandoff is one to be kept.
type NewHandoff struct {
	Person, Rep, Sequence int64 // rep and sequence 0: none
	MadeBy                string
	How                   handoff.How
	Brief                 handoff.Brief
	At                    time.Time
}

// AddHandoff keeps a handoff, and that the rep was handed somebody. It answers
// false where the person has an open one already.
func AddHandoff(ctx context.Context, tx Tx, h NewHandoff) (bool, error) {
	n, err := exec(ctx, tx, `insert into handoff (person_id, rep_id, made_by, how, sequence_id, brief, made_at)
		values ($1, nullif($2, 0), $3, $4, nullif($5, 0), $6, $7) on conflict (person_id) where state = 'open' do nothing`,
		h.Person, h.Rep, h.MadeBy, string(h.How), h.Sequence, JSON[handoff.Brief]{h.Brief}, h.At)
	if err != nil {
		return false, fmt.Errorf("handing over person %d: %w", h.Person, err)
	}
	if n == 0 {
		return false, nil
	}
	if h.Rep != 0 {
		if _, err := exec(ctx, tx, "update app_user set handed_at = $2 where id = $1", h.Rep, h.At); err != nil {
			return false, err
		}
		if _, err := exec(ctx, tx, "update person set owner_id = $2 where id = $1 and owner_id is null", h.Person, h.Rep); err != nil {
			return false, err
		}
	}
	return true, nil
}

// OpenHandoffs lists those waiting for a rep, and those in the pool, the
// oldest first; rep 0 stands for everybody's.
func (s *Store) OpenHandoffs(ctx context.Context, rep int64) ([]Handoff, error) {
	return all[Handoff](ctx, s.db, handoffFields+"where h.state = 'open' and ($1 = 0 or h.rep_id = $1 or h.rep_id is null) order by h.made_at, h.id limit 200", rep)
}

// Handoff reads one.
func (s *Store) Handoff(ctx context.Context, id int64) (Handoff, error) {
	return one[Handoff](ctx, s.db, handoffFields+"where h.id = $1", id)
}

// HandoffIn is Handoff within a transaction, locked.
func HandoffIn(ctx context.Context, tx Tx, id int64) (Handoff, error) {
	return one[Handoff](ctx, tx, handoffFields+"where h.id = $1 for update of h", id)
}

// PersonHandoffs lists a person's, the newest first.
func (s *Store) PersonHandoffs(ctx context.Context, person int64) ([]Handoff, error) {
	return all[Handoff](ctx, s.db, handoffFields+"where h.person_id = $1 order by h.id desc", person)
}

// DecideHandoff closes an open handoff for a rep. It answers ErrNotFound where
// it is not open.
func DecideHandoff(ctx context.Context, tx Tx, id, rep int64, state, reason string, at time.Time) (Handoff, error) {
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

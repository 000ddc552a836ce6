package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// Month is a month of signals as it lies in the database.
type Month struct {
	Name  string    // of its table
	From  time.Time // its first instant
	Bytes int64     // with its indexes
	Space string    // the tablespace in which it is set apart; empty: it lies with everything else
}

// To is the instant at which the next month begins.
func (m Month) To() time.Time { return m.From.AddDate(0, 1, 0) }

// SignalMonths lists the months of signals, the oldest first.
func (db Queries) SignalMonths(ctx context.Context) ([]Month, error) {
	list, err := all[Month](ctx, db, `
		select c.relname as name, to_date(right(c.relname, 7), 'YYYY_MM')::timestamp at time zone 'UTC' as "from",
			pg_total_relation_size(c.oid) as bytes, coalesce(s.spcname, '') as space
		from pg_inherits i
		join pg_class c on c.oid = i.inhrelid
		left join pg_tablespace s on s.oid = c.reltablespace
		where i.inhparent = 'signal'::regclass and c.relname ~ '^signal_[0-9]{4}_[0-9]{2}$'
		order by 1`)
	if err != nil {
		return nil, fmt.Errorf("listing the months of signals: %w", err)
	}
	return list, nil
}

// Spaces lists the tablespaces in which months can be set apart: those that whoever looks after the database has made,
// and in which Ombak may make something.
func (db Queries) Spaces(ctx context.Context) ([]string, error) {
	list, err := all[string](ctx, db, `
		select spcname
		from pg_tablespace
		where spcname !~ '^pg_' and has_tablespace_privilege(oid, 'create')
		order by 1`)
	if err != nil {
		return nil, fmt.Errorf("listing tablespaces: %w", err)
	}
	return list, nil
}

// movePatience is how long a month waits for whoever reads or writes it, while whoever comes after waits for it.
var movePatience = "3s"

// lockNotAvailable is PostgreSQL's code of a lock that was not had in time.
const lockNotAvailable = "55P03"

// MoveMonth moves a month of signals, with its indexes, to a tablespace, or, where space is empty, to where everything
// else lies. It stays part of all signals: whatever asks for them, changes or erases them finds it as before. Nobody
// reads or writes that month while it moves, and it moves whole or not at all; moved is false where others were at it.
func (s *Store) MoveMonth(ctx context.Context, name, space string) (moved bool, err error) {
	err = s.InTx(ctx, func(tx Tx) error {
		if _, err := exec(ctx, tx,
			"select set_config('lock_timeout', $1, true), set_config('statement_timeout', '0', true)",
			movePatience); err != nil {
			return err
		}
		steps, err := all[string](ctx, tx, `
			with it as (
				select c.oid, coalesce(nullif($2, ''), (
					select s.spcname
					from pg_database d
					join pg_tablespace s on s.oid = d.dattablespace
					where d.datname = current_database())) as space
				from pg_inherits i
				join pg_class c on c.oid = i.inhrelid
				where i.inhparent = 'signal'::regclass and c.relname = $1)
			select format('alter table %s set tablespace %I', oid::regclass, space)
			from it
			union all
			select format('alter index %s set tablespace %I', x.indexrelid::regclass, it.space)
			from it
			join pg_index x on x.indrelid = it.oid`, name, space)
		if err != nil {
			return err
		}
		for _, step := range steps {
			if _, err := exec(ctx, tx, step); err != nil {
				return err
			}
		}
		moved = len(steps) > 0
		return nil
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == lockNotAvailable {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("moving the signals of %s to %q: %w", name, space, err)
	}
	return moved, nil
}

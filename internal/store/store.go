// Package store keeps everything in PostgreSQL: one file for each thing kept.
//
// The store decides nothing. It is told what to keep by the engine, which asks
// the core; functions that change something take a Tx, so that what belongs
// together is kept together. Instants go in and out as UTC.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/signal"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is answered for something that is not there.
var ErrNotFound = plainly.New("not found")

// IsBadValue reports whether the database could not take a value for what it
// is: a number out of range, a text that is none (SQLSTATE class 22).
func IsBadValue(err error) bool {
	e, ok := errors.AsType[*pgconn.PgError](err)
	return ok && strings.HasPrefix(e.Code, "22")
}

// OfData reports whether an error is about what was to be kept, and not about the
// database: the same will fail again, and something else beside it will not.
func OfData(err error) bool {
	e, ok := errors.AsType[*pgconn.PgError](err)
	return ok && (strings.HasPrefix(e.Code, "22") || strings.HasPrefix(e.Code, "23"))
}

// Store is one database. It is safe for use by several goroutines.
type Store struct {
	Queries
	Pool *pgxpool.Pool
	db   *sqlx.DB
}

// Queries are what can be asked of a database: through its pool, each by itself, or
// within a transaction.
type Queries struct {
	querier
	grams *grams // how often trigrams are in it
	// native lets f ask by the driver itself: of thousands of rows, taking each value through database/sql is most of
	// the work.
	native func(ctx context.Context, f func(*pgx.Conn) error) error
}

// Tx is a transaction: what is asked and changed through it happens together or not
// at all.
type Tx struct{ Queries }

// Pool says how many connections a process may have.
type Pool struct {
	Most  int // whatever there are
	Share int // of those there are: one in so many; at least 3
}

// size is how many connections a process has of those there are.
func (p Pool) size(there int) int { return min(p.Most, max(3, there/p.Share)) }

// OpenPatiently opens a database that may be starting, or full of other
// processes' connections, and waits for it up to a while. Any other trouble it
// answers at once.
func OpenPatiently(ctx context.Context, url string, p Pool, wait time.Duration) (*Store, error) {
	until := time.Now().Add(wait)
	for n := 0; ; n++ {
		s, err := openSized(ctx, url, p)
		if err == nil || !passing(err) || time.Now().After(until) {
			return s, err
		}
		if n == 0 {
			slog.Warn("the database does not answer yet, and is asked again", "error", err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(min(time.Duration(n+1)*100*time.Millisecond, 2*time.Second)):
		}
	}
}

func openSized(ctx context.Context, url string, p Pool) (*Store, error) {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	var there int
	err = c.QueryRow(ctx, `select current_setting('max_connections')::int
		- current_setting('superuser_reserved_connections')::int`).Scan(&there)
	c.Close(ctx)
	if err != nil {
		return nil, err
	}
	return Open(ctx, url, p.size(there))
}

// passing reports whether an error of connecting goes by itself: the server is
// starting or restarting (SQLSTATE 57P01 to 57P03), has no room (class 53), or
// nothing listens yet.
func passing(err error) bool {
	if e, ok := errors.AsType[*pgconn.PgError](err); ok {
		return strings.HasPrefix(e.Code, "53") || strings.HasPrefix(e.Code, "57P0")
	}
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}

// Open connects to the database at url with at most conns connections and
// checks that it answers.
func Open(ctx context.Context, url string, conns int) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database's address cannot be read: %w", err)
	}
	cfg.MaxConns = int32(conns)
	cfg.MaxConnIdleTime = 2 * time.Minute // what is not used is there for other processes, save some that stay warm:
	cfg.MinConns = max(cfg.MaxConns/2, 1) // each new one connects, and plans every statement anew
	cfg.MaxConnLifetime, cfg.MaxConnLifetimeJitter = 12*time.Hour, time.Hour
	cfg.ConnConfig.RuntimeParams["timezone"] = "UTC"
	cfg.ConnConfig.RuntimeParams["application_name"] = "ombak"
	cfg.ConnConfig.RuntimeParams["jit"] = "off" // short queries: compiling them takes longer than running them
	cfg.ConnConfig.Tracer = watching{}
	cfg.AfterConnect = func(_ context.Context, c *pgx.Conn) error {
		c.TypeMap().RegisterType(&pgtype.Type{Name: "timestamptz", OID: pgtype.TimestamptzOID,
			Codec: &pgtype.TimestamptzCodec{ScanLocation: time.UTC}})
		return nil
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	db := sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")
	native := func(ctx context.Context, f func(*pgx.Conn) error) error {
		return pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error { return f(c.Conn()) })
	}
	return &Store{Queries{db, &grams{of: map[string]*gramShares{}}, native}, pool, db}, nil
}

// Close gives all connections back.
func (s *Store) Close() {
	s.db.Close()
	s.Pool.Close()
}

// DB is the same database as database/sql has it, for libraries that want it.
func (s *Store) DB() *sql.DB { return s.db.DB }

// Migrate brings the database's shape up to date. Several processes may call
// it at once: an advisory lock lets one go first.
func (s *Store) Migrate(ctx context.Context) (err error) {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	// One lock for all of it: the tables of background jobs have none of their own.
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockID(lockMigrate), lock.WithLockTimeout(1, 600))
	if err != nil {
		return err
	}
	conn, err := s.db.DB.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := locker.SessionLock(ctx, conn); err != nil {
		return fmt.Errorf("waiting for another migration: %w", err)
	}
	defer func() {
		if uerr := locker.SessionUnlock(context.WithoutCancel(ctx), conn); err == nil && uerr != nil {
			err = fmt.Errorf("letting the next migration begin: %w", uerr)
		}
	}()
	p, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, dir, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	done, err := p.Up(ctx)
	if err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return fmt.Errorf("readying the tables of background jobs: %w", err)
	}
	if _, err := jobs.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("making the tables of background jobs: %w", err)
	}
	if len(done) > 0 {
		slog.Info("database migrated", "steps", len(done))
	}
	return nil
}

// Keys of advisory locks, beside the workers' own (which are their ids).
const (
	lockMigrate int64 = -1001
	lockEntry   int64 = -1002
	lockFolders int64 = -1006

	lockAudiences int64 = -1003
	lockBatch     int32 = -1004 // with the batch's id
	lockRest      int32 = -1005 // with the person's id
)

// Ping reports whether the database answers and has its tables.
func (db Queries) Ping(ctx context.Context) error {
	_, err := one[bool](ctx, db, "select exists (select from setting) or true")
	return err
}

// InTx runs f in a transaction and commits it where f returns nil. A
// serialisation failure or deadlock is tried again, three times at most: f
// must have no effect outside the transaction.
func (s *Store) InTx(ctx context.Context, f func(Tx) error) error {
	var err error
	for try := 0; try < 4; try++ {
		err = s.inTx(ctx, f)
		if pe, ok := errors.AsType[*pgconn.PgError](err); !ok || (pe.Code != "40001" && pe.Code != "40P01") {
			return err
		}
	}
	return err
}

func (s *Store) inTx(ctx context.Context, f func(Tx) error) error {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close() // it goes back to the others
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // nothing to do once it is committed
	native := func(_ context.Context, f func(*pgx.Conn) error) error {
		return conn.Raw(func(c any) error { return f(c.(*stdlib.Conn).Conn()) })
	}
	if err := f(Tx{Queries{tx, s.grams, native}}); err != nil {
		return err
	}
	return tx.Commit()
}

// querier is a database or a transaction.
type querier interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// spelt puts the numbers of signals' kinds where a statement names them: kind = {open}.
func spelt(query string) string {
	if !strings.Contains(query, "{") {
		return query
	}
	return kindNumbers.Replace(query)
}

var kindNumbers = func() *strings.Replacer {
	var pairs []string
	for _, k := range signal.Kinds() {
		pairs = append(pairs, "{"+k.String()+"}", strconv.Itoa(int(k)))
	}
	return strings.NewReplacer(pairs...)
}()

// all reads every row into a slice of structs, by column name.
func all[T any](ctx context.Context, q querier, query string, args ...any) ([]T, error) {
	var list []T
	err := q.SelectContext(ctx, &list, spelt(query), args...)
	return list, err
}

// planned has a statement planned by what it asks for: where one word is in every tenth row and the next in none, no
// one plan serves both.
func planned(args []any) []any { return append([]any{pgx.QueryExecModeCacheDescribe}, args...) }

// one reads one row or value, or answers ErrNotFound.
func one[T any](ctx context.Context, q querier, query string, args ...any) (T, error) {
	var v T
	err := q.GetContext(ctx, &v, spelt(query), args...)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// exec runs a statement and answers how many rows it changed.
func exec(ctx context.Context, q querier, query string, args ...any) (int64, error) {
	r, err := q.ExecContext(ctx, spelt(query), args...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// JSON is a column that holds a T as JSON.
type JSON[T any] struct{ V T }

// Scan reads the column.
func (j *JSON[T]) Scan(src any) error {
	switch x := src.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(x, &j.V)
	case string:
		return json.Unmarshal([]byte(x), &j.V)
	}
	return fmt.Errorf("a JSON column came as %T", src)
}

// Value writes the column.
func (j JSON[T]) Value() (driver.Value, error) {
	b, err := json.Marshal(j.V)
	return string(b), err
}

// Setting reads a setting into v and reports whether it is there.
func (db Queries) Setting(ctx context.Context, name string, v any) (bool, error) {
	raw, err := one[[]byte](ctx, db, "select value from setting where name = $1", name)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, json.Unmarshal(raw, v)
}

// SetSetting keeps a setting.
func (db Queries) SetSetting(ctx context.Context, name string, v any) error {
	_, err := exec(ctx, db,
		"insert into setting values ($1, $2) on conflict (name) do update set value = excluded.value", name,
		JSON[any]{v})
	return err
}

// KeepSetting is SetSetting within a transaction.
func (tx Tx) KeepSetting(ctx context.Context, name string, v any) error {
	_, err := exec(ctx, tx,
		"insert into setting values ($1, $2) on conflict (name) do update set value = excluded.value", name,
		JSON[any]{v})
	return err
}

// Notify tells every process that listens what has changed, when the
// transaction commits.
func (tx Tx) Notify(ctx context.Context, events ...news.Item) error {
	_, err := exec(ctx, tx, "select pg_notify('ombak', t) from unnest($1::text[]) t", news.Topics(events...))
	return err
}

// Listen calls f with each topic that Notify tells, until ctx ends. A broken
// connection is made again; what was told meanwhile is lost, so it calls f
// with "" then, which stands for anything.
func (s *Store) Listen(ctx context.Context, f func(topic string)) {
	for ctx.Err() == nil {
		err := s.listen(ctx, f)
		if ctx.Err() != nil {
			return
		}
		slog.Warn("listening for changes was interrupted", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
		f("")
	}
}

func (s *Store) listen(ctx context.Context, f func(string)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	// A listening connection must not go back to the pool.
	c := conn.Hijack()
	defer c.Close(context.WithoutCancel(ctx))
	if _, err := c.Exec(ctx, "listen ombak"); err != nil {
		return err
	}
	for {
		n, err := c.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		f(n.Payload)
	}
}

// InitSetting keeps a setting where there is none yet.
func (db Queries) InitSetting(ctx context.Context, name string, v any) error {
	_, err := exec(ctx, db, "insert into setting values ($1, $2) on conflict (name) do nothing", name, JSON[any]{v})
	return err
}

// Tell is Notify outside a transaction.
func (s *Store) Tell(ctx context.Context, events ...news.Item) error {
	return s.InTx(ctx, func(tx Tx) error { return tx.Notify(ctx, events...) })
}

// Package storetest gives each test a database of its own on a real
// PostgreSQL server.
package storetest

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ombak/internal/store"
	"ombak/internal/store/server"
)

var (
	base  string // the server's address; empty before Main
	count atomic.Int64
)

// Main runs a package's tests with a server: the one OMBAK_TEST_DATABASE_URL
// names, or one started for them alone. Call it from TestMain.
func Main(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	ctx := context.Background()
	base = os.Getenv("OMBAK_TEST_DATABASE_URL")
	if base == "" {
		dir, err := os.MkdirTemp(room(), "ombak-test-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		os.Chmod(dir, 0o755)
		s, err := server.Start(ctx, server.Options{Dir: filepath.Join(dir, "postgres"), Throwaway: true})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer s.Stop()
		base = s.URL
		// Ctrl-C ends the tests, and what they started with them.
		ctrlC := make(chan os.Signal, 1)
		signal.Notify(ctrlC, os.Interrupt, syscall.SIGTERM)
		go func() {
			<-ctrlC
			s.Stop()
			os.RemoveAll(dir)
			os.Exit(1)
		}()
	}
	if err := template(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "making the test database:", err)
		return 1
	}
	defer drop(ctx, templateName())
	return m.Run()
}

// room is where the server's files lie: in memory where there is plenty, since a
// database for each test is many small files.
func room() string {
	const memory, plenty = "/dev/shm", 4 << 30
	var fs syscall.Statfs_t
	if syscall.Statfs(memory, &fs) == nil && fs.Bavail*uint64(fs.Bsize) > plenty {
		return memory
	}
	return "/tmp"
}

func templateName() string { return fmt.Sprintf("ombak_template_%d", os.Getpid()) }

func template(ctx context.Context) error {
	if err := admin(ctx, "create database "+templateName()); err != nil {
		return err
	}
	s, err := store.Open(ctx, named(templateName()), 4)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.Migrate(ctx)
}

// New opens a fresh database with all tables and no rows. It goes with the test.
func New(t testing.TB) *store.Store {
	t.Helper()
	s, _ := NewURL(t)
	return s
}

// NewURL is New, with the address for other processes.
func NewURL(t testing.TB) (*store.Store, string) {
	t.Helper()
	ctx := context.Background()
	if base == "" {
		t.Fatal("storetest.Main did not run: the package needs a TestMain")
	}
	name := fmt.Sprintf("ombak_%d_%d", os.Getpid(), count.Add(1))
	// By copying files: a quarter of the work of writing each page to the log as well.
	if err := admin(ctx, "create database "+name+" template "+templateName()+" strategy file_copy"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { drop(ctx, name) })
	s, err := store.Open(ctx, named(name), 12)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, named(name)
}

// Address is the address of a database of the tests' server by its name.
func Address(name string) string { return named(name) }

// Empty is the address of a database with nothing in it. It goes with the test.
func Empty(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	name := fmt.Sprintf("ombak_%d_%d", os.Getpid(), count.Add(1))
	if err := admin(ctx, "create database "+name+" template template0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { drop(ctx, name) })
	return named(name)
}

func drop(ctx context.Context, name string) {
	if err := admin(ctx, "drop database if exists "+name+" with (force)"); err != nil {
		fmt.Fprintln(os.Stderr, "dropping a test database:", err)
	}
}

func admin(ctx context.Context, sql string) error {
	c, err := pgx.Connect(ctx, base)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, sql)
	return err
}

func named(name string) string {
	u, err := url.Parse(base)
	if err != nil || !strings.HasPrefix(u.Scheme, "postgres") {
		panic("OMBAK_TEST_DATABASE_URL must be a postgres:// address")
	}
	u.Path = "/" + name
	return u.String()
}

// Space makes a tablespace, which lies in the server's own folder, and answers its name and what drops it again once
// nothing lies in it.
func Space(t testing.TB, s *store.Store) (name string, drop func()) {
	t.Helper()
	name = fmt.Sprintf("apart_%d", time.Now().UnixNano())
	run := func(ask func(context.Context, string, ...any) (sql.Result, error), steps ...string) {
		for _, step := range steps {
			if _, err := ask(context.Background(), step); err != nil {
				t.Fatal(err)
			}
		}
	}
	conn, err := s.DB().Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	run(conn.ExecContext, "set allow_in_place_tablespaces = on", "create tablespace "+name+" location ''",
		"reset allow_in_place_tablespaces")
	return name, func() { run(s.DB().ExecContext, "drop tablespace "+name) }
}

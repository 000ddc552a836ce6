package store_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// A backup as docs/operating.md has it made comes back whole: what was kept is
// there, is found, and goes on being kept.
func TestABackupComesBack(t *testing.T) {
	k := open(t)
	owen, _ := k.meet(store.NewPerson{First: "Øwen", Last: "Munro", Email: "owen@north.example",
		Company: "Réservoir Nord", Domain: "north.example"})
	var from string
	k.must(k.DB().QueryRow("select current_database()").Scan(&from))
	url := storetest.Address(from)
	file := filepath.Join(t.TempDir(), "ombak.dump")
	run := func(program string, args ...string) {
		t.Helper()
		if out, err := exec.Command(postgres(t, program), args...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", program, err, out)
		}
	}
	run("pg_dump", "--format=custom", "--file="+file, url)
	to := storetest.Empty(t)
	run("pg_restore", "--exit-on-error", "--no-owner", "--dbname="+to, file)

	s, err := store.Open(t.Context(), to, 4)
	k.must(err)
	t.Cleanup(s.Close)
	k.must(s.Migrate(t.Context()))
	p, err := s.Person(t.Context(), owen)
	k.must(err)
	if p.Email != "owen@north.example" || p.First != "Øwen" {
		t.Errorf("it came back as %+v", p)
	}
	k.must(s.InTx(t.Context(), func(tx store.Tx) error {
		_, _, err := tx.MeetPerson(t.Context(), store.NewPerson{First: "Ana", Email: "ana@north.example"}, at)
		return err
	}))
	for text, want := range map[string]int64{"owen reservoir": 1, "ana": 1, "north": 2} {
		n, err := s.CountPeople(t.Context(), store.PeopleQuery{Text: text, Now: at})
		if k.must(err); n != want {
			t.Errorf("%q finds %d, want %d", text, n, want)
		}
	}
}

// postgres is the path of one of PostgreSQL's programs.
func postgres(t *testing.T, program string) string {
	t.Helper()
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(bins) == 0 {
		t.Fatalf("PostgreSQL's programs are not here: %v", err)
	}
	return filepath.Join(bins[len(bins)-1], program)
}

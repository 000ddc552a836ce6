package store

import (
	"errors"
	"fmt"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

// Twenty workers and a server fit into the hundred connections that PostgreSQL
// has where nobody says otherwise.
func TestShareOfConnections(t *testing.T) {
	worker, server := Pool{Most: 8, Share: 24}, Pool{Most: 16, Share: 6}
	if n := 20*worker.size(97) + server.size(97); n > 97 {
		t.Errorf("they would have %d", n)
	}
	if worker.size(1000) != 8 || server.size(20) != 3 {
		t.Errorf("many: %d, few: %d", worker.size(1000), server.size(20))
	}
}

// Codes of PostgreSQL's manual, appendix A.
func TestWhatGoesByItself(t *testing.T) {
	for code, want := range map[string]bool{"53300": true, "57P03": true, "57P01": true, "28P01": false,
		"3D000": false} {
		if got := passing(fmt.Errorf("x: %w", &pgconn.PgError{Code: code})); got != want {
			t.Errorf("%s: %v", code, got)
		}
	}
	if !passing(fmt.Errorf("x: %w", syscall.ECONNREFUSED)) || passing(errors.New("a wrong address")) {
		t.Error("errors that are not the server's")
	}
}

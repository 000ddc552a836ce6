package store_test

import (
	"context"
	"testing"

	"ombak/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestMigrateTwice(t *testing.T) {
	s := storetest.New(t)
	if err := s.Migrate(context.Background()); err != nil {
		t.Fatal(err)
	}
	if err := s.Ping(context.Background()); err != nil {
		t.Fatal(err)
	}
}

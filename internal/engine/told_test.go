package engine

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/message"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Users read what is meant for them; of everything else they read a number, under
// which the log has it.
func TestTold(t *testing.T) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	defer slog.SetDefault(before)
	for says, err := range map[string]error{
		"this has ended or begun in the meantime": fmt.Errorf("ending batch 3: %w", store.ErrOver),
		"there is no merge field person.shoe": fmt.Errorf("compiling message 4: %w",
			&message.Unknown{Field: "person.shoe"}),
	} {
		if got := base.Told(err); got != says || log.Len() > 0 {
			t.Errorf("%v is told as %q, and logged: %q", err, got, log.String())
		}
	}
	secret := errors.New(`ERROR: relation "person" does not exist (SQLSTATE 42P01)`)
	got := base.Told(fmt.Errorf("reading people: %w", secret))
	number := regexp.MustCompile(`^something went wrong here, and is noted as ([0-9a-f]{8})$`).FindStringSubmatch(got)
	if number == nil || strings.Contains(got, "SQLSTATE") {
		t.Fatalf("it is told as %q", got)
	}
	if l := log.String(); !strings.Contains(l, number[1]) || !strings.Contains(l, "SQLSTATE 42P01") ||
		!strings.Contains(l, "reading people") {
		t.Errorf("it is logged as %q", l)
	}
}

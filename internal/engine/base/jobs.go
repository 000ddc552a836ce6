package base

import (
	"context"
	"log/slog"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
)

type jobs = river.Client[pgx.Tx]

// QuietLog is where background jobs tell what is wrong, and nothing more.
func QuietLog() *slog.Logger { return slog.New(quieter{slog.Default().Handler()}) }

// quieter lets warnings and errors through.
type quieter struct{ slog.Handler }

func (q quieter) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
}

package base

import (
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"strings"

	"ombak/internal/core/plainly"
)

// Told is what users read of an error: what it says to them, or that something
// went wrong, with a number by which it stands in the log with its cause.
func Told(err error) string {
	if text, ok := plainly.Says(err); ok {
		return text
	}
	return "something went wrong here, and is noted as " + Noted(err)
}

// Noted logs an error that users do not read, and answers the number it is logged
// under.
func Noted(err error) string {
	b := make([]byte, 4)
	rand.Read(b)
	number := hex.EncodeToString(b)
	slog.Error("something went wrong", "number", number, "error", err)
	return number
}

// Cut is the first n bytes of a text, less what would be half a letter.
func Cut(s string, n int) string {
	s = strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "")
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "")
}

package shell

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Either is one of two words.
func Either(on bool, yes, no string) string {
	if on {
		return yes
	}
	return no
}

// Sentence makes an error a sentence for people, as engine.Told has it.
func Sentence(err error) string {
	t := base.Told(err)
	first, n := utf8.DecodeRuneInString(t)
	t = string(unicode.ToUpper(first)) + t[n:]
	if strings.HasSuffix(t, ".") || strings.HasSuffix(t, "?") {
		return t
	}
	return t + "."
}

// Number reads an id; what is none is 0, which nothing has.
func Number(s string) int64 {
	n, err := strconv.ParseInt(strings.TrimSpace(s), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// YesNo says it.
func YesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// ClockTime reads 08:30 as minutes since midnight; 24:00 is the day's end.
func ClockTime(s string) (int, error) {
	h, m, ok := strings.Cut(strings.TrimSpace(s), ":")
	hour, err1 := strconv.Atoi(h)
	minute, err2 := strconv.Atoi(m)
	if !ok || err1 != nil || err2 != nil || hour < 0 || minute < 0 || minute > 59 || hour*60+minute > 24*60 {
		return 0, plainly.Errorf("%q is no time of day, such as 08:30", s)
	}
	return hour*60 + minute, nil
}

// EventTime is when an event is, in a zone: "Monday 20 April 2026, 09:00 to 11:00".
func EventTime(e *event.Event, zone *time.Location) string {
	starts, ends := e.Starts.In(zone), e.Ends.In(zone)
	s := starts.Format("Monday 2 January 2006, 15:04") + " to "
	if calendar.DateOf(starts, zone) == calendar.DateOf(ends, zone) {
		return s + ends.Format("15:04")
	}
	return s + ends.Format("Monday 2 January 2006, 15:04")
}

// PeopleWords counts people in words.
func PeopleWords(n int64) string {
	if n == 1 {
		return "1 person"
	}
	return Thousands(n) + " people"
}

// ClockWords is minutes since midnight as a clock has them.
func ClockWords(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) }

// NotYours answers to somebody who would change what is another's.
func NotYours(err error) error {
	if errors.Is(err, base.ErrNotYours) {
		return echo.ErrForbidden
	}
	return err
}

// ShelfOver reports whether an item of the shelf is not to be taken any more.
func (s *Shell) ShelfOver(i store.ShelfItem) bool {
	return i.Ends != nil && i.Ends.Format(time.DateOnly) < s.Engine.Now().In(s.Engine.Zone()).Format(time.DateOnly)
}

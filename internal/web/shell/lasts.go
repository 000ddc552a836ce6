package shell

import (
	"fmt"
	"time"
)

// Lasts says a length of time: "6 h 30".
func Lasts(d time.Duration) string {
	m := int(d.Round(time.Minute).Minutes())
	switch {
	case m < 60:
		return fmt.Sprintf("%d min", m)
	case m%60 == 0:
		return fmt.Sprintf("%d h", m/60)
	}
	return fmt.Sprintf("%d h %02d", m/60, m%60)
}

// Waits says for how long something waits: in days where it is longer than two.
func Waits(d time.Duration) string {
	if d >= 48*time.Hour {
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return Lasts(d)
}

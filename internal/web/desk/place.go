// Package desk is what a rep has to do now.
package desk

import (
	"embed"
	"fmt"
	"text/template"
	"time"

	"ombak/internal/core/desk"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() {
	shell.Register(files, template.FuncMap{
		"lasts":    lasts,
		"waits":    waits,
		"kindIcon": func(k desk.Kind) string { return icons[k] },
		"kindsOf":  func(k desk.Kind) string { return plural[k] },
	}, "deskrooms.html", "answer.html")
}

var icons = map[desk.Kind]string{desk.Handoff: "handshake", desk.Answer: "chat-circle-text", desk.Call: "phone",
	desk.Social: "users-three", desk.Task: "list-checks",
	desk.Meeting: "calendar-blank"}

var plural = map[desk.Kind]string{desk.Handoff: "Handoffs", desk.Answer: "Answers", desk.Call: "Calls",
	desk.Social: "Social touches", desk.Task: "Tasks", desk.Meeting: "Meetings"}

// lasts says a length of time: "6 h 30".
func lasts(d time.Duration) string {
	m := int(d.Round(time.Minute).Minutes())
	switch {
	case m < 60:
		return fmt.Sprintf("%d min", m)
	case m%60 == 0:
		return fmt.Sprintf("%d h", m/60)
	}
	return fmt.Sprintf("%d h %02d", m/60, m%60)
}

// waits says for how long something waits: in days where it is longer than two.
func waits(d time.Duration) string {
	if d >= 48*time.Hour {
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return lasts(d)
}

// Place answers its pages.
type Place struct{ *shell.Shell }

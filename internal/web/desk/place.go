// Package desk is what a rep has to do now.
package desk

import (
	"embed"
	"text/template"

	"ombak/internal/core/desk"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() {
	shell.Register(files, template.FuncMap{
		"kindIcon": func(k desk.Kind) string { return icons[k] },
		"kindsOf":  func(k desk.Kind) string { return plural[k] },
	}, "deskrooms.html", "answer.html")
}

var icons = map[desk.Kind]string{desk.Handoff: "handshake", desk.Answer: "chat-circle-text", desk.Call: "phone",
	desk.Social: "users-three", desk.Task: "list-checks",
	desk.Meeting: "calendar-blank"}

var plural = map[desk.Kind]string{desk.Handoff: "Handoffs", desk.Answer: "Answers", desk.Call: "Calls",
	desk.Social: "Social touches", desk.Task: "Tasks", desk.Meeting: "Meetings"}

// Place answers its pages.
type Place struct {
	*shell.Shell

	loads base.KeptBy[string, *sales.Load] // that of everybody
}

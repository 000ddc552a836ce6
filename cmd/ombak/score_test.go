package main

import (
	"bytes"
	"os"
	"testing"
)

// The command counts the example of the documentation.
func TestScoreByFiles(t *testing.T) {
	const scores = "../../docs/examples/score/"
	want, err := os.ReadFile(scores + "scores.csv")
	if err != nil {
		t.Fatal(err)
	}
	x := scoring{model: scores + "model.json", people: scores + "people.csv", signals: scores + "signals.csv",
		at: "2026-05-14T09:00:00Z"}
	var got bytes.Buffer
	if err := x.run(&got); err != nil || got.String() != string(want) {
		t.Errorf("%v\n%s", err, got.String())
	}
	x.at = "noon"
	if err := x.run(&got); err == nil {
		t.Error("counted at noon of no day")
	}
	x.at, x.model = "2026-05-14T09:00:00Z", scores+"people.csv"
	if err := x.run(&got); err == nil {
		t.Error("a list of people is a model")
	}
}

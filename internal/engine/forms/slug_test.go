package forms

import "testing"

func TestSlug(t *testing.T) {
	for title, want := range map[string]string{
		"Oxygen alarms":                      "oxygen-alarms",
		"  Your alarm goes off — at three! ": "your-alarm-goes-off-at-three",
		"Ærlig måling på Tromsø":             "aerlig-maling-pa-tromso",
		"Größe, Łódź, Đà Nẵng":               "grosse-lodz-da-nang",
		"Año nuevo, ça va":                   "ano-nuevo-ca-va",
		"水":                                  "page",
		"":                                   "page",
		"ÅÄÖ 24/7":                           "aao-24-7",
	} {
		if got := Slug(title); got != want {
			t.Errorf("%q has the address %q, want %q", title, got, want)
		}
	}
	if got := Slug("a very long title about oxygen and alarms and pens that goes on and on"); len(got) > 60 ||
		got[len(got)-1] == '-' {
		t.Errorf("a long title has the address %q", got)
	}
}

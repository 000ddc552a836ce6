package sequence

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/person"
)

func TestRecorded(t *testing.T) {
	v := func(pairs ...string) person.Values {
		out := person.Values{}
		for i := 0; i < len(pairs); i += 2 {
			out[person.Field(pairs[i])] = pairs[i+1]
		}
		return out
	}
	for _, c := range []struct {
		name string
		r    Recorded
		h    RecordNews
		want bool
	}{
		{"made", Recorded{}, RecordNews{Made: true, After: v("source", "Fair")}, true},
		{"made, from there", Recorded{Source: " fair"}, RecordNews{Made: true, After: v("source", "Fair")}, true},
		{"made, from elsewhere", Recorded{Source: "Page"}, RecordNews{Made: true, After: v("source", "Fair")}, false},
		{"changed, not made", Recorded{}, RecordNews{Before: v("city", ""), After: v("city", "Bergen")}, false},
		{"made, not changed", Recorded{Field: "city"}, RecordNews{Made: true, After: v("city", "Bergen")}, false},
		{"changed", Recorded{Field: "city"}, RecordNews{Before: v("city", "Oslo"), After: v("city", "Bergen")}, true},
		{"another field", Recorded{Field: "city"}, RecordNews{Before: v("title", ""), After: v("title", "x")}, false},
		{"in its letters alone", Recorded{Field: "city"}, RecordNews{Before: v("city", "oslo "), After: v("city", "Oslo")},
			false},
		{"emptied", Recorded{Field: "city"}, RecordNews{Before: v("city", "Oslo"), After: v("city", "")}, true},
		{"filled", Recorded{Field: "city", To: "OSLO"}, RecordNews{Before: v("city", ""), After: v("city", "Oslo")}, true},
		{"to another", Recorded{Field: "city", To: "Oslo"}, RecordNews{Before: v("city", ""), After: v("city", "Bodø")}, false},
		{"from that", Recorded{Field: "city", From: "Oslo"}, RecordNews{Before: v("city", "Oslo"), After: v("city", "")}, true},
		{"from another", Recorded{Field: "city", From: "Oslo"}, RecordNews{Before: v("city", "Bodø"), After: v("city", "")},
			false},
		{"from that to this", Recorded{Field: "city", From: "Oslo", To: "Bodø"},
			RecordNews{Before: v("city", "Oslo"), After: v("city", "bodø")}, true},
	} {
		if got := c.r.Matches(&c.h); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
		if err := c.r.Check(); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	for _, wrong := range []Recorded{{From: "x"}, {To: "x"}, {Field: "city", Source: "x"},
		{Field: "city", From: "Oslo", To: " OSLO"}, {Source: strings.Repeat("x", 401)}} {
		if wrong.Check() == nil {
			t.Errorf("%+v can be asked", wrong)
		}
	}
	for want, r := range map[string]Recorded{
		"record is made":              {},
		"record is made, from “Fair”": {Source: "Fair"},
		"country changes":             {Field: person.Country},
		"country changes from “Norway” to “Germany”": {Field: person.Country, From: "NO", To: "DE"},
		"a field that is not there any more changes": {Field: "own 9"},
	} {
		if got := r.Words(nil); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// A second, plain way to the same answer, over generated cases.
func TestRecordedPlainly(t *testing.T) {
	rnd := rand.New(rand.NewPCG(44, 4))
	texts := []string{"", "Oslo", " oslo", "Bodø", "BODØ "}
	plain := func(s string) string { return strings.ToLower(strings.TrimSpace(s)) }
	met := 0
	for range 4000 {
		pick := func() string { return texts[rnd.IntN(len(texts))] }
		r := Recorded{Source: pick()}
		if rnd.IntN(2) == 0 {
			r = Recorded{Field: []person.Field{person.City, person.Title}[rnd.IntN(2)], From: pick(), To: pick()}
		}
		h := RecordNews{Made: rnd.IntN(2) == 0, After: person.Values{}}
		fields := []person.Field{person.Source}
		if !h.Made {
			h.Before, fields = person.Values{}, []person.Field{person.City, person.Title}[:1+rnd.IntN(2)]
		}
		for _, f := range fields {
			h.After[f] = pick()
			if !h.Made {
				h.Before[f] = pick()
			}
		}
		// "it is made (by whom or what may be asked), or a named field changes (from what, to what)"
		want := false
		if r.Field == "" {
			want = h.Made && (r.Source == "" || plain(r.Source) == plain(h.After[person.Source]))
		} else if !h.Made && slices.Contains(fields, r.Field) {
			was, is := plain(h.Before[r.Field]), plain(h.After[r.Field])
			want = was != is && (r.From == "" || plain(r.From) == was) && (r.To == "" || plain(r.To) == is)
		}
		if got := r.Matches(&h); got != want {
			t.Fatalf("%+v of %+v: %v, plainly %v", r, h, got, want)
		}
		if want {
			met++
		}
	}
	if met < 200 {
		t.Errorf("only %d matched", met)
	}
}

package demo

import (
	"bytes"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestOneSeedOneScenario(t *testing.T) {
	a, b := imagine(7, 400, 2000), imagine(7, 400, 2000)
	if !reflect.DeepEqual(a.people, b.people) || !reflect.DeepEqual(a.companies, b.companies) {
		t.Error("one seed made two scenarios")
	}
	if c := imagine(8, 400, 2000); reflect.DeepEqual(a.people, c.people) {
		t.Error("two seeds made one scenario")
	}
}

func TestEverybodyIsInvented(t *testing.T) {
	s := imagine(7, 400, 2000)
	seen := map[string]bool{}
	employers := map[string]bool{}
	for _, p := range s.people {
		if !strings.HasSuffix(p.Email, ".example") { // RFC 2606
			t.Errorf("%s is not under .example", p.Email)
		}
		for _, r := range p.Email {
			if r > 127 {
				t.Errorf("%s is no plain address", p.Email)
				break
			}
		}
		if seen[p.Email] {
			t.Errorf("%s is there twice", p.Email)
		}
		seen[p.Email], employers[p.Domain] = true, true
		// Ranges set aside for fiction, from memory.
		if p.Phone != "" && !strings.HasPrefix(p.Phone, "+1 202 555 01") &&
			!strings.HasPrefix(p.Phone, "+44 20 7946 0") {
			t.Errorf("%s could be somebody's", p.Phone)
		}
	}
	names, namesakes := map[string]bool{}, 0
	for _, p := range s.people {
		if names[p.First+" "+p.Last] {
			namesakes++
		}
		names[p.First+" "+p.Last] = true
	}
	if namesakes > 2000/20 {
		t.Errorf("%d of 2000 have a name that somebody else has", namesakes)
	}
	if len(s.people) != 2000 || len(employers) != 400 {
		t.Errorf("%d people at %d companies", len(s.people), len(employers))
	}
}

func TestGuideIsAPDF(t *testing.T) {
	b := guidePDF()
	if !bytes.HasPrefix(b, []byte("%PDF-1.4")) || !bytes.HasSuffix(b, []byte("%%EOF\n")) {
		t.Error("not in the form of a PDF")
	}
	at := bytes.Index(b, []byte("xref\n"))
	if !bytes.Contains(b, []byte("startxref\n"+itoa(at)+"\n")) {
		t.Error("the cross-reference table is not where the end says")
	}
}

func itoa(n int) string {
	s := ""
	for ; n > 0; n /= 10 {
		s = string(rune('0'+n%10)) + s
	}
	return s
}

func TestCeil(t *testing.T) {
	at := time.Date(2026, 4, 14, 9, 21, 0, 1, time.UTC)
	if got := ceil(at, 10*time.Minute); !got.Equal(time.Date(2026, 4, 14, 9, 30, 0, 0, time.UTC)) {
		t.Errorf("%v", got)
	}
	if got := ceil(at, 0); !got.Equal(at) {
		t.Errorf("%v", got)
	}
}

package public

import (
	"net/http/httptest"
	"testing"
)

func TestMachinesAreTold(t *testing.T) {
	for _, c := range []struct {
		method, agent string
		machine       bool
	}{
		{"GET", "Mozilla/5.0 (X11; Linux x86_64) Gecko/20100101 Firefox/140.0", false}, {"HEAD", "Mozilla/5.0", true},
		{"GET", "", true},
		{"GET", "curl/8.5.0", true}, {"GET", "ExampleLinkScanner/2", true},
		{"GET", "Mozilla/5.0 (compatible; ExampleBot/1.0)", true},
	} {
		r := httptest.NewRequest(c.method, "/l/1/1/x", nil)
		r.Header.Set("User-Agent", c.agent)
		if why := machine(r); (why != "") != c.machine {
			t.Errorf("%s by %q: %q", c.method, c.agent, why)
		}
	}
}

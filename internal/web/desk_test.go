package web

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/network"
)

// silentNetwork is one where nothing happens.
type silentNetwork struct{}

func (silentNetwork) Do(context.Context, network.Errand) (bool, error)     { return true, nil }
func (silentNetwork) Withdraw(context.Context, string) error               { return nil }
func (silentNetwork) News(context.Context, string) ([]network.News, error) { return nil, nil }

// At the foot of the desk one chooses when alerts come, and whether the network does one's social
// touches; without a network that is not asked. What cannot be is refused and keeps what was.
func TestTheFootOfTheDesk(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("rep")
	if _, body := v.do("GET", "/desk", nil); strings.Contains(body, `<option value="network"`) ||
		!strings.Contains(body, "Alerts come to me") {
		t.Error("a network is asked for that is not there, or alerts are not")
	}
	limits := url.Values{"by": {"network"}, "limit.connect": {"7"}, "limit.message": {"8"}, "limit.visit": {"9"},
		"limit.react": {"0"}, "limit.vouch": {"1"}}
	said := func(path string, form url.Values) string {
		t.Helper()
		res, _ := v.do("POST", path, form)
		if res.StatusCode != http.StatusSeeOther {
			t.Errorf("%s answers %s", path, res.Status)
		}
		_, body := v.do("GET", "/desk", nil)
		return body
	}
	if body := said("/desk/network", limits); !strings.Contains(body, "No network is connected") {
		t.Error("a network is chosen that is not there")
	}
	x.e.Config.Network = silentNetwork{}
	if body := said("/desk/network", limits); !strings.Contains(body, "The network does your social touches") ||
		!strings.Contains(body, `name="limit.connect" value="7"`) || !strings.Contains(body, `value="network" selected`) {
		t.Errorf("the network is not chosen: %.300s", body[strings.Index(body, "My social"):])
	}
	limits.Set("limit.connect", "many")
	if body := said("/desk/network", limits); !strings.Contains(body, "in numbers") ||
		!strings.Contains(body, `name="limit.connect" value="7"`) {
		t.Error("words are taken for a number")
	}
	limits.Set("limit.connect", "501")
	if body := said("/desk/network", limits); !strings.Contains(body, "at most 500") {
		t.Error("a limit is too large")
	}
	byMe := url.Values{"by": {"me"}, "limit.connect": {"7"}, "limit.message": {"8"}, "limit.visit": {"9"},
		"limit.react": {"0"}, "limit.vouch": {"1"}}
	if body := said("/desk/network", byMe); !strings.Contains(body, "wait for you on the desk") {
		t.Error("they are not done by hand again")
	}
	if body := said("/desk/alerts/when", url.Values{"when": {"at nine"}}); !strings.Contains(body, "<option selected>at nine") {
		t.Error("alerts do not come at nine")
	}
	if body := said("/desk/alerts/when", url.Values{"when": {"never"}}); !strings.Contains(body, "<option selected>at nine") {
		t.Error("alerts never come")
	}
	if res, _ := x.visitor().signIn("marketer").do("POST", "/desk/network", limits); res.StatusCode != http.StatusForbidden {
		t.Errorf("a marketer: %s", res.Status)
	}
}

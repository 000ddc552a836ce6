package web

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"ombak/internal/network"
	"ombak/internal/store"
)

// silentNetwork is one where nothing happens.
type silentNetwork struct{}

func (silentNetwork) Do(context.Context, network.Errand) (bool, error) { return true, nil }
func (silentNetwork) Withdraw(context.Context, string) error           { return nil }
func (silentNetwork) People(context.Context, network.Source, string, int) ([]network.Person, error) {
	return nil, nil
}
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

// What is in the pool can be taken, by a button that is there for it alone; who has it sees it
// and nobody else does.
func TestTakenFromThePool(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		return tx.AddTasks(t.Context(), []store.NewTask{{Person: ana, Words: "Ask which sensor", How: "a test", At: now}}, time.UTC)
	}))
	v := x.visitor().signIn("rep")
	page := v.follow("/desk?pool=1", nil)
	if !strings.Contains(page, "/desk/items/task-1/take") || !strings.Contains(page, "in the pool") {
		t.Errorf("it cannot be taken: %s", page)
	}
	if page = v.follow("/desk/items/task-1/take", url.Values{"desk": {"pool=1"}}); !strings.Contains(page, "It is yours for now") ||
		strings.Contains(page, "/desk/items/task-1/take") {
		t.Error("it is not taken, or can be taken again")
	}
	if page = v.follow("/desk/items/task-1/later", url.Values{"when": {"whenever"}}); !strings.Contains(page, "tomorrow 10") {
		t.Error("what is no time is not explained")
	}
	if page = v.follow("/desk/items/task-1/later", url.Values{"when": {"Monday 14:30"}}); !strings.Contains(page, "put off") ||
		!strings.Contains(page, "14:30") {
		t.Error("it is not put off")
	}
	// A marketer has tasks alone, whatever they send.
	if res, _ := x.visitor().signIn("marketer").do("POST", "/desk/items/call-1/take", nil); res.StatusCode !=
		http.StatusForbidden {
		t.Errorf("a marketer takes a call: %s", res.Status)
	}
	if res, _ := v.do("POST", "/desk/items/nothing-1/later", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("an item that is none answers %s", res.Status)
	}
}

// Package finder asks a finder of email addresses, over HTTP and JSON.
//
//	POST /v1/find   {"people": [{"id", "first", "last", "company", "domain"}]}, at most 100 of them; answers
//	                {"found": [{"id", "address", "is"}]}: is "valid" (its server takes letters to it),
//	                "risky" (its server takes letters to anybody) or "direct" (it is on a page of theirs).
//	                Of whom nothing is found nothing is said.
//
// Every request carries the token of the workspace.
package finder

import (
	"context"
	"net/http"
	"slices"

	"ombak/internal/outside"
)

// Quality is how good a found address is.
type Quality string

// The qualities, the best first.
const (
	Valid  Quality = "valid"
	Direct Quality = "direct"
	Risky  Quality = "risky"
)

// Qualities lists them, the best first.
func Qualities() []Quality { return []Quality{Valid, Direct, Risky} }

// MostAtOnce is of how many people it is asked at a time.
const MostAtOnce = 100

// Person is whose address is looked for.
type Person struct {
	ID      int64  `json:"id"`
	First   string `json:"first"`
	Last    string `json:"last"`
	Company string `json:"company"`
	Domain  string `json:"domain,omitempty"`
}

// Found is an address that may be somebody's.
type Found struct {
	ID      int64   `json:"id"`
	Address string  `json:"address"`
	Is      Quality `json:"is"`
}

// Best is, of what was found, the best that may be used for each; use are the qualities that may.
func Best(found []Found, use []Quality) map[int64]Found {
	out := map[int64]Found{}
	rank := func(q Quality) int { return slices.Index(Qualities(), q) }
	for _, f := range found {
		if rank(f.Is) < 0 || !slices.Contains(use, f.Is) {
			continue
		}
		if have, ok := out[f.ID]; !ok || rank(f.Is) < rank(have.Is) {
			out[f.ID] = f
		}
	}
	return out
}

// Client reaches it.
type Client struct {
	URL, Token string
	HTTP       *http.Client
}

// Find asks for the addresses of people, at most MostAtOnce.
func (c *Client) Find(ctx context.Context, people []Person) ([]Found, error) {
	var answer struct{ Found []Found }
	s := outside.Service{Name: "the finder of addresses", URL: c.URL, Token: c.Token, HTTP: c.HTTP}
	err := s.Ask(ctx, http.MethodPost, "/v1/find", map[string]any{"people": people}, &answer)
	return answer.Found, err
}

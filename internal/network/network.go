// Package network speaks to the network on which reps reach people, over HTTP and JSON.
//
//	PUT    /v1/errands/{id}    does something once, however often it is asked: {"from", "profile",
//	                           "what", "text", "n"}; answers {"done": true} or {"done": false}, which
//	                           is not possible
//	DELETE /v1/errands/{id}    withdraws a request to connect
//	GET    /v1/news?after=…    what people did, the oldest first: {"news": [{"cursor", "errand", "what",
//	                           "text", "at"}]}
//	GET    /v1/people?from=…   who is at an event, in a group, reacted to a post, or is found by a search:
//	                           &what= its address or words, &n= how many at most; answers {"people":
//	                           [{"profile", "first", "last", "title", "company", "country"}]}
//
// Every request carries the token of the workspace.
package network

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"ombak/internal/outside"
)

// Errand is something to be done on the network.
type Errand struct {
	ID      string `json:"-"`
	From    string `json:"from"`    // address of the rep who does it
	Profile string `json:"profile"` // whom it is about
	What    string `json:"what"`
	Text    string `json:"text,omitempty"`
	N       int    `json:"n,omitempty"`
}

// News is something that somebody did on the network.
type News struct {
	Cursor string    `json:"cursor"`
	Errand string    `json:"errand"` // in answer to what
	What   string    `json:"what"`
	Text   string    `json:"text,omitempty"`
	At     time.Time `json:"at"`
}

// Client reaches it. The zero HTTP is one that waits for ten seconds.
type Client struct {
	URL, Token string
	HTTP       *http.Client
}

// Do does an errand, once however often it is asked for; false: it is not possible. Where an error
// comes back it may have been done.
func (c *Client) Do(ctx context.Context, x Errand) (done bool, err error) {
	var answer struct{ Done bool }
	err = c.ask(ctx, http.MethodPut, "/v1/errands/"+url.PathEscape(x.ID), x, &answer)
	return answer.Done, err
}

// Withdraw takes a request to connect back; one that is not there, or was accepted, it leaves.
func (c *Client) Withdraw(ctx context.Context, id string) error {
	return c.ask(ctx, http.MethodDelete, "/v1/errands/"+url.PathEscape(id), nil, nil)
}

// News reads what people did after a cursor, the oldest first; "" is the beginning.
func (c *Client) News(ctx context.Context, after string) ([]News, error) {
	var answer struct{ News []News }
	err := c.ask(ctx, http.MethodGet, "/v1/news?after="+url.QueryEscape(after), nil, &answer)
	return answer.News, err
}

// Source is where people are on the network.
type Source string

// The sources there are: who is at an event, in a group, reacted to a post, or is found by a search.
const (
	AtEvent   Source = "event"
	InGroup   Source = "group"
	ReactedTo Source = "post"
	FoundBy   Source = "search"
)

// Sources lists them.
func Sources() []Source { return []Source{AtEvent, InGroup, ReactedTo, FoundBy} }

// Person is somebody on the network.
type Person struct {
	Profile string `json:"profile"`
	First   string `json:"first"`
	Last    string `json:"last"`
	Title   string `json:"title"`
	Company string `json:"company"`
	Country string `json:"country"`
}

// People lists whom a source has, at most n: what is the address of an event, a group or a post, or the
// words of a search.
func (c *Client) People(ctx context.Context, from Source, what string, n int) ([]Person, error) {
	var answer struct{ People []Person }
	v := url.Values{"from": {string(from)}, "what": {what}, "n": {strconv.Itoa(n)}}
	err := c.ask(ctx, http.MethodGet, "/v1/people?"+v.Encode(), nil, &answer)
	return answer.People[:min(len(answer.People), n)], err
}

func (c *Client) ask(ctx context.Context, method, path string, body, answer any) error {
	s := outside.Service{Name: "the network", URL: c.URL, Token: c.Token, HTTP: c.HTTP}
	return s.Ask(ctx, method, path, body, answer)
}

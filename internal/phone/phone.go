// Package phone speaks to a telephone exchange that makes calls for reps, over HTTP and JSON.
//
//	PUT    /v1/calls/{id}   has a rep's phone ring somebody, once however often it is asked:
//	                        {"from", "to"}, two numbers; answers a call
//	GET    /v1/calls/{id}   a call: {"state": "ringing", "talking" or "ended", "end", "seconds"}; end is
//	                        how it ended: "answered", "voicemail", "engaged", "no answer" or "no such
//	                        number"; seconds is for how long somebody talked
//	DELETE /v1/calls/{id}   ends it
//
// Every request carries the token of the workspace.
package phone

import (
	"context"
	"net/http"
	"net/url"

	"ombak/internal/outside"
)

// State is how far a call is.
type State string

// The states of a call.
const (
	Ringing State = "ringing"
	Talking State = "talking"
	Ended   State = "ended"
)

// End is how a call ended.
type End string

// How calls end.
const (
	Answered  End = "answered"
	Voicemail End = "voicemail"
	Engaged   End = "engaged"
	NoAnswer  End = "no answer"
	NoNumber  End = "no such number"
)

// Call is a call as the exchange has it.
type Call struct {
	State   State `json:"state"`
	End     End   `json:"end,omitempty"`
	Seconds int   `json:"seconds,omitempty"` // that somebody talked
}

// ErrNoCall is answered by an exchange that knows nothing of a call, as after it was dialled in vain.
var ErrNoCall = outside.ErrUnknown

// Client reaches the exchange.
type Client struct {
	URL, Token string
	HTTP       *http.Client
}

// Dial has a call made, once however often it is asked for.
func (c *Client) Dial(ctx context.Context, id, from, to string) (x Call, err error) {
	err = c.ask(ctx, http.MethodPut, id, map[string]string{"from": from, "to": to}, &x)
	return x, err
}

// State asks how far a call is.
func (c *Client) State(ctx context.Context, id string) (x Call, err error) {
	err = c.ask(ctx, http.MethodGet, id, nil, &x)
	return x, err
}

// HangUp ends a call; one that has ended stays as it is.
func (c *Client) HangUp(ctx context.Context, id string) (x Call, err error) {
	err = c.ask(ctx, http.MethodDelete, id, nil, &x)
	return x, err
}

func (c *Client) ask(ctx context.Context, method, id string, body, answer any) error {
	s := outside.Service{Name: "the phone", URL: c.URL, Token: c.Token, HTTP: c.HTTP}
	return s.Ask(ctx, method, "/v1/calls/"+url.PathEscape(id), body, answer)
}

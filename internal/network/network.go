// Package network speaks to the network on which reps reach people, over HTTP and JSON.
//
//	PUT    /v1/errands/{id}    does something once, however often it is asked: {"from", "profile",
//	                           "what", "text", "n"}; answers {"done": true} or {"done": false}, which
//	                           is not possible
//	DELETE /v1/errands/{id}    withdraws a request to connect
//	GET    /v1/news?after=…    what people did, the oldest first: {"news": [{"cursor", "errand", "what",
//	                           "text", "at"}]}
//
// Every request carries the token of the workspace.
package network

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
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

var patient = &http.Client{Timeout: 10 * time.Second}

// most is how much of an answer is read.
const most = 1 << 20

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

func (c *Client) ask(ctx context.Context, method, path string, body, answer any) error {
	var data []byte
	if body != nil {
		var err error
		if data, err = json.Marshal(body); err != nil {
			return err
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.URL, "/")+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	h := c.HTTP
	if h == nil {
		h = patient
	}
	res, err := h.Do(req)
	if err != nil {
		return fmt.Errorf("asking the network: %w", err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, most))
	if err != nil {
		return fmt.Errorf("reading the network's answer: %w", err)
	}
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("the network answered %s: %.200s", res.Status, text)
	}
	if answer == nil {
		return nil
	}
	if err := json.Unmarshal(text, answer); err != nil {
		return fmt.Errorf("reading the network's answer: %w", err)
	}
	return nil
}

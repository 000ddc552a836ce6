package phone

import (
	"context"
	"fmt"
	"net/http/httptest"
	"testing"
	"time"

	client "ombak/internal/phone"
)

// Numbers are answered, by somebody or a machine, engaged or let ring, the same at each run; a call is made
// once, goes on by its own, and ends where it is hung up.
func TestCalls(t *testing.T) {
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	open := func() (*client.Client, func()) {
		s := httptest.NewServer(New(Options{Seed: 7, Token: "secret", Now: func() time.Time { return now }}).Handler())
		return &client.Client{URL: s.URL, Token: "secret"}, s.Close
	}
	c, end := open()
	defer end()
	d, end2 := open()
	defer end2()
	ctx := context.Background()
	ends := map[client.End]int{}
	begun := now
	for i := range 100 {
		id, to := fmt.Sprint("a", i), fmt.Sprintf("+4420794600%02d", i)
		now = begun
		for range 2 {
			if x, err := c.Dial(ctx, id, "+442079460999", to); err != nil || x.State != client.Ringing {
				t.Fatalf("dialled it is %+v, %v", x, err)
			}
		}
		if _, err := d.Dial(ctx, id, "", to); err != nil {
			t.Fatal(err)
		}
		now = begun.Add(20 * time.Second)
		x, err := c.State(ctx, id)
		if err != nil || x.State == client.Ringing {
			t.Errorf("after 20 s it is %+v, %v", x, err)
		}
		if y, err := d.State(ctx, id); err != nil || y != x {
			t.Errorf("at another run it is %+v, %v, and was %+v", y, err, x)
		}
		if x.End == client.Answered {
			if x.State != client.Talking || x.Seconds < 10 {
				t.Errorf("answered, it is %+v", x)
			}
			if x, err = c.HangUp(ctx, id); err != nil || x.State != client.Ended {
				t.Errorf("hung up, it is %+v, %v", x, err)
			}
			now = begun.Add(time.Hour)
			if y, err := c.State(ctx, id); err != nil || y != x {
				t.Errorf("an hour later it is %+v, %v", y, err)
			}
		}
		ends[x.End]++
	}
	for _, e := range []client.End{client.Answered, client.Voicemail, client.Engaged, client.NoAnswer} {
		if ends[e] < 4 {
			t.Errorf("of a hundred %d were %s", ends[e], e)
		}
	}
	// Hung up while it rings, nobody answered.
	now = begun
	if _, err := c.Dial(ctx, "b", "", "+442079460100"); err != nil {
		t.Fatal(err)
	}
	if x, err := c.HangUp(ctx, "b"); err != nil || x.End != client.NoAnswer {
		t.Errorf("hung up while it rings it is %+v, %v", x, err)
	}
	for name, f := range map[string]func() error{
		"no such call": func() error { _, err := c.State(ctx, "x"); return err },
		"not hung up":  func() error { _, err := c.HangUp(ctx, "x"); return err },
		"to nobody":    func() error { _, err := c.Dial(ctx, "y", "", ""); return err },
		"by a stranger": func() error {
			_, err := (&client.Client{URL: c.URL, Token: "x"}).State(ctx, "b")
			return err
		},
	} {
		if f() == nil {
			t.Errorf("%s: is fine", name)
		}
	}
}

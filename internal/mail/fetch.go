package mail

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ombak/internal/core/plainly"
)

// fetchPatience is how long a calendar's server is waited for, in all.
const fetchPatience = 20 * time.Second

// CalendarAddress tidies the address of a calendar: http or https, or webcal, which stands for https.
func CalendarAddress(address string) (string, error) {
	address = strings.TrimSpace(address)
	if rest, ok := strings.CutPrefix(address, "webcal://"); ok {
		address = "https://" + rest
	}
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || len(address) > 2000 {
		return "", plainly.New("write the address of a calendar, as https://calendar.example/me.ics")
	}
	return u.String(), nil
}

// FetchCalendar reads the calendar at an address, at most MaxCalendar of it. One on this machine or in a
// private network is read only where private allows, whatever an address leads on to.
func FetchCalendar(ctx context.Context, address string, private bool) (io.Reader, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchPatience)
	defer cancel()
	d := &net.Dialer{Timeout: 10 * time.Second}
	if !private {
		d.Control = public
	}
	client := &http.Client{
		Transport: &http.Transport{DialContext: d.DialContext, TLSHandshakeTimeout: 10 * time.Second,
			MaxResponseHeaderBytes: 64 << 10, DisableKeepAlives: true},
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) > 3 {
				return plainly.New("it leads on too often")
			}
			return nil
		},
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, plainly.New("this is no address")
	}
	req.Header.Set("Accept", "text/calendar")
	res, err := client.Do(req)
	if err != nil {
		return nil, plainly.Errorf("it is not reached: %s", reachTrouble(err))
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, plainly.Errorf("its server answers %s", res.Status)
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, MaxCalendar+1))
	if err != nil {
		return nil, plainly.New("it broke off")
	}
	return bytes.NewReader(body), nil
}

func reachTrouble(err error) string {
	if text, ok := plainly.Says(err); ok {
		return text
	}
	switch {
	case strings.Contains(err.Error(), "no such host"):
		return "nothing has that name"
	case strings.Contains(err.Error(), "refused"):
		return "nothing listens there"
	case strings.Contains(err.Error(), "certificate"):
		return "its certificate is not good"
	}
	return fmt.Sprintf("it did not answer within %d seconds", int(fetchPatience.Seconds()))
}

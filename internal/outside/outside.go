// Package outside asks services of others over HTTP and JSON, with a bearer token, as those that Ombak
// works with are asked: the network, the phone, the finder of addresses.
package outside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// Service is where one is reached. The zero HTTP is one that waits for ten seconds.
type Service struct {
	Name       string // in errors: "the network"
	URL, Token string
	HTTP       *http.Client
}

var patient = &http.Client{Timeout: 10 * time.Second}

// ErrUnknown is answered where a service says that it knows nothing of what was asked about (RFC 9110, 15.5.5).
var ErrUnknown = errors.New("nothing is known of that")

// most is how much of an answer is read.
const most = 1 << 20

// Ask asks for something and reads the answer, where there is to be one.
func (s *Service) Ask(ctx context.Context, method, path string, body, answer any) error {
	var data []byte
	if body != nil {
		var err error
		if data, err = json.Marshal(body); err != nil {
			return err
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(s.URL, "/")+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+s.Token)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	h := s.HTTP
	if h == nil {
		h = patient
	}
	res, err := h.Do(req)
	if err != nil {
		return fmt.Errorf("asking %s: %w", s.Name, err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, most))
	if err != nil {
		return fmt.Errorf("reading the answer of %s: %w", s.Name, err)
	}
	if res.StatusCode == http.StatusNotFound {
		return fmt.Errorf("%s: %w (%.200s)", s.Name, ErrUnknown, text)
	}
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("%s answered %s: %.200s", s.Name, res.Status, text)
	}
	if answer == nil {
		return nil
	}
	if err := json.Unmarshal(text, answer); err != nil {
		return fmt.Errorf("reading the answer of %s: %w", s.Name, err)
	}
	return nil
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/engine"
	"ombak/internal/password"
	"ombak/internal/store"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

// benchAddress is that of the user as whom a bench signs in.
const benchAddress = "bench@bench.example"

// browser asks for pages over HTTP, as somebody who is signed in.
type browser struct {
	*httptest.Server
	client *http.Client
}

// page is one that is timed.
type page struct {
	name, path string
	form       url.Values // it is sent; nil: the page is asked for
}

func signIn(ctx context.Context, s *store.Store, e *engine.Engine, role right.Role) (*browser, error) {
	if _, err := s.AddUser(ctx, store.User{Name: "Bench", Email: benchAddress, Role: role,
		PasswordHash: password.Hash("bench-bench")}, e.Now()); err != nil {
		return nil, err
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	b := &browser{Server: httptest.NewServer(web.New(ctx, shell.Config{Store: s, Engine: e}).Handler()),
		client: &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}}
	code, err := b.ask(ctx, "/sign-in", url.Values{"email": {benchAddress}, "password": {"bench-bench"}})
	if err != nil || code != http.StatusSeeOther {
		b.Close()
		return nil, errors.Join(fmt.Errorf("signing in answered %d", code), err)
	}
	return b, nil
}

func (b *browser) ask(ctx context.Context, path string, form url.Values) (int, error) {
	method := http.MethodGet
	if form != nil {
		method = http.MethodPost
	}
	req, err := http.NewRequestWithContext(ctx, method, b.URL+path, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("HX-Request", "true")
	}
	res, err := b.client.Do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, res.Body)
	return res.StatusCode, err
}

// time asks for pages in turn, so that whatever the machine does meanwhile meets all alike.
func (b *browser) time(ctx context.Context, rounds int, pages []page) error {
	took := make([][]float64, len(pages))
	for range rounds {
		for i, p := range pages {
			start := time.Now()
			code, err := b.ask(ctx, p.path, p.form)
			if err != nil || code >= http.StatusBadRequest {
				return errors.Join(fmt.Errorf("%s answered %d", p.path, code), err)
			}
			took[i] = append(took[i], float64(time.Since(start).Microseconds())/1000)
		}
	}
	worst := 0.0
	for i, p := range pages {
		slices.Sort(took[i])
		p95 := took[i][len(took[i])*95/100]
		worst = max(worst, p95)
		fmt.Printf("  %-42s median %6.1f ms, 95th percentile %6.1f ms\n", p.name, took[i][len(took[i])/2], p95)
	}
	fmt.Printf("  the slowest 95th percentile: %.1f ms\n", worst)
	return nil
}

// discard reads an answer to its end, and answers how large it was.
func discard(res *http.Response) (int, error) {
	n, err := io.Copy(io.Discard, res.Body)
	return int(n), err
}

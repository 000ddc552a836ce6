package shell

import (
	"context"
	"fmt"
	"net/http"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
)

// events tells every open page what has changed. The last topics are kept, so
// that a page that was being made while something changed hears of it when it
// begins to listen.
type events struct {
	mu   sync.Mutex
	open map[chan string]bool
	from string   // names this process: another counts from elsewhere
	n    int64    // topics told so far
	last []string // the last of them
}

// keptTopics is how many topics are kept.
const keptTopics = 500

func newEvents() *events {
	return &events{open: map[chan string]bool{}, from: strconv.FormatInt(time.Now().UnixNano(), 36)}
}

// mark is how far topics have been told now.
func (e *events) mark() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return fmt.Sprintf("%s.%d", e.from, e.n)
}

// since lists the topics told since a mark, each once; "" (anything) for a mark
// that is not ours or too old. The channel joined before misses none in between.
func (e *events) since(mark string) []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	from, count, _ := strings.Cut(mark, ".")
	n, err := strconv.ParseInt(count, 10, 64)
	missed := e.n - n
	if from != e.from || err != nil || missed < 0 || missed > int64(len(e.last)) {
		return []string{""}
	}
	var out []string
	for _, t := range e.last[int64(len(e.last))-missed:] {
		if !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}

// tell passes a topic on. A page that is too slow to take it misses it: it
// will ask for everything with the next one.
func (e *events) tell(topic string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.n++
	if e.last = append(e.last, topic); len(e.last) > 2*keptTopics {
		e.last = append([]string(nil), e.last[keptTopics:]...)
	}
	for ch := range e.open {
		select {
		case ch <- topic:
		default:
		}
	}
}

func (e *events) join() chan string {
	ch := make(chan string, 64)
	e.mu.Lock()
	e.open[ch] = true
	e.mu.Unlock()
	return ch
}

func (e *events) leave(ch chan string) {
	e.mu.Lock()
	delete(e.open, ch)
	e.mu.Unlock()
}

// eventStream is the stream of server-sent events of one page.
func (s *Shell) eventStream(c *echo.Context) error {
	w := c.Response()
	rc := http.NewResponseController(w)
	if err := rc.SetWriteDeadline(time.Time{}); err != nil {
		return err
	}
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	ch := s.events.join()
	defer s.events.leave(ch)
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	if _, err := fmt.Fprint(w, ": here\n\n"); err != nil {
		return nil
	}
	if mark := c.QueryParam("since"); mark != "" {
		for _, topic := range s.events.since(mark) {
			if _, err := fmt.Fprintf(w, "data: %s\n\n", topic); err != nil {
				return nil
			}
		}
	}
	for {
		if err := rc.Flush(); err != nil {
			return nil // the page is gone
		}
		var err error
		select {
		case <-c.Request().Context().Done():
			return nil
		case topic := <-ch:
			_, err = fmt.Fprintf(w, "data: %s\n\n", topic)
		case <-beat.C:
			_, err = fmt.Fprint(w, ": still here\n\n")
		}
		if err != nil {
			return nil
		}
	}
}

var version = sync.OnceValue(func() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				return s.Value[:12]
			}
		}
	}
	return strconv.FormatInt(time.Now().Unix(), 36)
})

var requests = prometheus.NewHistogramVec(prometheus.HistogramOpts{
	Name: "ombak_http_request_seconds", Help: "How long requests took, by route and status.",
	Buckets: []float64{.005, .02, .05, .1, .3, 1, 5},
}, []string{"route", "status"})

// measure readies what /metrics shows.
func (s *Shell) measure() {
	s.metrics.MustRegister(collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), requests, behind{s})
	gauge := func(name, help string, f func() float64) {
		s.metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f))
	}
	gauge("ombak_database_connections", "Connections to the database in use.", func() float64 {
		return float64(s.Store.Pool.Stat().AcquiredConns())
	})
	gauge("ombak_pages_listening", "Open pages that are told of changes.", func() float64 {
		s.events.mu.Lock()
		defer s.events.mu.Unlock()
		return float64(len(s.events.open))
	})
}

// behind tells Prometheus, whenever it asks, how far the background work of the workspace is behind.
type behind struct{ *Shell }

var (
	waitingDesc = prometheus.NewDesc("ombak_work_waiting",
		"How much background work has come due and waits, by kind; no more than 10001 is counted.", []string{"work"},
		nil)
	lagDesc = prometheus.NewDesc("ombak_work_lag_seconds",
		"For how long the first of what waits has been due, by kind of background work.", []string{"work"}, nil)
	workersDesc = prometheus.NewDesc("ombak_workers", "Processes that do background work.", nil, nil)
)

// lagWithin bounds how long the database is asked.
const lagWithin = 5 * time.Second

// Describe names what it tells.
func (behind) Describe(to chan<- *prometheus.Desc) {
	to <- waitingDesc
	to <- lagDesc
	to <- workersDesc
}

// Collect asks the database, and tells an error in place of figures.
func (b behind) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), lagWithin)
	defer cancel()
	now := b.Engine.Now()
	list, err := b.Store.Lags(ctx, now)
	if err != nil {
		to <- prometheus.NewInvalidMetric(waitingDesc, err)
		return
	}
	for _, l := range list {
		to <- prometheus.MustNewConstMetric(waitingDesc, prometheus.GaugeValue, float64(l.Waiting), l.Work)
		lag := 0.0
		if l.Since != nil {
			lag = max(now.Sub(*l.Since).Seconds(), 0)
		}
		to <- prometheus.MustNewConstMetric(lagDesc, prometheus.GaugeValue, lag, l.Work)
	}
	workers, err := b.Store.Workers(ctx)
	if err != nil {
		to <- prometheus.NewInvalidMetric(workersDesc, err)
		return
	}
	to <- prometheus.MustNewConstMetric(workersDesc, prometheus.GaugeValue, float64(len(workers)))
}

func (s *Shell) counted(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		start := time.Now()
		err := next(c)
		route := c.Path()
		if route == "/events" {
			return err // it lasts as long as its page
		}
		status := http.StatusOK
		if r, ok := c.Response().(*echo.Response); ok && r.Status != 0 {
			status = r.Status
		}
		if err != nil {
			if status = echo.StatusCode(err); status == 0 {
				status = http.StatusInternalServerError
			}
		}
		requests.WithLabelValues(route, strconv.Itoa(status)).Observe(time.Since(start).Seconds())
		return err
	}
}

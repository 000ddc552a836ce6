package shell

import (
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// maxLimits is how many are remembered of one kind of thing that is limited:
// when there are more, who has been quiet the longest is forgotten.
const maxLimits = 20_000

// limits counts tries, for what anybody can call. Each kind of thing has a table
// of its own, so that filling one does not empty another; a look takes the same
// time however many there are.
type limits struct {
	mu sync.Mutex
	by map[string]*lru.Cache[string, *rate.Limiter]
}

func newLimits() *limits { return &limits{by: map[string]*lru.Cache[string, *rate.Limiter]{}} }

// Allow takes a try of what by whom: burst at once, then one every so often.
func (l *limits) Allow(what, who string, every time.Duration, burst int) bool {
	return l.of(what, who, every, burst).Allow()
}

// left reports whether a try would be allowed, and takes none.
func (l *limits) left(what, who string, every time.Duration, burst int) bool {
	return l.of(what, who, every, burst).Tokens() >= 1
}

func (l *limits) of(what, who string, every time.Duration, burst int) *rate.Limiter {
	if len(who) > 64 { // what a stranger typed takes no more room than that
		h := sha256.Sum256([]byte(who))
		who = hex.EncodeToString(h[:])
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	table := l.by[what]
	if table == nil {
		table, _ = lru.New[string, *rate.Limiter](maxLimits) // fails only for a size below one
		l.by[what] = table
	}
	x, ok := table.Get(who)
	if !ok {
		x = rate.NewLimiter(rate.Every(every), burst)
		table.Add(who, x)
	}
	return x
}

// Network is whom an address stands for: itself, or of IPv6 the network of 64
// bits, of which one household has a whole one (RFC 6177).
func Network(ip string) string {
	a, err := netip.ParseAddr(ip)
	if err != nil {
		return ip
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, err := a.Prefix(64)
	if err != nil {
		return ip
	}
	return p.String()
}

package people

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"strings"
	"sync"
	"time"

	"inkret/service/base"
)

// Origin is where a request comes from, as far as the HTTP surface knows.
type Origin struct {
	Address string // of the client's machine
	Browser string // what [Service.KnownBrowser] gave to this browser when somebody signed in with it
}

type originKey struct{}

// WithOrigin adds the origin of a request to a context.
func WithOrigin(ctx context.Context, o Origin) context.Context {
	return context.WithValue(ctx, originKey{}, o)
}

func originOf(ctx context.Context) Origin {
	o, _ := ctx.Value(originKey{}).(Origin)
	return o
}

// tries slows down people who guess passwords or codes. Failures are counted by account, whether it exists or not,
// and by address. Browsers and addresses from which the owner signed in before are counted separately, so strangers
// cannot lock the owner out.
type tries struct {
	mu    sync.Mutex // guards both
	by    map[string]try
	known map[string]time.Time // account and address from which somebody signed in, and when
}

type try struct {
	wrong int
	until time.Time // no try before
}

const (
	freeTries        = 5  // wrong ones at an account after which each next has to wait
	freeAddressTries = 30 // and from an address, which many may share
	firstWait        = 5 * time.Second
	longestWait      = 15 * time.Minute
	mostTried        = 10_000 // accounts and addresses that are remembered
	forgetTry        = time.Hour
	doublingsMax     = 10
	knownFor         = 30 * 24 * time.Hour
)

// tried holds the counters that an attempt belongs to.
type tried struct{ keys []string }

func accountKey(email string) string { return strings.ToLower(strings.TrimSpace(email)) }

// tried returns the counters of an attempt at an account. email is empty for a set-up code.
func (s *People) tried(ctx context.Context, email string) tried {
	o, account := originOf(ctx), accountKey(email)
	if account != "" {
		if id := s.browserOf(o.Browser, account); id != "" {
			return tried{[]string{"browser " + id}}
		}
		if s.tries.knows(account+"\n"+o.Address, s.base.Now()) {
			return tried{[]string{"known " + account + "\n" + o.Address}}
		}
	}
	var keys []string
	if account != "" {
		keys = append(keys, "account "+account)
	}
	if o.Address != "" {
		keys = append(keys, "address "+o.Address)
	}
	return tried{keys}
}

func (g *tries) knows(key string, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	at, ok := g.known[key]
	return ok && now.Sub(at) < knownFor
}

// wait returns how long the next attempt has to wait.
func (g *tries) wait(t tried, now time.Time) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	longest := time.Duration(0)
	for _, key := range t.keys {
		longest = max(longest, g.by[key].until.Sub(now))
	}
	return longest
}

// wrong counts a failed attempt.
func (g *tries) wrong(t tried, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.by) >= mostTried {
		for key, one := range g.by {
			if now.Sub(one.until) > forgetTry {
				delete(g.by, key)
			}
		}
	}
	if g.by == nil || len(g.by) >= mostTried { // somebody tries addresses without end
		g.by = map[string]try{}
	}
	for _, key := range t.keys {
		one, free := g.by[key], freeTries
		if strings.HasPrefix(key, "address ") {
			free = freeAddressTries
		}
		one.wrong++
		one.until = now
		if over := one.wrong - free; over >= 0 {
			one.until = now.Add(min(longestWait, firstWait<<min(over, doublingsMax)))
		}
		g.by[key] = one
	}
}

// right resets the counters after the owner signed in, and remembers their browser and address.
func (g *tries) right(t tried, email, address string, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, key := range t.keys {
		if !strings.HasPrefix(key, "address ") { // others may guess from there at other accounts
			delete(g.by, key)
		}
	}
	if address == "" {
		return
	}
	if g.known == nil || len(g.known) >= mostTried {
		g.known = map[string]time.Time{}
	}
	g.known[accountKey(email)+"\n"+address] = now
}

// slowed is the problem for an attempt that came too early.
func slowed(wait time.Duration) *base.Problem {
	p := base.NewProblem(base.Slowed, "", "too many wrong tries: the next one in %s", wait.Round(time.Second))
	p.Wait = wait
	return p
}

// browserAs is authenticated together with the known-browser cookie.
const browserAs = "inkret known browser 1"

type knownBrowser struct {
	Account, ID string
	Until       int64 // Unix seconds
}

// KnownBrowser returns the sealed value that lets a browser skip delays caused by others' failures. It does not
// sign anybody in.
func (s *People) KnownBrowser(email string) (text string, until time.Time) {
	until = s.base.Now().Add(knownFor)
	plain, err := json.Marshal(knownBrowser{accountKey(email), base.NewSecret()[:16], until.Unix()})
	if err != nil {
		panic(err) // text and a number
	}
	return base64.RawURLEncoding.EncodeToString(s.vault.Seal(plain, browserAs)), until
}

// browserOf returns the id of a browser known for an account, or the empty string.
func (s *People) browserOf(text, account string) string {
	sealed, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(sealed) == 0 {
		return ""
	}
	plain, _, err := s.vault.Open(sealed, browserAs)
	var b knownBrowser
	if err != nil || json.Unmarshal(plain, &b) != nil || b.Account != account || s.base.Now().Unix() >= b.Until {
		return ""
	}
	return b.ID
}

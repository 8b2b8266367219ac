package service

import (
	"strings"
	"sync"
	"time"
)

// guesses slows those down who guess passwords or codes, by the e-mail address that they try,
// whether anybody has it or not.
type guesses struct {
	mu sync.Mutex // guards by
	by map[string]guess
}

type guess struct {
	wrong int
	until time.Time // no try before
}

const (
	freeGuesses  = 5 // wrong ones after which each next has to wait
	firstWait    = 5 * time.Second
	longestWait  = 15 * time.Minute
	mostGuessed  = 10_000 // addresses that are remembered
	forgetGuess  = time.Hour
	doublingsMax = 10
)

func guessKey(email string) string { return strings.ToLower(strings.TrimSpace(email)) }

// wait gives how long the next try has to wait.
func (g *guesses) wait(email string, now time.Time) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return max(0, g.by[guessKey(email)].until.Sub(now))
}

// wrong notes a wrong try.
func (g *guesses) wrong(email string, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.by == nil || len(g.by) >= mostGuessed {
		for key, one := range g.by {
			if now.Sub(one.until) > forgetGuess {
				delete(g.by, key)
			}
		}
		if g.by == nil || len(g.by) >= mostGuessed { // somebody tries addresses without end
			g.by = map[string]guess{}
		}
	}
	one := g.by[guessKey(email)]
	one.wrong++
	one.until = now
	if over := one.wrong - freeGuesses; over >= 0 {
		one.until = now.Add(min(longestWait, firstWait<<min(over, doublingsMax)))
	}
	g.by[guessKey(email)] = one
}

// right forgets the wrong tries of who came in.
func (g *guesses) right(email string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.by, guessKey(email))
}

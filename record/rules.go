package record

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"sync"

	"inkret/core/contract"
	"inkret/core/detect"
)

// Rules select the calls to capture.
type Rules struct {
	Include []Rule // any of them; none takes all
	Exclude []Rule // none of them
	// Sample is the share of calls to capture, above 0 up to 1; 0 captures all. The first calls of each endpoint
	// are always captured, so that rare endpoints are not missed.
	Sample float64
}

const (
	// alwaysTaken is how many calls of an endpoint are captured before sampling.
	alwaysTaken = 20
	// mostEndpoints limits the endpoints that are remembered.
	mostEndpoints = 20_000
)

// Rule matches calls by method and path.
type Rule struct {
	method string
	path   *regexp.Regexp
}

// ParseRule parses a rule such as "GET /v1/berths/*": * matches any characters; without a method, the rule matches
// all.
func ParseRule(text string) (Rule, error) {
	method, path, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok {
		method, path = "", method
	}
	path = strings.TrimSpace(path)
	if !strings.HasPrefix(path, "/") && !strings.HasPrefix(path, "*") || strings.ToUpper(method) != method {
		return Rule{}, fmt.Errorf("%q is no rule; one is written GET /v1/berths/* or /v1/*", text)
	}
	if strings.ContainsAny(path, "?# ") {
		return Rule{}, fmt.Errorf("%q can hold for no call: a rule is held against the path alone, without its "+
			"query; write %s", text, path[:strings.IndexAny(path, "?# ")])
	}
	parts := strings.Split(path, "*")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	expression, err := regexp.Compile(`(?s)\A` + strings.Join(parts, ".*") + `\z`)
	return Rule{method, expression}, err
}

func (r Rule) fits(method, path string) bool {
	return (r.method == "" || r.method == method) && r.path.MatchString(path)
}

// rules are rules with their state.
type rules struct {
	Rules
	mu    sync.Mutex
	calls map[string]int // by endpoint, up to alwaysTaken
}

func newRules(r Rules) *rules { return &rules{Rules: r, calls: map[string]int{}} }

// take reports whether to capture a call.
func (r *rules) take(method, path string) bool {
	fits := func(all []Rule) bool {
		for _, one := range all {
			if one.fits(method, path) {
				return true
			}
		}
		return false
	}
	if len(r.Include) > 0 && !fits(r.Include) || fits(r.Exclude) {
		return false
	}
	if r.Sample <= 0 || r.Sample >= 1 || rand.Float64() < r.Sample {
		return true
	}
	endpoint := contract.Generalise(method, strings.Split(strings.Trim(path, "/"), "/"), detect.IsValue)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.calls[endpoint] >= alwaysTaken || len(r.calls) >= mostEndpoints {
		return false
	}
	r.calls[endpoint]++
	return true
}

package httpapi

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"testing"

	"inkret/api/wire"
	"inkret/service/base"
)

// ofTheTeam are parameters of paths that name what belongs to no service.
var ofTheTeam = []string{"draft_id", "token_id", "session_id", "person_id", "hook_id", "delivery_id", "mail_id",
	"view_id",
	"change_id", "endpoint_id", "audience", "number", "chunk", "form"}

// TestNoSpellingOpensADoor tries every operation that changes something or shows a value, with every role, role at
// the service, scope and spelling of what its path names: who may not do it under the plain name may not do it
// under any.
func TestNoSpellingOpensADoor(t *testing.T) {
	w := newWorld(t)
	roles := []string{base.Viewer, base.Reviewer, base.Lead, base.Administrator}
	rank := map[string]int{"viewer": 1, "reviewer": 2, "lead": 3, "administrator": 4}
	scopes := []string{"read", "record", "everything"}
	s := &sampler{rand.New(rand.NewPCG(1, 2)), []string{"quay", "GET /skippers", "visitor", "because of the walk",
		"/pin"}}
	before := w.state(t, "quay")
	type caller struct{ role, at, scope, token string }
	var callers []caller
	for _, role := range roles {
		for _, at := range []string{"", base.Viewer, base.Reviewer, base.Lead} {
			p := ask[wire.Invited](t, w.site, "POST", "/api/v1/people", base.Administrator,
				fmt.Sprintf(`{"email":"%s-%s@quay.example","role":"%s"}`, role, at, role), 201).Person
			if at != "" {
				ask[wire.Person](t, w.site, "PATCH", fmt.Sprintf("/api/v1/people/%d", p.ID), base.Administrator,
					`{"service_roles":[{"service":"quay","role":"`+at+`"}]}`, 200)
			}
			for _, scope := range scopes {
				callers = append(callers, caller{role, at, scope, w.tokenOf(t, p.ID, scope)})
			}
		}
	}
	denied, doors := 0, 0
	for i := range w.operations {
		op := &w.operations[i]
		if op.Role == "none" || op.Role == base.Viewer && op.Scope == "read" {
			continue // strangers may, or everybody
		}
		named := slices.ContainsFunc(op.Names, func(n string) bool { return !slices.Contains(ofTheTeam, n) })
		for _, c := range callers {
			held := c.role
			if named && c.at != "" && c.role != base.Administrator {
				held = c.at
			}
			if op.Each && rank[c.at] > rank[held] {
				held = c.at
			}
			if slices.Index(scopes, c.scope) >= slices.Index(scopes, op.Scope) && rank[held] >= rank[op.Role] {
				continue // they may
			}
			denied++
			for how, spell := range spellings {
				if len(op.Names) == 0 && how != "as it is" {
					continue
				}
				path := at(op, w.names("quay"), spell) + s.query(op)
				a := w.call(t, strings.ToUpper(op.Method), path, c.token, s.body(op))
				doors++
				if a.status < 400 || a.status >= 500 || leaked(a.body) != "" {
					t.Errorf("%s by a %s who is %q at the service, with the scope %s, spelled with %s (%s): %d %s",
						op.ID, c.role, c.at, c.scope, how, path, a.status, a.body)
				}
			}
		}
	}
	if denied < 500 || doors < 5000 {
		t.Errorf("only %d callers were denied, through %d spellings", denied, doors)
	}
	if after := w.state(t, "quay"); after != before {
		t.Errorf("something was changed:\n%s\n%s", before, after)
	}

	// And whoever may do it under the plain name may do it under an equivalent one.
	reviewer := w.tokens[base.Reviewer]
	for _, how := range []string{"as it is", "first letter escaped", "all of it escaped", "escaped in capitals"} {
		spell := spellings[how]
		a := w.call(t, "POST", "/api/v1/captures/"+spell("1")+"/reveal", reviewer,
			`{"pointer":"/pin","reason":"to compare spellings"}`)
		if a.status != http.StatusOK || !strings.Contains(a.body, planted[0]) {
			t.Errorf("spelled with %s a reviewer gets %d %s", how, a.status, a.body)
		}
		if a := w.call(t, "GET", "/api/v1/services/"+spell("quay")+"/contracts", reviewer,
			""); a.status != http.StatusOK {
			t.Errorf("the contracts of a service spelled with %s: %d %s", how, a.status, a.body)
		}
	}
	for what, path := range map[string]string{"a capture": "/api/v1/captures/9999/reveal",
		"a batch": "/api/v1/batches/9999/withdrawal"} {
		if a := w.call(t, "POST", path, w.tokens[base.Administrator],
			`{"pointer":"/a","reason":"nothing there"}`); what == "a capture" && a.status != http.StatusNotFound {
			t.Errorf("%s that is not there: %d %s", what, a.status, a.body)
		}
	}
}

// TestStrangersViewersAndNeighbours calls the operations at random, with what fits the description and what
// does not, as three callers who may not: nobody, a viewer with a token that reads, and a reviewer of another
// service.
func TestStrangersViewersAndNeighbours(t *testing.T) {
	w := newWorld(t)
	neighbour := ask[wire.Invited](t, w.site, "POST", "/api/v1/people", base.Administrator,
		`{"email":"neighbour@quay.example","role":"viewer"}`, 201).Person
	ask[wire.Person](t, w.site, "PATCH", fmt.Sprintf("/api/v1/people/%d", neighbour.ID), base.Administrator,
		`{"service_roles":[{"service":"till","role":"reviewer"}]}`, 200)
	viewer := ask[wire.Invited](t, w.site, "POST", "/api/v1/people", base.Administrator,
		`{"email":"looks@quay.example","role":"viewer"}`, 201).Person
	callers := map[string]string{"a stranger": "", "a viewer who reads": w.tokenOf(t, viewer.ID, "read"),
		"a reviewer of another service": w.tokenOf(t, neighbour.ID, "everything")}
	words := []string{"quay", "till", "GET /skippers", "visitor", "office", "Skipper", "pin", "because", "/pin",
		"/data/0", "a@b.example", "confirmed", "open", "2026-05-01", "' OR 1=1 --", "<b>", "\u202e", "%s%n",
		strings.Repeat("ä", 300)}
	s := &sampler{rand.New(rand.NewPCG(20261127, 7)), words}
	how := slices.Sorted(func(yield func(string) bool) {
		for name := range spellings {
			if !yield(name) {
				return
			}
		}
	})
	before, trailBefore := w.state(t, "quay"), w.trailOf(t, viewer.ID)
	var was runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&was)
	const tries = 6000
	answered := map[int]int{}
	most := uint64(0)
	for i := range tries {
		op := &w.operations[s.IntN(len(w.operations))]
		if op.ID == "watchLive" || op.ID == "signOut" || op.ID == "endToken" || op.ID == "endSession" {
			continue // one does not end, the others end the caller
		}
		where := []string{"quay", "quay", "till"}[s.IntN(3)]
		names := w.names(where)
		spell := spellings["as it is"]
		if s.IntN(3) == 0 {
			spell = spellings[how[s.IntN(len(how))]]
		}
		body := s.body(op)
		switch s.IntN(8) {
		case 0:
			body = body[:len(body)/2]
		case 1:
			body = strings.Replace(body, ":", `:{"a":[`, 1)
		case 2:
			body = strings.Repeat("[", 5000)
		}
		for who, token := range callers {
			a := w.call(t, strings.ToUpper(op.Method), at(op, names, spell)+s.query(op), token, body)
			answered[a.status/100]++
			theirs := where == "till" && who == "a reviewer of another service" && op.Role == base.Reviewer
			if v := leaked(a.body); v != "" && !theirs {
				t.Errorf("%s gets %q from %s: %s", who, v, op.ID, a.body)
			}
			if a.status >= 500 {
				t.Errorf("%s at %s as %s: %d %s\n%s", op.ID, at(op, names, spell), who, a.status, a.body, body)
			}
		}
		if i%500 == 0 {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapAlloc)
		}
	}
	if after := w.state(t, "quay"); after != before {
		t.Error("something of the service was changed")
	}
	if after := w.trailOf(t, viewer.ID); after != trailBefore {
		t.Errorf("the viewer who reads changed something:\n%s", after)
	}
	const bound = 600 << 20
	if most > bound {
		t.Errorf("the heap grew to %d MB", most>>20)
	}
	if answered[2] < tries/10 || answered[4] < tries/2 {
		t.Errorf("answers by class: %v; the requests do not reach anything", answered)
	}
}

// tokenOf makes a token of somebody.
func (w *world) tokenOf(t *testing.T, person int64, scope string) string {
	t.Helper()
	_, token, err := w.service.People.NewToken(t.Context(), base.Caller{}, base.Person{ID: person},
		base.Key{Name: "walk", Scope: scope}, 0)
	if err != nil {
		t.Fatal(err)
	}
	return token
}

// trailOf lists what somebody did, refusals and looking left out.
func (w *world) trailOf(t *testing.T, person int64) string {
	t.Helper()
	var b strings.Builder
	for _, e := range ask[wire.TrailPage](t, w.site, "GET", fmt.Sprintf("/api/v1/trail?size=500&person=%d", person),
		base.Viewer, "", 200).Items {
		if e.Action != "refused" && !strings.HasPrefix(e.Action, "export") {
			b.WriteString(e.Action + " " + e.Subject + " " + e.Detail + "\n")
		}
	}
	return b.String()
}

// TestOtherSitesChangeNothing sends what a browser sends on behalf of a page elsewhere, with the cookie of who
// is signed in.
func TestOtherSitesChangeNothing(t *testing.T) {
	w := newWorld(t)
	in := w.call(t, "POST", "/api/v1/session", "", `{"email":"reviewer@quay.example","password":"low tide at nine"}`)
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	before := w.state(t, "quay")
	for _, c := range changes {
		for name, headers := range map[string][]string{"another site": {"Sec-Fetch-Site", "cross-site"},
			"a site beside it": {"Sec-Fetch-Site", "same-site"}, "another origin": {"Origin",
				"https://elsewhere.example"}, "no origin": {"Origin", "null"}} {
			a := w.call(t, c.method, strings.ReplaceAll(c.path, "{finding}", w.finding["quay"]), "", c.body,
				append(headers, "Cookie", cookie)...)
			if a.status != http.StatusForbidden || a.header.Get("Access-Control-Allow-Origin") != "" {
				t.Errorf("%s from %s: %d %s", c.action, name, a.status, a.body)
			}
		}
	}
	if after := w.state(t, "quay"); after != before {
		t.Error("something was changed")
	}
}

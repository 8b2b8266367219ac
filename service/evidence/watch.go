package evidence

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/timetable"
	"inkret/outbound"
	"inkret/service/base"
	"inkret/store"
)

// A watch makes safe calls again by the clock. What they show is judged like any batch: what comes back is told, and a
// repair is proven, while nobody looks.

// Bounds of a watch.
const (
	maxWatchCalls = maxAgain
	maxPerMinute  = 600
	maxWatchName  = 100
	usualRate     = 30 // calls per minute
	usualEvery    = 24 * time.Hour
)

// WatchSaid is what somebody says of a watch. What is nil stays as it is, or is as usual in a new one.
type WatchSaid struct {
	Name      *string        // what it is called
	Captures  []int64        // whose calls it makes; nil leaves them
	Callers   []CallAs       // as whom; nil leaves them, none is who made each call
	Server    *string        // an allowed one that all calls go to; empty for their own
	Every     *time.Duration // from one run to the next
	Window    *string        // as in 22:00-05:00, UTC
	PerMinute *int           // calls
	Paused    *bool          // it is not run by the clock
}

// Watches lists the watches of a service, or of all.
func (s *Evidence) Watches(ctx context.Context, service string) ([]store.Watch, error) {
	return s.store.All(ctx, service)
}

// WatchView is a watch with its calls and runs.
type WatchView struct {
	store.Watch
	Made []store.Capture  // the calls, as the captures they were recorded as
	Runs []store.WatchRun // newest first
}

// shownRuns is how many runs of a watch are shown.
const shownRuns = 50

// WatchOf returns a watch.
func (s *Evidence) WatchOf(ctx context.Context, id int64) (v WatchView, err error) {
	if v.Watch, err = s.store.Watch(ctx, id); err != nil {
		return v, base.Found(err, "watch %d", id)
	}
	if v.Made, err = s.store.WatchCalls(ctx, id); err != nil {
		return v, err
	}
	v.Runs, err = s.store.WatchRuns(ctx, id, shownRuns)
	return v, err
}

// Proposed is a call that is worth watching, and why.
type Proposed struct {
	store.Capture
	Why string // it is worth it
}

// Propose lists the calls of a service that are worth watching: those that show open findings first.
func (s *Evidence) Propose(ctx context.Context, service string) ([]Proposed, error) {
	if _, err := s.base.Contracts(ctx, service); err != nil {
		return nil, err
	}
	all, err := s.store.WorthWatching(ctx, service, maxWatchCalls)
	var out []Proposed
	met := map[int64]bool{}
	for _, c := range all {
		if c.Call != 0 && met[c.Call] { // the same call, made again
			continue
		}
		met[c.Call] = true
		why := "the newest call that was answered"
		if c.Audience != "" {
			why += " as " + c.Audience
		}
		if c.Findings > 0 {
			why = fmt.Sprintf("shows %d findings that are open", c.Findings)
			if c.Findings == 1 {
				why = "shows a finding that is open"
			}
		}
		out = append(out, Proposed{c, why})
	}
	return out, err
}

// MakeWatch makes a watch.
func (s *Evidence) MakeWatch(ctx context.Context, who base.Caller, service string, say WatchSaid) (WatchView, error) {
	w := store.Watch{Service: service, PersonID: who.ID, Every: usualEvery, PerMinute: usualRate, Created: s.base.Now()}
	if say.Name == nil {
		say.Name = new(string)
	}
	if len(say.Captures) == 0 {
		return WatchView{}, base.NewProblem(base.Invalid, "inkret watch propose lists what is worth it",
			"say which calls it makes")
	}
	return s.setWatch(ctx, who, w, say)
}

// ChangeWatch changes a watch. Who changes it becomes its owner where the owner left, or may make no calls any more.
func (s *Evidence) ChangeWatch(ctx context.Context, who base.Caller, id int64, say WatchSaid) (WatchView, error) {
	w, err := s.store.Watch(ctx, id)
	if err != nil {
		return WatchView{}, base.Found(err, "watch %d", id)
	}
	if !who.MayIn(w.Service, base.Reviewer) {
		return WatchView{}, who.NotIn(w.Service, base.Reviewer)
	}
	if _, runs, err := s.asOwner(ctx, w); err != nil {
		return WatchView{}, err
	} else if !runs {
		w.PersonID = who.ID
	}
	return s.setWatch(ctx, who, w, say)
}

// setWatch checks what is said of a watch and stores it.
func (s *Evidence) setWatch(ctx context.Context, who base.Caller, w store.Watch, say WatchSaid) (WatchView, error) {
	f, err := s.base.Contracts(ctx, w.Service)
	if err != nil {
		return WatchView{}, err
	}
	if err := say.into(&w, f.Contracts); err != nil {
		return WatchView{}, err
	}
	if w.Server != "" {
		allowed, err := s.store.AllowedServers(ctx, w.Service)
		if err != nil {
			return WatchView{}, err
		}
		if !slices.ContainsFunc(allowed, func(a store.AllowedServer) bool { return a.Server == w.Server }) {
			return WatchView{}, base.NewProblem(base.Forbidden, "an administrator allows it: inkret service allow "+
				w.Server,
				"calls to %s are not allowed", w.Server)
		}
	}
	var calls []store.Capture
	for _, id := range say.Captures {
		c, err := s.watched(ctx, w.Service, id)
		if err != nil {
			return WatchView{}, err
		}
		calls = append(calls, c)
	}
	if w.Next.IsZero() || say.Every != nil || say.Window != nil {
		w.Next = planOf(&w).Soon(s.base.Now())
	}
	did := "change watch"
	if w.ID == 0 {
		did = "make watch"
	}
	w, err = s.store.SetWatch(ctx, w, calls, func(w store.Watch) store.TrailEntry {
		return s.base.Did(who, did, fmt.Sprintf("watch %d", w.ID), fmt.Sprintf("%s: %s, every %s", w.Service, w.Name,
			w.Every))
	})
	if errors.Is(err, store.ErrTaken) {
		return WatchView{}, base.NewProblem(base.Conflict, "choose another name", "%s has a watch %q already",
			w.Service,
			w.Name)
	}
	if err != nil {
		return WatchView{}, base.Plain(err)
	}
	return s.WatchOf(ctx, w.ID)
}

// into sets what is said in a watch.
func (say *WatchSaid) into(w *store.Watch, c *contract.Contracts) error {
	if say.Name != nil {
		if w.Name = strings.TrimSpace(*say.Name); w.Name == "" || len(w.Name) > maxWatchName ||
			strings.ContainsAny(w.Name, "\r\n\x00") {
			return base.NewProblem(base.Invalid, "", "a watch has a name of one line, of %d bytes at the most",
				maxWatchName)
		}
	}
	if say.Callers != nil {
		w.Callers = nil
		for _, as := range say.Callers {
			if c.Audience(as.Audience) == nil {
				return base.NewProblem(base.Invalid, "", "there is no audience %q", as.Audience)
			}
			if one := store.WatchCaller(as); !slices.Contains(w.Callers, one) {
				w.Callers = append(w.Callers, one)
			}
		}
	}
	if say.Server != nil {
		if w.Server = *say.Server; w.Server != "" {
			server, err := contract.ParseServer(w.Server)
			if err != nil {
				return base.NewProblem(base.Invalid, "", "%v", err)
			}
			w.Server = server.URL()
		}
	}
	if say.Every != nil {
		w.Every = say.Every.Truncate(time.Hour)
	}
	if say.Window != nil {
		var err error
		if w.Begins, w.Ends, err = timetable.ParseWindow(*say.Window); err != nil {
			return base.NewProblem(base.Invalid, "", "%v", err)
		}
	}
	if err := planOf(w).Check(); err != nil {
		return base.NewProblem(base.Invalid, "", "%v", err)
	}
	if say.PerMinute != nil {
		w.PerMinute = *say.PerMinute
	}
	if w.PerMinute < 1 || w.PerMinute > maxPerMinute {
		return base.NewProblem(base.Invalid, "", "it makes 1 to %d calls a minute", maxPerMinute)
	}
	if say.Paused != nil {
		w.Paused = *say.Paused
	}
	calls := w.Calls
	if say.Captures != nil {
		say.Captures = distinct(say.Captures)
		calls = len(say.Captures)
	}
	if n := calls * max(1, len(w.Callers)); n > maxWatchCalls {
		return base.NewProblem(base.Invalid, "make two of it", "a watch makes %d calls at the most, and these are %d",
			maxWatchCalls, n)
	}
	return nil
}

// distinct returns numbers without those that stand there before.
func distinct(all []int64) (once []int64) {
	for _, n := range all {
		if !slices.Contains(once, n) {
			once = append(once, n)
		}
	}
	return once
}

func planOf(w *store.Watch) timetable.Plan {
	return timetable.Plan{Every: w.Every, Begins: w.Begins, Ends: w.Ends}
}

// watched returns a call of a capture as a watch keeps it: without its answer.
func (s *Evidence) watched(ctx context.Context, service string, id int64) (store.Capture, error) {
	c, err := s.store.Capture(ctx, id)
	switch {
	case err != nil:
		return c, base.Found(err, "capture %d", id)
	case c.Service != service:
		return c, base.NewProblem(base.Invalid, "", "capture %d is of %s", id, c.Service)
	case !safe(c.Method):
		return c, base.NewProblem(base.Invalid, "a watch makes GET, HEAD and OPTIONS calls",
			"%s of capture %d may change something at the server", c.Method, id)
	}
	e, err := s.vault.OpenExchange(c.Sealed)
	if err != nil {
		return c, err
	}
	if e.Changed {
		return c, base.NewProblem(base.Conflict, "record the call again",
			"the values in the address of capture %d are not kept, so the call cannot be made again", id)
	}
	e.ResponseBody, e.ResponseHeader, e.RequestBody, e.Theirs = nil, nil, nil, nil
	c.Sealed, err = s.vault.SealExchange(e)
	return c, err
}

// RemoveWatch removes a watch. What its runs showed stays.
func (s *Evidence) RemoveWatch(ctx context.Context, who base.Caller, id int64) error {
	w, err := s.store.Watch(ctx, id)
	if err != nil {
		return base.Found(err, "watch %d", id)
	}
	if !who.MayIn(w.Service, base.Reviewer) {
		return who.NotIn(w.Service, base.Reviewer)
	}
	return base.Found(s.store.RemoveWatch(ctx, id, s.base.Did(who, "remove watch", fmt.Sprintf("watch %d", id),
		w.Service+": "+w.Name)), "watch %d", id)
}

// RunWatch runs a watch at once.
func (s *Evidence) RunWatch(ctx context.Context, who base.Caller, id int64) (WatchView, error) {
	w, err := s.store.Watch(ctx, id)
	if err != nil {
		return WatchView{}, base.Found(err, "watch %d", id)
	}
	if !who.MayIn(w.Service, base.Reviewer) {
		return WatchView{}, who.NotIn(w.Service, base.Reviewer)
	}
	if err := s.runWatch(ctx, w); err != nil {
		return WatchView{}, err
	}
	return s.WatchOf(ctx, id)
}

// RunWatches runs the watches whose time has come.
func (s *Evidence) RunWatches(ctx context.Context) error {
	due, err := s.store.DueWatches(ctx, s.base.Now())
	if err != nil {
		return err
	}
	for _, w := range due {
		if now, plan := s.base.Now(), planOf(&w); !plan.Within(now) { // the service was down in its hours
			if err := s.store.PutOffWatch(ctx, w.ID, plan.Soon(now)); err != nil {
				return err
			}
			continue
		}
		if err := s.runWatch(ctx, w); err != nil && ctx.Err() == nil {
			s.base.Log.Error("a watch could not run", "watch", w.ID, "error", err.Error())
		}
	}
	return ctx.Err()
}

// runWatch runs a watch and notes what came of it. Two runs of a watch are never at once.
func (s *Evidence) runWatch(ctx context.Context, w store.Watch) error {
	if !s.claim(w.ID) {
		return base.NewProblem(base.Conflict, "wait until it is over", "the watch %s is running", w.Name)
	}
	defer s.release(w.ID)
	run := store.WatchRun{Began: s.base.Now()}
	b, failed, err := s.makeWatched(ctx, w)
	if err != nil && ctx.Err() != nil {
		return err
	}
	var p *base.Problem
	switch {
	case errors.As(err, &p):
		failed = p.Detail
	case err != nil:
		failed = "it could not be run: " + err.Error()
	}
	run.BatchID, run.Calls, run.Findings, run.Failed = b.ID, b.Captures, b.Findings, failed
	next := planOf(&w).Next(run.Began, rand.Float64())
	if err := s.store.RanWatch(context.WithoutCancel(ctx), w, run, next); err != nil {
		return base.Found(err, "watch %d", w.ID)
	}
	if failed != "" {
		s.base.Log.Warn("a watch failed", "watch", w.ID, "service", w.Service, "why", failed)
	} else {
		s.base.Log.Info("a watch ran", "watch", w.ID, "service", w.Service, "batch", b.ID, "findings", b.Findings)
	}
	return nil
}

func (s *Evidence) claim(watch int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.watching[watch] {
		return false
	}
	if s.watching == nil {
		s.watching = map[int64]bool{}
	}
	s.watching[watch] = true
	return true
}

func (s *Evidence) release(watch int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.watching, watch)
}

// makeWatched makes the calls of a watch. failed says why what came back does not count.
func (s *Evidence) makeWatched(ctx context.Context, w store.Watch) (b store.Batch, failed string, err error) {
	owner, runs, err := s.asOwner(ctx, w)
	if err != nil {
		return b, "", err
	}
	if !runs {
		return b, "", base.NewProblem(base.Forbidden, "",
			"%s, whose it is, may not make calls at %s any more; somebody else "+
				"who changes it becomes its owner", base.ShownName(owner), w.Service)
	}
	calls, err := s.store.WatchCalls(ctx, w.ID)
	if err != nil {
		return b, "", err
	}
	r, err := s.recaller(ctx, w.Service)
	if err != nil {
		return b, "", err
	}
	var all []sending
	for _, as := range append([]store.WatchCaller{}, orRecorded(w.Callers)...) {
		for i := range calls {
			c := calls[i]
			one, err := r.prepareAt(&c, Again{Audience: as.Audience, Person: as.Person}, w.Server)
			if err != nil {
				return b, "", err
			}
			all = append(all, sending{one, c.ID, as.Person})
		}
	}
	out := &outgoing{all: all, pause: time.Minute / time.Duration(w.PerMinute), whole: func(answers []sending) {
		failed = r.refusals(answers)
	}}
	who := base.Caller{Person: store.Person{Name: "the watch " + w.Name}}
	b, err = s.send(ctx, who, store.Batch{Service: w.Service, Name: "watch: " + w.Name, Origin: store.FromWatch}, r,
		out)
	return b, failed, err
}

// asOwner returns whose a watch is, and whether they still may make calls.
func (s *Evidence) asOwner(ctx context.Context, w store.Watch) (owner store.Person, runs bool, err error) {
	owner, err = s.base.Person(ctx, w.PersonID)
	if err != nil {
		return owner, false, err
	}
	by := base.Caller{Person: owner}
	return owner, owner.Active && by.MayIn(w.Service, base.Reviewer), nil
}

// orRecorded returns the callers, or one who stands for who made each call.
func orRecorded(all []store.WatchCaller) []store.WatchCaller {
	if len(all) == 0 {
		return []store.WatchCaller{{}}
	}
	return all
}

// refusals says what of a run does not count, empty if all does: nothing answered, or a caller's credentials
// were refused to every call. Such answers prove nothing, and say so.
func (r *recaller) refusals(answers []sending) string {
	type tally struct{ calls, refused int }
	by, unanswered, why := map[CallAs]*tally{}, 0, ""
	of := func(a *sending) CallAs { return CallAs{a.call.Audience, a.person} }
	for i := range answers {
		a := &answers[i]
		if a.call.Response.Missing != "" && a.call.Response.Status == 0 {
			unanswered++
			why = firstOf(why, a.call.Response.Missing)
			continue
		}
		if by[of(a)] == nil {
			by[of(a)] = &tally{}
		}
		by[of(a)].calls++
		if a.call.Response.Status == 401 && len(r.credentials[of(a)]) > 0 {
			by[of(a)].refused++
		}
	}
	if unanswered > 0 && unanswered == len(answers) {
		return "the server gave no answer: " + why
	}
	var refused []string
	for i := range answers {
		a := &answers[i]
		t := by[of(a)]
		if t == nil || t.refused == 0 || t.refused < t.calls {
			continue
		}
		a.call.Incomplete = "the credentials were refused to every call, so that it tells nothing"
		if name := of(a).String(); !slices.Contains(refused, name) {
			refused = append(refused, name)
		}
	}
	if len(refused) > 0 {
		return "the credentials of " + strings.Join(refused, ", ") + " were refused (401)"
	}
	return ""
}

// prepareAt is prepare for a call that goes to another of the allowed servers than the recorded one, if server says so.
func (r *recaller) prepareAt(c *store.Capture, again Again, server string) (*exchange.Capture, error) {
	if server == "" {
		return r.prepare(c, again)
	}
	i := slices.IndexFunc(r.servers, func(s outbound.Server) bool {
		return strings.TrimRight(s.Base.String(),
			"/") == server
	})
	if i < 0 {
		return nil, base.NewProblem(base.Forbidden, "an administrator allows it: inkret service allow "+server,
			"calls to %s are not allowed", server)
	}
	r.elsewhere = r.servers[i].Base
	defer func() { r.elsewhere = nil }()
	return r.prepare(c, again)
}

// moved returns where a recorded address is at another server: below its base instead of that of its own.
func (r *recaller) moved(u *url.URL) *url.URL {
	segments, ok := r.contracts.Serves(u)
	if !ok {
		return u
	}
	to := *u
	to.Scheme, to.Host = r.elsewhere.Scheme, r.elsewhere.Host
	path := strings.TrimRight(r.elsewhere.EscapedPath(), "/") + "/" + strings.Join(segments, "/")
	to.Path, to.RawPath = path, ""
	if plain, err := url.PathUnescape(path); err == nil {
		to.Path, to.RawPath = plain, path
	}
	return &to
}

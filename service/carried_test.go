package service

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/review"
	"inkret/store"
)

// TestRenamedParametersTakeFindingsAlong checks that an endpoint stays the same when its parameters are renamed, so
// that its findings keep what was said and decided.
func TestRenamedParametersTakeFindingsAlong(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(leaky, `{"id":7,"email":"ada@sails.example"}`))
	hash, before := w.theHash(), w.findings()
	oda := w.person("Oda", base.Reviewer)
	if _, err := w.Findings.Comment(t.Context(), oda, hash.ID, "the vault knows"); err != nil {
		t.Fatal(err)
	}
	w.waive(w.who, hash.ID, "2026-06-01")
	if _, err := w.Findings.Move(t.Context(), w.person("Teodor", base.Lead), hash.ID,
		finding.Move{To: finding.Waived}); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"/skippers/{skipper}", "/skippers/{id}"} { // there, and back again
		if r := w.apply(quay(t, "/skippers/{id}", text), 0); r.State != store.InForce || r.Direction != "neutral" {
			t.Fatalf("it is %s, %s: %v", r.State, r.Direction, r.Words)
		}
		is := w.theHash()
		if is.Endpoint != "GET "+text || is.State != "waived" || is.Until != "2026-06-01" || is.Approver != "Teodor" ||
			is.Spots != 1 || is.Captures != 1 || len(is.Evidence) != 1 {
			t.Errorf("it is %+v", is.Finding)
		}
		var said []string
		for _, e := range is.History {
			said = append(said, e.Kind)
		}
		if got := strings.Join(said, " "); !strings.HasPrefix(got, "found comment waiver move renamed") {
			t.Errorf("its history is %s", got)
		}
		if old, err := w.Findings.Finding(t.Context(), w.who, hash.ID); err != nil || old.ID != is.ID ||
			len(old.History) != len(is.History) {
			t.Errorf("by the id that it had: %v, %v", old.ID, err)
		}
		if all := w.findings(); len(all) != len(before) {
			t.Errorf("there are %d findings, there were %d", len(all), len(before))
		}
		w.agrees()
	}
	w.apply(quay(t, "/skippers/{id}", "/skippers/{number}"), 0)
	if w.upload("again.har", recording(leaky)); len(w.findings()) != len(before) {
		t.Errorf("the same leak is another finding: %+v", w.findings())
	}
	if is := w.theHash(); is.Spots != 2 || is.State != "waived" {
		t.Errorf("seen again: %d spots, %s", is.Spots, is.State)
	}
	w.agrees()
}

// TestAFieldKeepsItsGravestClass checks that removing a field and adding it again, alone, with its entity or under
// another name, does not let one person lower its class.
func TestAFieldKeepsItsGravestClass(t *testing.T) {
	const field, hash = "email: {type: string, class: personal}, ", ", password_hash: {type: string, class: secret}"
	granted := []string{"name: }", "name: , email: {optional: true}}"}
	for name, steps := range map[string][][]string{
		"gone, and back": {{field, ""}, append([]string{"class: personal", "class: public"}, granted...)},
		"under another name": {{"email: {type: string, class: personal}", "address: {type: string, class: public}",
			"name: }", "name: , address: {optional: true}}"}},
		"gone, then longer": {{field, ""}, {"email: {type: string, class: personal}",
			"email_line: {type: string, class: public}", "name: }", "name: , email_line: {optional: true}}"}},
		"with its entity": {{"  Skipper:", "  Person:", "entity: Skipper", "entity: Person", "class: personal",
			"class: public", "name: }", "name: , email: {optional: true}}"}},
		"capitals": {{field, ""}, {"email: {type: string, class: personal}",
			"E_Mail: {type: string, class: public}", "name: }", "name: , E_Mail: {optional: true}}"}},
		"a secret, and unclassed": {{hash, ""}, {"password_hash: {type: string, class: secret}",
			"password_hash: {type: string}"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			lead := w.second(base.Lead)
			for i, step := range steps {
				r := w.apply(quay(t, step...), 0)
				if i < len(steps)-1 {
					if r.State == store.Waiting {
						if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number,
							review.Decision{Grant: true}); err != nil {
							t.Fatal(err)
						}
					}
					w.apply(quay(t, append(step, "team: accounts", "team: desk")...), 0) // something else comes between
					continue
				}
				if r.State != store.Waiting || r.Reaches != "personal" && r.Reaches != "secret" {
					t.Errorf("it is %s, %s to %s: %v", r.State, r.Direction, r.Reaches, r.Words)
				}
				if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number,
					review.Decision{Grant: true}); err != nil {
					t.Fatal(err)
				}
				if r := w.apply(quay(t, append(step, "team: accounts", "team: desk")...), 0); r.State != store.InForce {
					t.Errorf("once it is approved, the next revision is %s: %v", r.State, r.Words)
				}
			}
		})
	}
}

// TestWhatLetsNothingMoreOutIsInForceAtOnce changes the text in ways that let nothing more out.
func TestWhatLetsNothingMoreOutIsInForceAtOnce(t *testing.T) {
	top := []string{"endpoints:\n",
		"responses: [{statuses: [4XX], grants: {title: {type: string}, email: {type: string, class: personal, " +
			"reason: r}}}]\nexceptions: [{endpoint: 'GET /skippers/{id}', path: '$..*', kind: sensitive-field, " +
			"reason: r}]\nendpoints:\n"}
	w := newWorld(t)
	lead := w.second(base.Lead)
	if r := w.apply(quay(t, top...), 0); r.State == store.Waiting {
		if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Grant: true}); err != nil {
			t.Fatal(err)
		}
	}
	written := "responses: [{statuses: [4XX], grants: {title: {type: string}, email: {type: string, class: " +
		"personal, reason: r}}}, {"
	for name, files := range map[string][]base.ContractFile{
		"a status of many": quay(t, append(top, "{entity: Skipper, grants",
			"{statuses: [200], entity: Skipper, grants")...),
		"a shorter exception": quay(t, append(top[:1:1], strings.Replace(top[1], "reason: r}]\nend",
			"reason: r, until: 2026-12-31}]\nend", 1))...),
		"a narrower exception":    quay(t, append(top[:1:1], strings.Replace(top[1], "'$..*'", "$.email", 1))...),
		"a top response, written": quay(t, append(top, "    responses: [{", "    "+written)...),
		"an exception less":       quay(t, append(top[:1:1], strings.Split(top[1], "exceptions")[0]+"endpoints:\n")...),
	} {
		if r := w.apply(files, 0); r.State != store.InForce {
			t.Errorf("%s waits: %s to %s, %v", name, r.Direction, r.Reaches, r.Words)
		}
		if r := w.apply(quay(t, top...), 0); r.State == store.Waiting {
			if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number,
				review.Decision{Grant: true}); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// TestTheOrderOfTrustIsNoWayAround swaps the order, grants a field and swaps back: the first step waits already.
func TestTheOrderOfTrustIsNoWayAround(t *testing.T) {
	w := newWorld(t)
	lead := w.second(base.Lead)
	approved := func(files []base.ContractFile) {
		t.Helper()
		r := w.apply(files, 0)
		if r.State != store.Waiting {
			t.Fatalf("it is %s: %v", r.State, r.Words)
		}
		if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Grant: true}); err != nil {
			t.Fatal(err)
		}
	}
	office := []string{"name: }", "name: , email: {optional: true, audiences: [office]}}"}
	approved(quay(t, office...))
	swapped := []string{`[{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]`, `[{name: office, recognise: {header: {name: X-Desk, value: "*"}}}, {name: visitor, recognise: {credentials: none}}]`}
	if r := w.apply(quay(t, append(office, swapped...)...), 0); r.State != store.Waiting || r.Reaches != "personal" {
		t.Errorf("the order is swapped: %s, %s to %s: %v", r.State, r.Direction, r.Reaches, r.Words)
	}
	// by the order that is, somebody trusted more may have what somebody trusted less has
	approved(quay(t, "name: }", "name: , email: {optional: true, audiences: [visitor]}}"))
	if r := w.apply(quay(t, "name: }", "name: , email: {optional: true}}"), 0); r.State != store.InForce {
		t.Errorf("the office gets what visitors get: %s, %v", r.State, r.Words)
	}
}

// TestWhatAContractPermitsCountsOnce permits something and takes that back: its numbers stay as they were.
func TestWhatAContractPermitsCountsOnce(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(`{"id":7,"name":"Ada","shoe":"38"}`, `{"id":7,"name":"Ada","shoe":"38"}`))
	shoe := func() findings.FindingView {
		t.Helper()
		all := w.findings()
		v, err := w.Findings.Finding(t.Context(), w.who, all[len(all)-1].ID)
		if err != nil || v.Path != "$.shoe" {
			t.Fatalf("it is %+v, %v", v.Finding, err)
		}
		return v
	}
	before := shoe()
	for range 3 {
		w.apply(quay(t, "name: }", "name: , shoe: {type: string}}"), 0)
		w.agrees()
		w.apply(quay(t), 0)
		w.agrees()
	}
	if is := shoe(); is.Spots != before.Spots || is.Captures != before.Captures || is.Bytes != before.Bytes ||
		is.State != "returned" {
		t.Errorf("it is %+v, it was %+v", is.Finding, before.Finding)
	}
}

// TestAnExceptionThatIsGoneExceptsNoMore: by a revision, or by its last day.
func TestAnExceptionThatIsGoneExceptsNoMore(t *testing.T) {
	w := newWorld(t)
	w.alone()
	w.upload("a.har", recording(`{"id":7,"name":"Ada","shoe":"38"}`))
	excepted := func() string { return w.findings()[0].Excepted }
	with := func(until string) []base.ContractFile {
		return quay(t, "endpoints:\n",
			"exceptions: [{endpoint: 'GET /skippers/{id}', path: $.shoe, kind: unexpected-field, reason: it is worn in"+
				until+"}]\nendpoints:\n")
	}
	w.apply(with(""), 0)
	if excepted() != "it is worn in" {
		t.Errorf("with an exception it says %q", excepted())
	}
	w.apply(quay(t), 0)
	if excepted() != "" {
		t.Errorf("without it, it says %q", excepted())
	}
	w.apply(with(", until: 2026-05-03"), 0)
	w.clock.now = w.clock.now.AddDate(0, 0, 3)
	if err := w.Findings.EndWaivers(t.Context()); err != nil || excepted() != "" {
		t.Errorf("after its last day it says %q, %v", excepted(), err)
	}
	v, err := w.Findings.Finding(t.Context(), w.who, w.findings()[0].ID)
	var said []string
	for _, e := range v.History {
		said = append(said, e.Kind+" "+e.Became)
	}
	if want := "found new; excepted it is worn in; excepted ; excepted it is worn in; excepted "; err != nil ||
		strings.Join(said, "; ") != want {
		t.Errorf("its history is %q, want %q, %v", said, want, err)
	}
}

// TestWhatTurnsGraverIsDueEarlier, and says so.
func TestWhatTurnsGraverIsDueEarlier(t *testing.T) {
	w := newWorld(t)
	if err := w.Findings.SetDue(t.Context(), w.who, map[severity.Severity]int{severity.Critical: 2, severity.High: 5,
		severity.Medium: 30,
		severity.Low:    90}); err != nil {
		t.Fatal(err)
	}
	w.upload("a.har", recording(`{"id":7,"name":"Ada","crew":{"x":1}}`))
	was := w.findings()[0]
	w.clock.now = w.clock.now.Add(time.Hour)
	w.upload("b.har", recording(`{"id":7,"name":"Ada","crew":{"password_hash":"`+secretHash+`"}}`))
	var is base.Finding
	for _, f := range w.findings() {
		if f.ID == was.ID {
			is = f
		}
	}
	if was.Severity != int(severity.Medium) || is.Severity != int(severity.High) || was.Due != "2026-05-31" ||
		is.Due != "2026-05-06" {
		t.Errorf("it was %d, due %s, and is %d, due %s", was.Severity, was.Due, is.Severity, is.Due)
	}
	v, err := w.Findings.Finding(t.Context(), w.who, is.ID)
	if last := v.History[len(v.History)-1]; err != nil || last.Kind != "severity" || last.Was != "medium" ||
		last.Became != "high" {
		t.Errorf("its history ends in %+v, %v", last, err)
	}
}

// agrees compares everything that counts findings with the list of them, and each finding with its history and what
// is recorded of it.
func (w *world) agrees() {
	w.t.Helper()
	if err := w.disagreement(); err != nil {
		w.t.Error(err)
	}
}

// disagreement describes the first number that two ways of counting do not agree on.
func (w *world) disagreement() error {
	ctx := w.t.Context()
	all, counts, err := w.Findings.Findings(ctx, base.FindingFilter{}, base.Page{Number: 1, Size: 10_000})
	if err != nil {
		return err
	}
	open := map[string]int{}
	byEndpoint := map[string]int{}
	for _, f := range all {
		if finding.State(f.State).Open() {
			open[severity.Severity(f.Severity).String()]++
			byEndpoint[f.EndpointID]++
		}
		evidence, err := w.store.Captures.Occurrences(ctx, f.ID, 1_000_000)
		if err != nil {
			return err
		}
		history, err := w.store.Findings.Events(ctx, f.ID)
		if err != nil {
			return err
		}
		spots, bytes := 0, 0
		for _, o := range evidence {
			spots += o.Spots
			bytes += o.Bytes
		}
		if spots != f.Spots || len(evidence) != f.Captures || int64(bytes) != f.Bytes {
			return fmt.Errorf("%s says %d spots, %d captures and %d bytes; its evidence is %d, %d and %d", f.Path,
				f.Spots, f.Captures, f.Bytes, spots, len(evidence), bytes)
		}
		var life finding.Life
		for _, e := range history {
			if err := life.Happen(e.Kind, e.Was, e.Became); err != nil {
				return fmt.Errorf("%s: %v in %+v", f.Path, err, history)
			}
		}
		if string(life.State) != f.State {
			return fmt.Errorf("%s is %s; by its history it is %s: %+v", f.Path, f.State, life.State, history)
		}
	}
	endpoints, _, err := w.Review.Endpoints(ctx, store.EndpointFilter{}, base.Page{Number: 1, Size: 1000})
	if err != nil {
		return err
	}
	for _, e := range endpoints {
		if e.Open != byEndpoint[e.ID] {
			return fmt.Errorf("%s says it has %d open findings, %d are listed", e.Text, e.Open, byEndpoint[e.ID])
		}
		delete(byEndpoint, e.ID)
	}
	for id, n := range byEndpoint {
		return fmt.Errorf("%d open findings are of an endpoint %s that is not listed", n, id)
	}
	listed := map[int]int{}
	for _, f := range all {
		listed[f.Severity]++
	}
	for severity, n := range counts {
		if listed[severity] != n {
			return fmt.Errorf("%d findings of severity %d are listed, %d are counted", listed[severity], severity, n)
		}
	}
	reported, err := w.Reports.Report(ctx, w.who, "quay", url.Values{"state": {"any"}}, severity.Medium)
	if err != nil {
		return err
	}
	if len(reported.Findings) != len(all) {
		return fmt.Errorf("%d findings are listed, %d reported", len(all), len(reported.Findings))
	}
	home, err := w.Findings.Home(ctx, w.who)
	if err != nil {
		return err
	}
	standing, err := w.Reports.Standing(ctx, store.StandingFilter{}, 30)
	if err != nil {
		return err
	}
	today := standing.Days[len(standing.Days)-1].Open
	groups, _, err := w.Findings.Groups(ctx, w.who, url.Values{}, "endpoint")
	if err != nil {
		return err
	}
	grouped := map[string]int{}
	for _, g := range groups {
		for severity, n := range g.Open {
			grouped[severity.String()] += n
		}
	}
	for _, level := range severity.All() {
		name := level.String()
		if today[level] != open[name] || grouped[name] != open[name] ||
			home.Severities[int(level)] != open[name] {
			return fmt.Errorf("%d %s findings are open; the standing says %d, the endpoints %d, Home %d", open[name],
				name, today[level], grouped[name], home.Severities[int(level)])
		}
	}
	return nil
}

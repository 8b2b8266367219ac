package service

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/store"
)

// at returns a capture line as it was recorded at a time.
func at(when time.Time, body string) string {
	return `{"started":"` + when.UTC().Format(time.RFC3339) +
		`","request":{"url":"https://q.example/skippers/7","headers":[{"name":"X-Desk","value":"2"}]},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":` + body + "}}\n"
}

// await moves the finding of the hash to awaiting-proof.
func (w *world) await() {
	w.t.Helper()
	if _, err := w.Findings.Move(w.t.Context(), w.who, w.theHash().ID,
		finding.Move{To: finding.AwaitingProof}); err != nil {
		w.t.Fatal(err)
	}
}

// isNow checks the state of the finding of the hash.
func (w *world) isNow(want finding.State, when string) {
	w.t.Helper()
	if v := w.theHash(); v.State != string(want) {
		w.t.Fatalf("%s it is %s, want %s; its history is %+v", when, v.State, want, v.History)
	}
}

// TestARepairIsProven closes a finding by a later capture that covers its place, by nothing else, and lets it return.
func TestARepairIsProven(t *testing.T) {
	w := newWorld(t)
	said0 := w.clock.now
	w.upload("monday.lines", at(said0, leaky))
	w.clock.now = said0.Add(time.Hour)
	w.upload("clean.lines", at(w.clock.now, clean))
	w.isNow(finding.New, "by a capture of what nobody said is repaired")
	w.clock.now = said0.Add(2 * time.Hour)
	w.await()
	if v := w.theHash(); v.Prove == "" {
		t.Error("what awaits proof does not say how it is proven")
	}
	w.clock.now = said0.Add(3 * time.Hour)
	now := w.clock.now.UTC().Format(time.RFC3339)
	for name, lines := range map[string]string{
		"as old as the leak": at(said0, clean),
		"of another status":  strings.Replace(at(w.clock.now, `{"title":"x"}`), `"status":200`, `"status":500`, 1),
		"by somebody else":   strings.Replace(at(w.clock.now, clean), "X-Desk", "X-Desc", 1),
		"of another call that is denied": strings.Replace(strings.Replace(at(w.clock.now, `{"title":"x"}`),
			`"status":200`,
			`"status":403`, 1), "skippers/7", "skippers/8", 1),
		"without a time":           strings.Replace(at(w.clock.now, clean), `"started"`, `"x-started"`, 1),
		"with a time that is none": strings.Replace(at(w.clock.now, clean), now, "just now", 1),
		"of long ago, as others write it": strings.Replace(at(w.clock.now, clean), now, "2020-01-01 10:00:00",
			1),
		"that is not whole": strings.Replace(at(w.clock.now, clean), `"request"`,
			`"incomplete":"it broke off","request"`, 1),
		"that is denied and not whole": strings.NewReplacer(`"request"`, `"incomplete":"it broke off","request"`,
			`"status":200`, `"status":403`).Replace(at(w.clock.now, clean)),
		"that is denied, without a time": strings.NewReplacer(`"started"`, `"x-started"`, `"status":200`,
			`"status":403`).Replace(at(w.clock.now, clean)),
		"one mended and one not": at(w.clock.now, clean) + at(w.clock.now, leaky),
		"one not and one mended": at(w.clock.now, leaky) + at(w.clock.now, clean),
	} {
		w.upload(name, lines)
		w.isNow(finding.AwaitingProof, "by a capture "+name)
	}
	w.clock.now = w.clock.now.Add(time.Hour)
	proving := w.upload("proof.lines", strings.Replace(at(w.clock.now, `{"id":9,"name":"Sol"}`),
		w.clock.now.UTC().Format(time.RFC3339), w.clock.now.UTC().Format("2006-01-02 15:04:05"), 1)+
		at(w.clock.now, `{"id":9,"name":"Ada"}`))
	v := w.theHash()
	last := v.History[len(v.History)-1]
	if v.State != "closed" || last.Became != "closed" || last.Was != "awaiting-proof" || last.BatchID != proving.ID ||
		last.CaptureID == 0 || v.Prove != "" {
		t.Fatalf("it is %s, and its history ends in %+v", v.State, last)
	}
	c, err := w.Evidence.Capture(t.Context(), last.CaptureID)
	if err != nil || c.BatchID != proving.ID || c.Entry != 0 {
		t.Errorf("it is proven by capture %d of batch %d, entry %d, %v", last.CaptureID, c.BatchID, c.Entry, err)
	}
	if len(v.Proofs) != 1 || v.Proofs[0].BatchID != proving.ID || v.Proofs[0].Captures != 2 ||
		v.Proofs[0].CaptureID != c.ID || v.Proofs[0].By != finding.Seen || v.Proofs[0].Leaked == 0 ||
		v.Proofs[0].Leaked == c.ID {
		t.Errorf("its proof is %+v", v.Proofs)
	}
	// Without its proof it waits again; proven again and seen again it returns.
	if err := w.Evidence.Withdraw(t.Context(), w.who, proving.ID, "the wrong release"); err != nil {
		t.Fatal(err)
	}
	w.isNow(finding.AwaitingProof, "after its proof is withdrawn")
	b := w.begin()
	w.extend(b, 1, at(w.clock.now, clean))
	w.isNow(finding.AwaitingProof, "while a recorder goes on")
	if v := w.theHash(); len(v.Proofs) != 1 || v.Proofs[0].Captures != 1 || !v.Proofs[0].Growing {
		t.Errorf("while a recorder goes on, %+v is told of it", v.Proofs)
	}
	w.end(b)
	w.isNow(finding.Closed, "when a recording ends")
	w.clock.now = w.clock.now.Add(time.Minute)
	b = w.begin()
	w.extend(b, 1, at(w.clock.now, leaky))
	w.isNow(finding.Returned, "seen again")
}

// begin begins a recording, and end ends one.
func (w *world) begin() int64 {
	w.t.Helper()
	b, err := w.Evidence.OpenLive(w.t.Context(), w.who, "quay", "live", "")
	if err != nil {
		w.t.Fatal(err)
	}
	return b.ID
}

func (w *world) end(batch int64) {
	w.t.Helper()
	if _, err := w.Evidence.CloseLive(w.t.Context(), w.who, batch, 0); err != nil {
		w.t.Fatal(err)
	}
}

// TestARecordingProvesAsAWhole checks that the order of calls in a recording, and that of its chunks, does not matter.
func TestARecordingProvesAsAWhole(t *testing.T) {
	for name, bodies := range map[string][]string{"leaks first": {leaky, clean}, "leaks last": {clean, leaky},
		"leaks in between": {clean, leaky, clean}} {
		w := newWorld(t)
		w.upload("monday.lines", at(w.clock.now, leaky))
		w.await()
		b := w.begin()
		for i, body := range bodies {
			w.clock.now = w.clock.now.Add(time.Minute)
			w.extend(b, i+1, at(w.clock.now, body))
			w.isNow(finding.AwaitingProof, name+", while it grows,")
		}
		w.end(b)
		w.isNow(finding.AwaitingProof, name+", at its end,")
		for _, e := range w.theHash().History {
			if e.Became == "closed" || e.Became == "returned" {
				t.Errorf("%s: its history has %+v", name, e)
			}
		}
	}
}

// TestARecordingThatIsQuiet checks that a recorder that says nothing for ten minutes proves what it saw.
func TestARecordingThatIsQuiet(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.lines", at(w.clock.now, leaky))
	w.await()
	b := w.begin()
	later := func(d time.Duration) {
		t.Helper()
		w.clock.now = w.clock.now.Add(d)
		if err := w.Evidence.Quiet(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	later(time.Minute)
	w.extend(b, 1, at(w.clock.now, clean))
	later(9 * time.Minute)
	w.isNow(finding.AwaitingProof, "after nine minutes")
	later(2 * time.Minute)
	w.isNow(finding.Closed, "after eleven minutes")
	w.extend(b, 2, at(w.clock.now.Add(-20*time.Minute), leaky)) // it is heard late of what was before
	w.isNow(finding.Closed, "when a capture older than the proof comes late")
	if last := w.theHash().History; last[len(last)-1].Kind != "earlier" {
		t.Errorf("its history does not tell of it: %+v", last)
	}
	w.extend(b, 3, at(w.clock.now, leaky))
	w.isNow(finding.Returned, "when it is seen again")
	w.await()
	w.clock.now = w.clock.now.Add(time.Minute)
	w.extend(b, 4, at(w.clock.now, clean))
	later(time.Hour)
	w.isNow(finding.AwaitingProof, "by a recording that shows it, too,")
	w.end(b)
	w.isNow(finding.AwaitingProof, "at the end of a recording that shows it, too,")
}

// TestWhatMovesWhileARecordingGrows checks that all of a recording counts, also what came before it was said that the
// finding is fixed.
func TestWhatMovesWhileARecordingGrows(t *testing.T) {
	for name, first := range map[string]string{"clean": clean, "leaky": leaky} {
		w := newWorld(t)
		w.upload("monday.lines", at(w.clock.now, leaky))
		w.clock.now = w.clock.now.Add(time.Minute)
		b := w.begin()
		w.extend(b, 1, at(w.clock.now, first))
		w.clock.now = w.clock.now.Add(time.Minute)
		w.await()
		w.clock.now = w.clock.now.Add(time.Minute)
		w.extend(b, 2, at(w.clock.now, clean))
		w.end(b)
		if first == leaky {
			w.isNow(finding.AwaitingProof, name)
			continue
		}
		w.isNow(finding.Closed, name)
		if v := w.theHash(); v.Proofs[0].Captures != 2 {
			t.Errorf("it is proven by %+v", v.Proofs)
		}
	}
}

// TestADeniedCallProves checks that the usual repair of a leak to the wrong audience, a refusal, is a proof, and only
// for the same call.
func TestADeniedCallProves(t *testing.T) {
	w := newWorld(t)
	denied := func(status, replace, by string) string {
		w.clock.now = w.clock.now.Add(time.Minute)
		return strings.NewReplacer(`"status":200`, `"status":`+status, replace, by).Replace(at(w.clock.now,
			`{"title":"no"}`))
	}
	w.upload("monday.lines", at(w.clock.now, leaky))
	w.await()
	for name, lines := range map[string]string{
		"of another status":  denied("409", "x", "x"),
		"for another":        denied("403", "skippers/7", "skippers/8"),
		"with another query": denied("403", "skippers/7", "skippers/7?a=1"),
		"by another method":  denied("403", `"request":{`, `"request":{"method":"HEAD",`),
		"by somebody else":   denied("403", "X-Desk", "X-Desc"),
	} {
		w.upload(name, lines)
		w.isNow(finding.AwaitingProof, "by a call "+name)
	}
	for _, status := range []string{"401", "403", "404", "410"} {
		b := w.begin()
		w.extend(b, 1, denied(status, "x", "x"))
		w.isNow(finding.AwaitingProof, "before the recording ends")
		w.end(b)
		w.isNow(finding.Closed, "after a call that is denied with "+status)
		if v := w.theHash(); v.Proofs[0].By != finding.Denied || v.Proofs[0].Captures != 1 {
			t.Errorf("the proof is %+v", v.Proofs)
		}
		w.clock.now = w.clock.now.Add(time.Minute)
		w.upload("again"+status, at(w.clock.now, leaky))
		w.isNow(finding.Returned, "when it leaks again")
		w.await()
	}
}

// extend adds a chunk to a growing batch.
func (w *world) extend(batch int64, chunk int, lines string) {
	w.t.Helper()
	if _, err := w.Evidence.ExtendLive(w.t.Context(), w.who, batch, chunk, 0, strings.NewReader(lines)); err != nil {
		w.t.Fatal(err)
	}
}

// TestProofsOfEarlierRules checks that what was closed on grounds that no longer count is listed, stays closed, and is
// decided by people; and that what was closed on good grounds keeps its proof.
func TestProofsOfEarlierRules(t *testing.T) {
	for name, one := range map[string]struct {
		recording func(now time.Time) string
		withdrawn bool
		doubt     string
	}{
		"good":      {func(now time.Time) string { return at(now, clean) }, false, ""},
		"shown":     {func(now time.Time) string { return at(now, clean) + at(now, leaky) }, false, "shows it"},
		"older":     {func(now time.Time) string { return at(now.AddDate(0, 0, -9), clean) }, false, "before the last"},
		"elsewhere": {func(now time.Time) string { return at(now, "null") }, false, "covers its place"},
		"withdrawn": {func(now time.Time) string { return at(now, clean) }, true, "no longer kept"},
	} {
		w := newWorld(t)
		w.alone()
		w.upload("monday.lines", at(w.clock.now, leaky))
		w.await()
		w.clock.now = w.clock.now.Add(time.Hour)
		b := w.upload("proof.lines", one.recording(w.clock.now))
		if one.withdrawn {
			if err := w.Evidence.Withdraw(t.Context(), w.who, b.ID, "gone"); err != nil {
				t.Fatal(err)
			}
		}
		// as the service of before left it
		w.sql(`DELETE FROM covers`)
		w.sql(`UPDATE captures SET call = 0`)
		w.sql(`UPDATE findings SET state = 'closed', doubt = ?, proof = ?, proven = ? WHERE path = '$.password_hash'`,
			store.Unlooked, b.ID, w.clock.now.UnixMilli())
		if err := w.Evidence.LookAgain(t.Context()); err != nil {
			t.Fatal(err)
		}
		w.isNow(finding.Closed, name)
		v := w.theHash()
		if one.doubt == "" {
			if v.Doubt != "" || len(v.Proofs) != 1 || v.Proofs[0].Captures != 1 {
				t.Errorf("%s: in doubt because %q, with proofs %+v", name, v.Doubt, v.Proofs)
			}
			continue
		}
		if !strings.Contains(v.Doubt, one.doubt) {
			t.Errorf("%s: in doubt because %q, want %q", name, v.Doubt, one.doubt)
		}
		home, err := w.Findings.Home(t.Context(), w.who)
		if err != nil || home.Doubted != 1 {
			t.Errorf("%s: %d at home, %v", name, home.Doubted, err)
		}
		if _, err := w.Findings.Move(t.Context(), w.who, v.ID, finding.Move{To: finding.Closed}); err == nil {
			t.Errorf("%s: it stays closed without a reason", name)
		}
		if name == "shown" {
			by := finding.Move{To: finding.Closed, Comment: "looked at by hand"}
			if _, err := w.Findings.Move(t.Context(), w.who, v.ID, by); err == nil {
				t.Error("a reviewer alone keeps it closed")
			}
			if v, err = w.Findings.Move(t.Context(), w.person("Teodor", base.Lead), v.ID, by); err != nil ||
				v.Doubt != "" || v.State != "closed" ||
				v.History[len(v.History)-1].Kind != "kept" {
				t.Errorf("kept closed it is %+v, %v", v, err)
			}
			continue
		}
		w.await()
		w.isNow(finding.AwaitingProof, name)
		w.clock.now = w.clock.now.Add(time.Hour)
		w.upload("again.lines", at(w.clock.now, clean))
		w.isNow(finding.Closed, name)
		if v := w.theHash(); v.Doubt != "" {
			t.Errorf("%s: proven, it is still in doubt: %s", name, v.Doubt)
		}
	}
}

// sql changes the database behind the service's back.
func (w *world) sql(statement string, args ...any) {
	w.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(w.dir, "inkret.db"))
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statement, args...); err != nil {
		w.t.Fatal(err)
	}
}

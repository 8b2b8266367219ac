package service

import (
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
)

// at returns a capture line as it was recorded at a time.
func at(when time.Time, body string) string {
	return `{"started":"` + when.UTC().Format(time.RFC3339) +
		`","request":{"url":"https://q.example/skippers/7","headers":[{"name":"X-Desk","value":"2"}]},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":` + body + "}}\n"
}

// TestARepairIsProven closes a finding by a later capture that covers its place, by
// nothing else, and lets it return.
func TestARepairIsProven(t *testing.T) {
	w := newWorld(t)
	said0 := w.clock.now
	w.upload("monday.lines", at(said0, leaky))
	state := func() string { t.Helper(); return w.theHash().State }
	await := func() {
		t.Helper()
		if _, err := w.Findings.Move(t.Context(), w.who, w.theHash().ID,
			finding.Move{To: finding.AwaitingProof}); err != nil {
			t.Fatal(err)
		}
	}
	w.upload("clean.lines", at(said0.Add(time.Hour), clean))
	if state() != "new" {
		t.Errorf("a capture closes what nobody said is repaired: %s", state())
	}
	w.clock.now = said0.Add(2 * time.Hour)
	await()
	if v := w.theHash(); v.Prove == "" {
		t.Error("what awaits proof does not say how it is proven")
	}
	w.clock.now = said0.Add(3 * time.Hour)
	for name, lines := range map[string]string{
		"recorded before it was repaired": at(said0.Add(90*time.Minute), clean),
		"of another status":               `{"request":{"url":"https://q.example/skippers/8","headers":[{"name":"X-Desk","value":"2"}]},"response":{"status":404,"headers":[{"name":"Content-Type","value":"application/json"}],"body":{"title":"x"}}}` + "\n",
		"by somebody else":                `{"request":{"url":"https://q.example/skippers/7"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":{"id":7,"name":"Ada"}}}` + "\n",
		"without a time":                  strings.Replace(at(w.clock.now, clean), `"started"`, `"x-started"`, 1),
		"with a time that is none": strings.Replace(at(w.clock.now, clean),
			w.clock.now.UTC().Format(time.RFC3339), "just now", 1),
		"of long ago, as others write it": strings.Replace(at(w.clock.now, clean),
			w.clock.now.UTC().Format(time.RFC3339), "2020-01-01 10:00:00", 1),
		"that is not whole": strings.Replace(at(w.clock.now, clean), `"request"`,
			`"incomplete":"it broke off","request"`, 1),
		"one mended and one not": at(w.clock.now, clean) + at(w.clock.now, leaky),
	} {
		if w.upload(name, lines); state() != "awaiting-proof" {
			t.Fatalf("a capture %s leaves it %s", name, state())
		}
	}
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
	// Without its proof it waits again; proven again and seen again it returns.
	if err := w.Evidence.Withdraw(t.Context(), w.who, proving.ID, "the wrong release"); err != nil ||
		state() != "awaiting-proof" {
		t.Fatalf("after its proof is withdrawn it is %s, %v", state(), err)
	}
	live, err := w.Evidence.OpenLive(t.Context(), w.who, "quay", "live", "")
	if err != nil {
		t.Fatal(err)
	}
	w.extend(live.ID, 1, at(w.clock.now, clean))
	if v := w.theHash(); v.State != "closed" || v.History[len(v.History)-1].At.Before(w.clock.now) {
		t.Errorf("a recorder's capture leaves it %s, %+v", v.State, v.History[len(v.History)-1])
	}
	w.extend(live.ID, 2, at(w.clock.now.Add(time.Minute), leaky))
	if state() != "returned" {
		t.Errorf("seen again it is %s", state())
	}
}

// extend adds a chunk to a growing batch.
func (w *world) extend(batch int64, chunk int, lines string) {
	w.t.Helper()
	if _, err := w.Evidence.ExtendLive(w.t.Context(), w.who, batch, chunk, 0, strings.NewReader(lines)); err != nil {
		w.t.Fatal(err)
	}
}

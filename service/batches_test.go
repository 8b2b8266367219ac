package service

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/sealing"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
	"inkret/service/vault"
	"inkret/store"
)

func (w *world) findings() []base.Finding {
	w.t.Helper()
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{}, base.Page{Number: 1, Size: 100})
	if err != nil {
		w.t.Fatal(err)
	}
	return all
}

// said checks that an error is a problem of a code whose text has words.
func said(t *testing.T, err error, code base.Code, words string) {
	t.Helper()
	var p *base.Problem
	if !errors.As(err, &p) || p.Code != code || !strings.Contains(p.Detail+" "+p.Next, words) {
		t.Errorf("error %v; want code %d with %q", err, code, words)
	}
}

func TestABatchIsWithdrawnWithWhatItAloneShows(t *testing.T) {
	w := newWorld(t)
	w.alone()
	one := w.upload("monday.har", recording(leaky, clean))
	hash := w.theHash()
	two := w.upload("tuesday.har", recording(leaky, leaky, `{"id":7,"name":"Ada","email":"ada@quay.example"}`))
	if n := len(w.findings()); n != 2 {
		t.Fatalf("%d findings", n)
	}
	preview, err := w.Evidence.Withdrawal(t.Context(), two.ID)
	if err != nil || len(preview.Gone) != 1 || preview.Gone[0].Field != "email" || len(preview.Stay) != 0 ||
		preview.Fewer != 1 || preview.Captures != 3 {
		t.Errorf("withdrawing would come to %+v, %v", preview, err)
	}
	said(t, w.Evidence.Withdraw(t.Context(), w.who, two.ID, " "), base.Invalid, "say why")
	if err := w.Evidence.Withdraw(t.Context(), w.who, two.ID, "the wrong stage"); err != nil {
		t.Fatal(err)
	}
	after, err := w.Findings.Finding(t.Context(), base.Caller{}, hash.ID)
	if err != nil || after.Spots != hash.Spots || after.Captures != 1 || after.Bytes != hash.Bytes {
		t.Errorf("the hash is now %+v, was %+v, %v", after.Finding, hash.Finding, err)
	}
	if n := len(w.findings()); n != 1 {
		t.Errorf("%d findings are left", n)
	}
	_, err = w.Evidence.Batch(t.Context(), two.ID)
	said(t, err, base.NotFound, "no batch")
	endpoints, _, err := w.Review.Endpoints(t.Context(), base.EndpointFilter{}, base.Page{Number: 1, Size: 10})
	if err != nil || endpoints[0].Captures != 2 || endpoints[0].Bytes != int64(len(leaky)+len(clean)) {
		t.Errorf("the endpoint has %+v, %v", endpoints, err)
	}
	if again := w.upload("tuesday.har",
		recording(leaky, leaky, `{"id":7,"name":"Ada","email":"ada@quay.example"}`)); again.Repeated ||
		again.Captures != 3 {
		t.Errorf("sent again it is %+v", again)
	}
	// a finding that somebody has discussed stays, and says so
	if _, err := w.Findings.Comment(t.Context(), w.who, hash.ID, "seen on stage"); err != nil {
		t.Fatal(err)
	}
	for _, b := range []int64{one.ID, two.ID + 1} {
		if err := w.Evidence.Withdraw(t.Context(), w.who, b, "all of it"); err != nil {
			t.Fatal(err)
		}
	}
	left, err := w.Findings.Finding(t.Context(), base.Caller{}, hash.ID)
	if err != nil || left.Captures != 0 || left.Spots != 0 || left.History[len(left.History)-1].Kind != "withdrawn" ||
		len(w.findings()) != 1 {
		t.Errorf("left is %+v, %v", left, err)
	}
	if c, err := w.Review.Coverage(t.Context(), "quay"); err != nil || c.Numbers[review.NeverTried] != 2 {
		t.Errorf("coverage after all is withdrawn: %+v, %v", c.Numbers, err)
	}
}

func TestWithdrawingTakesAReturnBack(t *testing.T) {
	w := newWorld(t)
	w.alone()
	w.upload("monday.har", recording(leaky))
	hash := w.theHash()
	if _, err := w.Findings.Move(t.Context(), w.who, hash.ID, finding.Move{To: finding.AwaitingProof}); err != nil {
		t.Fatal(err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 5)
	w.upload("mended.har", strings.ReplaceAll(recording(clean), "2026-05-01", "2026-05-06"))
	if v := w.theHash(); v.State != "closed" {
		t.Fatalf("after a capture that no longer shows it it is %s", v.State)
	}
	b := w.upload("later.har", strings.ReplaceAll(recording(leaky, clean), "2026-05-01", "2026-05-06"))
	if v := w.theHash(); v.State != "returned" {
		t.Fatalf("seen again it is %s", v.State)
	}
	if err := w.Evidence.Withdraw(t.Context(), w.who, b.ID, "replayed by mistake"); err != nil {
		t.Fatal(err)
	}
	if v := w.theHash(); v.State != "closed" || v.Captures != 1 {
		t.Errorf("after the batch is withdrawn it is %s with %d captures", v.State, v.Captures)
	}
}

func TestTheAudienceOfABatchIsCorrected(t *testing.T) {
	w := newWorld(t)
	w.alone()
	b := w.upload("monday.har", recording(leaky, clean))
	was := w.theHash()
	if was.Audience != "office" || was.AudienceBy != "recognised" {
		t.Fatalf("the audience is %s, %s", was.Audience, was.AudienceBy)
	}
	fixed, err := w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{Audience: "visitor"})
	if err != nil || fixed.ID != b.ID || fixed.Audience != "visitor" || fixed.Findings != 1 || fixed.Captures != 2 {
		t.Fatalf("corrected to %+v, %v", fixed, err)
	}
	now := w.theHash()
	if now.ID == was.ID || now.Audience != "visitor" || now.AudienceBy != "said" || now.Captures != 1 {
		t.Errorf("the finding is %+v", now.Finding)
	}
	captures, n, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{Batch: b.ID},
		base.Page{Number: 1, Size: 10})
	if err != nil || n != 2 || captures[0].Audience != "visitor" || captures[0].Findings != 1 ||
		captures[1].Findings != 0 {
		t.Errorf("captures %+v, %v", captures, err)
	}
	// by a mapping, and back to the contracts' own rules
	if _, err := w.Evidence.Correct(t.Context(), w.who, b.ID,
		evidence.Said{Mapping: "audiences: [{audience: visitor, recordings: 'tue*'}]"}); err != nil {
		t.Fatal(err)
	}
	if v := w.theHash(); v.ID != was.ID || v.Captures != 1 {
		t.Errorf("by the rules it is %+v", v.Finding)
	}
	_, err = w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{Audience: "pilot"})
	said(t, err, base.Invalid, "visitor, office")
	_, err = w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{Mapping: "audiences: 7"})
	said(t, err, base.Invalid, "mapping of audiences")
	entries, _, err := w.Base.Trail(t.Context(), base.TrailFilter{Action: "correct audience"},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(entries) != 2 || entries[1].Detail != "judged anew as visitor" {
		t.Errorf("trail %+v, %v", entries, err)
	}
}

// line is a capture line of a call for a skipper.
func line(body string) string {
	return `{"request":{"url":"https://q.example/skippers/7","headers":[{"name":"X-Desk","value":"2"}]},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":` + body + "}}\n"
}

func TestGrowingBatches(t *testing.T) {
	w := newWorld(t)
	watcher := w.Evidence.Watch("quay")
	defer watcher.Stop()
	other := w.Evidence.Watch("elsewhere")
	defer other.Stop()
	b, err := w.Evidence.OpenLive(t.Context(), w.who, "quay", "stage", "")
	if err != nil || !b.Growing || b.Origin != "recorder" {
		t.Fatalf("opened %+v, %v", b, err)
	}
	b, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0, strings.NewReader(line(clean)+line(leaky)))
	if err != nil || b.Captures != 2 || b.Findings != 1 || b.NewFindings != 1 || b.BySeverity["critical"] != 1 {
		t.Fatalf("grown to %+v, %v", b, err)
	}
	same, err := w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0, strings.NewReader(line(clean)+line(leaky)))
	if err != nil || !same.Repeated || same.Captures != 2 {
		t.Errorf("the same chunk again gives %+v, %v", same, err)
	}
	_, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 2, 0,
		strings.NewReader(line(clean)+`{"request":{"url":"https`))
	said(t, err, base.Invalid, "not whole")
	w.Service.Close() // and again, as after a restart
	w.open()
	b, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 2, 3,
		strings.NewReader(line(leaky)+`{"request":{"url":"/x"}}`+"\n"+
			line(clean)))
	if err != nil || b.Captures != 5 || b.Skipped != 1 || b.Findings != 1 || b.Dropped != 3 {
		t.Errorf("after a restart it has %+v, %v", b, err)
	}
	if v := w.theHash(); v.Captures != 2 || v.Spots != 2 {
		t.Errorf("the hash has %d captures", v.Captures)
	}
	_, err = w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{})
	said(t, err, base.Conflict, "recorder")
	b, err = w.Evidence.CloseLive(t.Context(), w.who, b.ID, 4)
	if err != nil || b.Growing || b.Dropped != 4 {
		t.Errorf("closed it is %+v, %v", b, err)
	}
	_, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 3, 0, strings.NewReader(line(clean)))
	said(t, err, base.Conflict, "complete")
	if len(watcher.Calls) != 2 || len(other.Calls) != 0 {
		t.Fatalf("%d calls were seen, %d elsewhere", len(watcher.Calls), len(other.Calls))
	}
	first, second := <-watcher.Calls, <-watcher.Calls
	if first.Capture.ID == 0 || len(first.Findings) != 0 || len(second.Findings) != 1 ||
		second.Findings[0].Path != "$.password_hash" || second.Capture.Sealed != nil {
		t.Errorf("seen were %+v and %+v", first, second)
	}
}

func TestBodiesGoWhenTheirTimeIsOver(t *testing.T) {
	w := newWorld(t)
	b := w.upload("monday.har", recording(leaky, clean))
	id := w.theHash().Evidence[0].CaptureID
	if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", base.KeepingTime{Days: 30, Bodies: true}); err != nil {
		t.Fatal(err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 30)
	if n, err := w.Evidence.Purge(t.Context()); n != 0 || err != nil {
		t.Errorf("on the last day %d are purged, %v", n, err)
	}
	w.clock.now = w.clock.now.Add(time.Minute)
	if n, err := w.Evidence.Purge(t.Context()); n != 2 || err != nil {
		t.Fatalf("%d are purged, %v", n, err)
	}
	v := w.theHash()
	if v.Sample != "" || v.State != "new" || v.Captures != 1 {
		t.Errorf("the finding is %+v", v.Finding)
	}
	c, err := w.Evidence.Capture(t.Context(), id)
	if err != nil || c.Holds != store.HoldsOutline || c.Body == nil || len(c.Body.Children) != 3 ||
		c.Body.Children[2].Value != "" || c.Body.Children[2].Bytes != len(`"password_hash":"`)+len(secretHash)+1 ||
		c.Body.Children[2].Spot == nil {
		t.Errorf("the capture is %+v, %v", c.Body, err)
	}
	_, err = w.Evidence.Reveal(t.Context(), w.who, id, "/password_hash", "to see it")
	said(t, err, base.Conflict, "not kept")
	// an outline is judged like its body
	if _, err = w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{}); err != nil {
		t.Error(err)
	}
	if again := w.theHash(); again.ID != v.ID || again.Captures != 1 || again.Sample != "" {
		t.Errorf("judged anew the finding is %+v", again.Finding)
	}
	row, err := w.store.Captures.Capture(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	e, err := w.vault.OpenExchange(row.Sealed)
	if err != nil || strings.Contains(fmt.Sprintf("%s %+v", e.ResponseBody, e), secretHash[:12]) ||
		strings.Contains(fmt.Sprintf("%+v", e.RequestHeader), secretToken) {
		t.Errorf("sealed is still %+v, %v", e, err)
	}
}

func TestAServiceCanKeepNoBodies(t *testing.T) {
	w := newWorld(t)
	w.alone()
	if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", base.KeepingTime{}); err != nil {
		t.Fatal(err)
	}
	w.upload("monday.har", recording(leaky, clean))
	v := w.theHash()
	c, err := w.Evidence.Capture(t.Context(), v.Evidence[0].CaptureID)
	if err != nil || c.Holds != store.HoldsOutline || c.Body == nil || v.Sample != "$2b$•••" {
		t.Errorf("the capture holds %s, the sample is %q, %v", c.Holds, v.Sample, err)
	}
	// Without a body the audience can be corrected all the same, and taken back.
	before := w.findings()
	for _, who := range []string{"visitor", ""} {
		if _, err := w.Evidence.Correct(t.Context(), w.who, 1, evidence.Said{Audience: who}); err != nil {
			t.Fatal(err)
		}
		if now := w.theHash(); now.Captures != 1 || who != "" && now.Audience != who {
			t.Errorf("corrected to %q the finding is %+v", who, now.Finding)
		}
	}
	after := w.findings()
	for i := range before {
		if len(after) != len(before) || after[i].ID != before[i].ID || after[i].Spots != before[i].Spots ||
			after[i].Bytes != before[i].Bytes {
			t.Errorf("judged by their outlines the captures show %+v, by their bodies %+v", after, before)
			break
		}
	}
	page := `<script id="state">{"password_hash":"` + secretHash + `"}</script>`
	kept := w.upload("page.lines", strings.ReplaceAll(line(`"`+strings.ReplaceAll(page, `"`, `\"`)+`"`),
		"application/json", "text/html"))
	_, err = w.Evidence.Correct(t.Context(), w.who, kept.ID, evidence.Said{})
	said(t, err, base.Conflict, "send the recording again")
	entries, n, err := w.Base.Trail(t.Context(), base.TrailFilter{Action: "set keeping time"},
		base.Page{Number: 1, Size: 10})
	if err != nil || n != 1 || entries[0].Detail != "no bodies are kept" {
		t.Errorf("trail %+v, %v", entries, err)
	}
}

func TestAValueIsRevealedOnTheTrail(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(`{"id":7,"name":"A\u0064a","n":[1.50,{"password_hash":"`+secretHash+
		`"}],"text":"{\"mail\":\"a@b.example\"}"}`))
	id := w.theHash().Evidence[0].CaptureID
	for pointer, want := range map[string]string{"/n/1/password_hash": secretHash, "/name": "Ada", "/n/0": "1.50",
		"/text >> /mail": "a@b.example", "/n/1": `{"password_hash":"` + secretHash + `"}`} {
		got, err := w.Evidence.Reveal(t.Context(), w.who, id, pointer, "to tell whose it is")
		if err != nil || got != want {
			t.Errorf("%s reveals %q, %v; want %q", pointer, got, err, want)
		}
	}
	_, err := w.Evidence.Reveal(t.Context(), w.who, id, "/nothing", "to tell whose it is")
	said(t, err, base.NotFound, "wire view")
	_, err = w.Evidence.Reveal(t.Context(), w.who, id, "/name", " ")
	said(t, err, base.Invalid, "say why")
	entries, n, err := w.Base.Trail(t.Context(), base.TrailFilter{Action: "reveal", Subject: fmt.Sprint("capture ", id),
		Author: "Noor Adeyar"}, base.Page{Number: 1, Size: 2})
	if err != nil || n != 5 || len(entries) != 2 || !strings.HasSuffix(entries[0].Detail, ": to tell whose it is") {
		t.Errorf("trail %+v, %v", entries, err)
	}
	if text := fmt.Sprintf("%+v %s", entries, w.log.String()); strings.Contains(text, secretHash[:10]) ||
		strings.Contains(text, "a@b") {
		t.Errorf("a value is on the trail or in the log: %s", text)
	}
	if entries, last, err := w.Base.VerifyTrail(t.Context()); err != nil || entries != 8 || len(last) != 64 {
		t.Errorf("the trail is verified as %d, %s, %v", entries, last, err)
	}
}

func TestTheKeyIsChanged(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky, clean))
	id := w.theHash().Evidence[0].CaptureID
	if err := w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "office"},
		header("X-Desk", "2")); err != nil {
		t.Fatal(err)
	}
	if _, err := ChangeKey(t.Context(), w.dir, nil); !errors.Is(err, ErrInUse) {
		t.Errorf("while a service runs: %v", err)
	}
	w.Service.Close()
	key := filepath.Join(w.dir, vault.KeyName)
	before, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	// broken off after the first step: the file has both keys, nothing is sealed anew
	next, _ := sealing.ReadKeys(key)
	if err := sealing.WriteKeys(key, append([][]byte{sealing.NewKey()}, next...)); err != nil {
		t.Fatal(err)
	}
	w.open()
	if _, err := w.Evidence.Reveal(t.Context(), w.who, id, "/password_hash", "between two keys"); err != nil {
		t.Errorf("with both keys: %v", err)
	}
	w.Service.Close()
	done, err := ChangeKey(t.Context(), w.dir, nil)
	if err != nil || done.Captures != 2 || done.Credentials != 1 {
		t.Fatalf("changing came to %+v, %v", done, err)
	}
	after, err := os.ReadFile(key)
	if err != nil || bytes.Contains(after, bytes.TrimSpace(before)) || bytes.Count(after, []byte("\n")) != 1 {
		t.Errorf("the key file still has the old key, or %d lines: %v", bytes.Count(after, []byte("\n")), err)
	}
	w.open()
	if got, err := w.Evidence.Reveal(t.Context(), w.who, id, "/password_hash", "with the new key"); err != nil ||
		got != secretHash {
		t.Errorf("with the new key: %q, %v", got, err)
	}
	w.Service.Close()
	if err := os.WriteFile(key, before, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), Options{Dir: w.dir}); err == nil ||
		!strings.Contains(err.Error(), "key of another database") {
		t.Errorf("with the old key: %v", err)
	}
	for text, want := range map[string]string{"": "is empty", "zz\n": "hexadecimal digits"} {
		os.WriteFile(key, []byte(text), 0o600)
		if _, err := Open(t.Context(), Options{Dir: w.dir}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("with the key file %q: %v", text, err)
		}
	}
	os.Remove(key)
	if _, err := Open(t.Context(), Options{Dir: w.dir}); err == nil ||
		!strings.Contains(err.Error(), "is missing: put it back") {
		t.Errorf("without its key file: %v", err)
	}
	if _, err := ChangeKey(t.Context(), w.dir, nil); err == nil {
		t.Error("the key of a folder without one is changed")
	}
}

func TestAFullDataFolderKeepsNothingHalf(t *testing.T) {
	w := newWorld(t)
	first := w.upload("monday.har", recording(leaky))
	w.Service.Close()
	size, err := os.Stat(filepath.Join(w.dir, "inkret.db"))
	if err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), Options{Dir: w.dir, Now: w.clock.read, MaxDisk: size.Size() + 64<<10})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var bodies []string
	for i := range 3000 {
		bodies = append(bodies, fmt.Sprintf(`{"id":%d,"name":"x","email":"a%d@b.example"}`, i, i*i))
	}
	_, err = s.Evidence.Upload(t.Context(), w.who, "quay", "large.har", evidence.Said{},
		strings.NewReader(recording(bodies...)))
	said(t, err, base.Full, "make room")
	all, n, _, err := s.Evidence.Captures(t.Context(), base.CaptureFilter{}, base.Page{Number: 1, Size: 10})
	if err != nil || n != 1 || all[0].BatchID != first.ID {
		t.Errorf("%d captures are there, %v", n, err)
	}
	b, err := s.Evidence.OpenLive(t.Context(), w.who, "quay", "stage", "")
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0, strings.NewReader(strings.Repeat(line(leaky), 3000)))
	said(t, err, base.Full, "nothing of this was kept")
	if again, err := s.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0,
		strings.NewReader(line(leaky))); err != nil ||
		again.Captures != 1 || again.Repeated {
		t.Errorf("a smaller chunk in its place gives %+v, %v", again, err)
	}
}

func TestTheClockMaySetBack(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	seen := w.theHash().LastSeen
	w.clock.now = w.clock.now.AddDate(0, -1, 0)
	b := w.upload("sunday.har", recording(leaky, clean))
	v := w.theHash()
	if !v.LastSeen.Equal(seen) || v.Captures != 2 {
		t.Errorf("seen last at %s with %d captures", v.LastSeen, v.Captures)
	}
	all, _, err := w.Evidence.Batches(t.Context(), base.Page{Number: 1, Size: 10})
	if err != nil || all[0].ID != b.ID {
		t.Errorf("the newest batch is %+v, %v", all[0], err)
	}
	if n, err := w.Evidence.Purge(t.Context()); n != 0 || err != nil {
		t.Errorf("%d are purged, %v", n, err)
	}
}

func TestCapturesAreFiltered(t *testing.T) {
	w := newWorld(t)
	b := w.upload("monday.har", recording(leaky, clean, `{"id":7,"name":"`+strings.Repeat("x", 3000)+`"}`, "no json"))
	for name, c := range map[string]struct {
		by   base.CaptureFilter
		want int
	}{
		"all":               {base.CaptureFilter{}, 4},
		"of a service":      {base.CaptureFilter{Service: "quay", Batch: b.ID}, 4},
		"of another":        {base.CaptureFilter{Service: "other"}, 0},
		"leaking":           {base.CaptureFilter{Leaking: true}, 1},
		"clean":             {base.CaptureFilter{Clean: true}, 2},
		"skipped":           {base.CaptureFilter{Skipped: true}, 1},
		"by code":           {base.CaptureFilter{Statuses: []string{"200"}}, 4},
		"by class of code":  {base.CaptureFilter{Statuses: []string{"4XX", "201"}}, 0},
		"large":             {base.CaptureFilter{Least: 1000}, 1},
		"small":             {base.CaptureFilter{Least: 1, Most: 1000}, 3},
		"since":             {base.CaptureFilter{Since: time.Date(2026, 5, 1, 10, 0, 1, 0, time.UTC)}, 0},
		"until":             {base.CaptureFilter{Until: time.Date(2026, 5, 1, 10, 0, 1, 0, time.UTC)}, 4},
		"by words":          {base.CaptureFilter{Words: "get SKIPPERS"}, 4},
		"by other words":    {base.CaptureFilter{Words: "boats"}, 0},
		"as an audience":    {base.CaptureFilter{Audience: "office"}, 4},
		"repeats of a call": {base.CaptureFilter{Repeats: 1}, 0},
	} {
		all, n, _, err := w.Evidence.Captures(t.Context(), c.by, base.Page{Number: 1, Size: 10})
		if err != nil || n != c.want || len(all) != c.want {
			t.Errorf("%s: %d of %d, %v; want %d", name, len(all), n, err, c.want)
		}
	}
	all, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{Sort: "bytes"}, base.Page{Number: 1, Size: 1})
	if err != nil || all[0].Bytes < 3000 {
		t.Errorf("the largest first: %+v, %v", all, err)
	}
}

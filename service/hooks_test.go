package service

import (
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/notify"
)

// receiver is a stand-in for a program that is told.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex // guards the rest
	status int
	got    []received
}

type received struct {
	header http.Header
	body   string
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{status: http.StatusNoContent}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		r.mu.Lock()
		defer r.mu.Unlock()
		r.got = append(r.got, received{q.Header.Clone(), string(body)})
		w.WriteHeader(r.status)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) answers(status int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.status = status
}

// take returns what was received since, and forgets it.
func (r *receiver) take() []received {
	r.mu.Lock()
	defer r.mu.Unlock()
	got := r.got
	r.got = nil
	return got
}

// deliver lets what is due be delivered.
func (w *world) deliver() {
	w.t.Helper()
	if err := w.Notify.DeliverOnce(w.t.Context()); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) hook(r *receiver, change func(*base.Hook)) (base.Hook, string) {
	w.t.Helper()
	h := base.Hook{Name: "board", URL: "http://board.quay.example/told?by=inkret", Address: r.URL}
	change(&h)
	added, secret, err := w.Notify.AddHook(w.t.Context(), w.who, h)
	if err != nil {
		w.t.Fatal(err)
	}
	return added, secret
}

// TestProgramsAreToldWhatHappens looks at what arrives: events, their signature, and that no
// value is in them.
func TestProgramsAreToldWhatHappens(t *testing.T) {
	w := newWorld(t)
	board := newReceiver(t)
	w.upload("before.har", recording(leaky))
	_, secret := w.hook(board, func(h *base.Hook) {})
	w.deliver()
	if got := board.take(); len(got) != 0 {
		t.Errorf("it is told of what was before it: %+v", got)
	}
	hash := w.theHash()
	if _, err := w.Findings.Move(t.Context(), w.who, hash.ID, finding.Move{To: finding.InRepair,
		Comment: "secret words of ours"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Comment(t.Context(), w.who, hash.ID, "more of them"); err != nil {
		t.Fatal(err)
	}
	w.deliver()
	got := board.take()
	if len(got) != 2 {
		t.Fatalf("it is told %d events", len(got))
	}
	var event struct {
		SpecVersion, ID, Source, Type, Subject, Time, DataContentType string
		Data                                                          map[string]string
	}
	if err := json.Unmarshal([]byte(got[0].body), &event); err != nil {
		t.Fatal(err)
	}
	if event.SpecVersion != "1.0" || event.Type != "inkret.finding.moved" || event.Subject != hash.ID ||
		event.Source != "/services/quay" || event.Data["was"] != "new" || event.Data["became"] != "in-repair" ||
		event.Data["severity"] != "critical" || event.Data["path"] != "$.password_hash" ||
		event.Data["author"] != "Noor Adeyar" || event.ID == "" {
		t.Errorf("the event is %s", got[0].body)
	}
	if _, err := time.Parse(time.RFC3339Nano, event.Time); err != nil {
		t.Error(err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil || len(key) != 32 {
		t.Fatalf("the secret %q: %v", secret, err)
	}
	for _, one := range got {
		if want := notify.Signature(key, one.header.Get("Webhook-Id"), one.header.Get("Webhook-Timestamp"),
			[]byte(one.body)); one.header.Get("Webhook-Signature") != want ||
			one.header.Get("Content-Type") != "application/cloudevents+json; charset=utf-8" {
			t.Errorf("header fields %v, want the signature %s", one.header, want)
		}
		for _, leak := range []string{"$2b$", "secret words", "more of them", secretToken} {
			if strings.Contains(one.body, leak) {
				t.Errorf("what is told has %q: %s", leak, one.body)
			}
		}
	}
	w.deliver()
	if again := board.take(); len(again) != 0 {
		t.Errorf("it is told twice: %+v", again)
	}
}

// TestTheSignatureIsThatOfTheStandard checks the example of the specification.
func TestTheSignatureIsThatOfTheStandard(t *testing.T) {
	key, err := base64.StdEncoding.DecodeString("MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
	if err != nil {
		t.Fatal(err)
	}
	if got, want := notify.Signature(key, "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", []byte(`{"test": 2432232314}`)),
		"v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="; got != want {
		t.Errorf("signed %s, want %s", got, want)
	}
}

func TestHooksAreToldOfWhatTheyAskFor(t *testing.T) {
	w := newWorld(t)
	all, grave, other, kinds := newReceiver(t), newReceiver(t), newReceiver(t), newReceiver(t)
	w.hook(all, func(*base.Hook) {})
	w.hook(grave, func(h *base.Hook) { h.Least = int(severity.High) })
	w.hook(other, func(h *base.Hook) { h.Service = "other" })
	w.hook(kinds, func(h *base.Hook) { h.Kinds = "assigned,closed" })
	leaks := w.several()
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(leaks), nil,
		findings.Wish{Person: &w.who.ID}); err != nil {
		t.Fatal(err)
	}
	w.deliver()
	for name, c := range map[string]struct {
		r    *receiver
		want int
	}{"all": {all, 8}, "what is grave": {grave, 4}, "of another service": {other, 0}, "of some kinds": {kinds, 4}} {
		if got := c.r.take(); len(got) != c.want {
			t.Errorf("%s: told %d events, want %d", name, len(got), c.want)
		}
	}
}

// TestWhatIsNotTakenIsTriedAgain has a receiver that fails, and one that is not there.
func TestWhatIsNotTakenIsTriedAgain(t *testing.T) {
	w := newWorld(t)
	board := newReceiver(t)
	h, _ := w.hook(board, func(*base.Hook) {})
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	lost, _ := w.hook(&receiver{Server: gone}, func(h *base.Hook) { h.Name = "lost" })
	board.answers(http.StatusServiceUnavailable)
	w.upload("a.har", recording(leaky))
	w.deliver()
	if got := board.take(); len(got) != 1 {
		t.Fatalf("tried %d times", len(got))
	}
	w.deliver()
	if got := board.take(); len(got) != 0 {
		t.Errorf("tried again at once")
	}
	ds, total, err := w.Notify.Deliveries(t.Context(), h.ID, base.Page{Number: 1, Size: 9})
	if err != nil || total != 1 || ds[0].Tries != 1 || ds[0].Said != "it answered 503" ||
		!ds[0].Next.Equal(w.clock.now.Add(30*time.Second)) {
		t.Errorf("%+v of %d, %v", ds, total, err)
	}
	w.clock.now = w.clock.now.Add(31 * time.Second)
	board.answers(http.StatusOK)
	w.deliver()
	if got := board.take(); len(got) != 1 {
		t.Errorf("tried %d times after the wait", len(got))
	}
	if ds, _, _ := w.Notify.Deliveries(t.Context(), h.ID, base.Page{Number: 1, Size: 9}); ds[0].Said != "taken" ||
		ds[0].Done.IsZero() || !ds[0].Next.IsZero() {
		t.Errorf("%+v", ds)
	}
	if err := w.Notify.TryAgain(t.Context(), w.who, ds[0].ID); err != nil {
		t.Fatal(err)
	}
	w.deliver()
	if got := board.take(); len(got) != 1 {
		t.Errorf("sent %d times when asked to", len(got))
	}

	for range tries + 1 {
		w.clock.now = w.clock.now.Add(25 * time.Hour)
		w.deliver()
	}
	ds, _, err = w.Notify.Deliveries(t.Context(), lost.ID, base.Page{Number: 1, Size: 9})
	if err != nil || ds[0].Tries != tries+1 || !ds[0].Next.IsZero() || !ds[0].Done.IsZero() || ds[0].Said == "" {
		t.Errorf("what is never taken: %+v, %v", ds, err)
	}
	if hooks, err := w.Notify.Hooks(t.Context()); err != nil || hooks[1].Name != "lost" || hooks[1].Failed != 1 ||
		hooks[1].Waiting != 0 {
		t.Errorf("hooks %+v, %v", hooks, err)
	}
	w.clock.now = w.clock.now.Add(31 * 24 * time.Hour)
	w.deliver()
	if _, total, err := w.Notify.Deliveries(t.Context(), lost.ID, base.Page{Number: 1, Size: 9}); err != nil ||
		total != 0 {
		t.Errorf("%d old deliveries are kept, %v", total, err)
	}
}

// TestOneThatHangsHoldsUpNoOther tells two at once, one of which does not answer.
func TestOneThatHangsHoldsUpNoOther(t *testing.T) {
	w := newWorld(t)
	release := make(chan struct{})
	hangs := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-release }))
	defer hangs.Close()
	board := newReceiver(t)
	w.hook(&receiver{Server: hangs}, func(h *base.Hook) { h.Name = "hangs" })
	w.hook(board, func(*base.Hook) {})
	w.upload("a.har", recording(leaky))
	done := make(chan error)
	go func() { done <- w.Notify.DeliverOnce(t.Context()) }()
	for deadline := time.Now().Add(20 * time.Second); len(board.take()) == 0; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the other is not told")
		}
	}
	close(release)
	if err := <-done; err != nil {
		t.Error(err)
	}
}

func TestHooksThatCannotBe(t *testing.T) {
	w := newWorld(t)
	for name, h := range map[string]base.Hook{
		"no name": {URL: "https://a.example/"}, "no URL": {Name: "a", URL: "a.example"}, "another scheme": {Name: "a",
			URL: "file:///etc/passwd"}, "a password in it": {Name: "a", URL: "https://u:p@a.example/"},
		"no TLS": {Name: "a", URL: "http://a.example/"}, "an address that is none": {Name: "a",
			URL: "https://a.example/", Address: "127.0.0.1"}, "an unknown event": {Name: "a", URL: "https://a.example/",
			Kinds: "found,lost"},
	} {
		if _, _, err := w.Notify.AddHook(t.Context(), w.who, h); code(err) != base.Invalid {
			t.Errorf("%s: %v", name, err)
		}
	}
	// a name that leads inside, without an address of its own, is not called
	inside, _, err := w.Notify.AddHook(t.Context(), w.who, base.Hook{Name: "inside", URL: "https://localhost:1/"})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Notify.TestHook(t.Context(), w.who, inside.ID); err != nil {
		t.Fatal(err)
	}
	w.deliver()
	if ds, _, err := w.Notify.Deliveries(t.Context(), inside.ID, base.Page{Number: 1, Size: 9}); err != nil ||
		len(ds) != 1 ||
		ds[0].Kind != "test" || !strings.Contains(ds[0].Said, "not a public address") {
		t.Errorf("%+v, %v", ds, err)
	}
	if err := w.Notify.DropHook(t.Context(), w.who, inside.ID); err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{w.Notify.DropHook(t.Context(), w.who, inside.ID), w.Notify.TestHook(t.Context(), w.who,
		inside.ID),
		w.Notify.TryAgain(t.Context(), w.who, 99)} {
		if code(err) != base.NotFound {
			t.Errorf("what is not there: %v", err)
		}
	}
}

func TestHooksOutliveAChangeOfKey(t *testing.T) {
	w := newWorld(t)
	board := newReceiver(t)
	_, secret := w.hook(board, func(*base.Hook) {})
	w.Close()
	if _, err := ChangeKey(t.Context(), w.dir, func(KeyChange) {}); err != nil {
		t.Fatal(err)
	}
	w.open()
	w.upload("a.har", recording(leaky))
	w.deliver()
	got := board.take()
	key, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if len(got) != 1 || got[0].header.Get("Webhook-Signature") != notify.Signature(key, got[0].header.Get("Webhook-Id"),
		got[0].header.Get("Webhook-Timestamp"), []byte(got[0].body)) {
		t.Errorf("told %+v", got)
	}
}

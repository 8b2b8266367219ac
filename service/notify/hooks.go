package notify

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"inkret/core/exchange"
	"inkret/core/severity"
	"inkret/outbound"
	"inkret/service/base"
	"inkret/store"
)

// Webhooks send other programs what happens to findings, as CloudEvents 1.0 in JSON, signed as the Standard
// Webhooks specification defines. Events come from the findings' history, so none is lost while the service is
// down. A receiver may get an event twice.

// EventKinds lists the events that a webhook can subscribe to.
var EventKinds = []string{"found", "returned", "closed", "moved", "assigned", "due", "labelled", "comment", "waiver"}

// kindOfEvent returns the kind under which an event of a finding's history is sent.
func kindOfEvent(e *store.Event) string {
	switch {
	case e.Kind == "move" && (e.Became == "returned" || e.Became == "closed"):
		return e.Became
	case e.Kind == "move":
		return "moved"
	case e.Kind == "assign":
		return "assigned"
	case e.Kind == "label":
		return "labelled"
	}
	return e.Kind
}

const (
	hookSecretAs = "hook"
	hookSecret   = "whsec_" // of Standard Webhooks
	deliverAt    = 100
	HooksEvery   = 2 * time.Second // between two rounds
	keepTaken    = 30 * 24 * time.Hour
)

// backOff is the delay after each failed attempt. After the last one the delivery is given up.
var backOff = []time.Duration{30 * time.Second, 2 * time.Minute, 10 * time.Minute, time.Hour, 4 * time.Hour,
	12 * time.Hour, 24 * time.Hour}

// AddHook adds a webhook and returns the secret that signs its deliveries. The secret is shown only once.
func (s *Notify) AddHook(ctx context.Context, who base.Caller, h store.Hook) (store.Hook, string, error) {
	h.Name = strings.TrimSpace(h.Name)
	u, err := url.Parse(h.URL)
	switch {
	case h.Name == "":
		return h, "", base.NewProblem(base.Invalid, "", "a hook has a name")
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil:
		return h, "", base.NewProblem(base.Invalid, "", "a hook's URL is one of http or https, without a password")
	}
	if h.Address != "" {
		at, err := url.Parse(h.Address)
		if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" ||
			strings.Trim(at.Path, "/") != "" {
			return h, "", base.NewProblem(base.Invalid, "one is written http://127.0.0.1:7466",
				"%q is not where a hook is reached",
				h.Address)
		}
	} else if u.Scheme != "https" {
		return h, "", base.NewProblem(base.Invalid, "use https, or say where it is reached inside with an address",
			"without TLS what is told could be read by others")
	}
	for _, kind := range strings.FieldsFunc(h.Kinds, func(r rune) bool { return r == ',' }) {
		if !slices.Contains(EventKinds, kind) {
			return h, "", base.NewProblem(base.Invalid, "known are "+strings.Join(EventKinds, ", "), "no event is a %q",
				kind)
		}
	}
	key := make([]byte, 32)
	rand.Read(key)
	secret := hookSecret + base64.StdEncoding.EncodeToString(key)
	h.Secret, h.Author, h.Created = s.vault.Seal(key, hookSecretAs), base.ShownName(who.Person), s.base.Now()
	h, err = s.store.AddHook(ctx, h, s.base.Did(who, "add hook", h.Name, h.URL))
	return h, secret, err
}

// DropHook deletes a webhook and its deliveries.
func (s *Notify) DropHook(ctx context.Context, who base.Caller, id int64) error {
	h, err := s.store.HookByID(ctx, id)
	if err != nil {
		return base.Found(err, "hook %d", id)
	}
	return base.Found(s.store.DropHook(ctx, id, s.base.Did(who, "drop hook", h.Name, h.URL)), "hook %d", id)
}

// Deliveries returns a page of a webhook's deliveries, newest first.
func (s *Notify) Deliveries(ctx context.Context, hook int64, page store.Page) ([]store.Delivery, int, error) {
	if _, err := s.store.HookByID(ctx, hook); err != nil {
		return nil, 0, base.Found(err, "hook %d", hook)
	}
	return s.store.Deliveries(ctx, hook, page)
}

// TryAgain sends a delivery again.
func (s *Notify) TryAgain(ctx context.Context, who base.Caller, delivery int64) error {
	return base.Found(s.store.TryAgain(ctx, delivery, s.base.Now(), s.base.Did(who, "deliver again",
		fmt.Sprintf("delivery %d",
			delivery), "")), "delivery %d", delivery)
}

// TestHook sends a test event.
func (s *Notify) TestHook(ctx context.Context, who base.Caller, id int64) error {
	h, err := s.store.HookByID(ctx, id)
	if err != nil {
		return base.Found(err, "hook %d", id)
	}
	event, err := json.Marshal(cloudEvent{SpecVersion: "1.0", ID: "test-" + base.NewSecret()[:12], Source: "/inkret",
		Type: "inkret.test", Time: s.base.Now().UTC().Format(time.RFC3339Nano), ContentType: "application/json",
		Data: map[string]string{"message": "a test, asked for by " + base.ShownName(who.Person)}})
	if err != nil {
		return err
	}
	return s.store.AddDeliveries(ctx, h.ID, h.LastEvent, []store.Delivery{{Event: string(event), Kind: "test",
		Made: s.base.Now(), Next: s.base.Now()}}, s.base.Did(who, "test hook", h.Name, ""))
}

// cloudEvent is an event in the JSON format of CloudEvents 1.0.
type cloudEvent struct {
	SpecVersion string `json:"specversion"`
	ID          string `json:"id"`
	Source      string `json:"source"`
	Type        string `json:"type"`
	Subject     string `json:"subject,omitempty"`
	Time        string `json:"time"`
	ContentType string `json:"datacontenttype"`
	Data        any    `json:"data"`
}

// told is what is sent about a finding: where and what it is. It contains no leaked values, masked or not, and
// nothing that people wrote.
type told struct {
	Finding  string `json:"finding"`
	Kind     string `json:"kind"`
	Severity string `json:"severity"`
	Service  string `json:"service"`
	Endpoint string `json:"endpoint"`
	Audience string `json:"audience,omitempty"`
	Status   string `json:"status,omitempty"`
	Path     string `json:"path"`
	Entity   string `json:"entity,omitempty"`
	Field    string `json:"field,omitempty"`
	Team     string `json:"team,omitempty"`
	State    string `json:"state"`
	Was      string `json:"was,omitempty"`
	Became   string `json:"became,omitempty"`
	Until    string `json:"until,omitempty"`
	Author   string `json:"author"`
}

func eventOf(h *store.Happened) ([]byte, error) {
	f := &h.Finding
	return json.Marshal(cloudEvent{SpecVersion: "1.0", ID: strconv.FormatInt(h.ID, 10), Source: "/services/" +
		url.PathEscape(f.Service), Type: "inkret.finding." + kindOfEvent(&h.Event), Subject: f.ID,
		Time: h.At.UTC().Format(time.RFC3339Nano), ContentType: "application/json",
		Data: told{f.ID, f.Kind, severity.Severity(f.Severity).String(), f.Service, f.Endpoint, f.Audience, f.Status,
			f.Path, f.Entity, f.Field, f.Team, f.State, h.Was, h.Became, h.Until, h.Author}})
}

// wants reports whether a webhook subscribes to an event.
func wants(h *store.Hook, e *store.Happened) bool {
	return e.Finding.Severity >= h.Least && (h.Service == "" || h.Service == e.Finding.Service) &&
		(h.Kinds == "" || slices.Contains(strings.Split(h.Kinds, ","), kindOfEvent(&e.Event)))
}

// DeliverOnce creates deliveries for new events and sends those that are due. Webhooks are served in parallel, so
// one that hangs does not hold up others.
func (s *Notify) DeliverOnce(ctx context.Context) error {
	hooks, err := s.store.Hooks(ctx)
	if err != nil {
		return err
	}
	by := map[int64]*store.Hook{}
	for i := range hooks {
		by[hooks[i].ID] = &hooks[i]
		if err := s.queue(ctx, &hooks[i]); err != nil {
			return err
		}
	}
	due, err := s.store.DueDeliveries(ctx, s.base.Now(), deliverAt)
	if err != nil {
		return err
	}
	queues := map[int64][]store.Delivery{}
	for _, d := range due {
		queues[d.Hook] = append(queues[d.Hook], d)
	}
	var all sync.WaitGroup
	failed := make(chan error, len(queues))
	for hook, queue := range queues {
		all.Go(func() {
			for _, d := range queue {
				if err := s.try(ctx, by[hook], d); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		return err
	}
	return s.store.DropDeliveries(ctx, s.base.Now().Add(-keepTaken))
}

// queue creates deliveries for the events that a webhook has not seen yet.
func (s *Notify) queue(ctx context.Context, h *store.Hook) error {
	for {
		some, err := s.store.HappenedAfter(ctx, h.LastEvent, deliverAt)
		if err != nil || len(some) == 0 {
			return err
		}
		var out []store.Delivery
		for i := range some {
			if !wants(h, &some[i]) {
				continue
			}
			event, err := eventOf(&some[i])
			if err != nil {
				return err
			}
			out = append(out, store.Delivery{Event: string(event), Kind: kindOfEvent(&some[i].Event),
				Made: s.base.Now(),
				Next: s.base.Now()})
		}
		h.LastEvent = some[len(some)-1].ID
		if err := s.store.AddDeliveries(ctx, h.ID, h.LastEvent, out, store.TrailEntry{}); err != nil {
			return err
		}
	}
}

// try sends a delivery once and records the result.
func (s *Notify) try(ctx context.Context, h *store.Hook, d store.Delivery) error {
	if h == nil { // dropped meanwhile
		return nil
	}
	err := s.send(ctx, h, &d)
	if ctx.Err() != nil {
		return nil // the service ends; it is tried again
	}
	d.Tries++
	if d.Next = (time.Time{}); err == nil {
		d.Done, d.Said = s.base.Now(), "taken"
	} else {
		d.Said = err.Error()
		d.Next = s.nextTry(d.Tries)
	}
	return s.store.Tried(ctx, d)
}

// nextTry returns when to send again after a number of failed attempts; the zero time means give up.
func (s *Notify) nextTry(tries int) time.Time {
	if tries > len(backOff) {
		return time.Time{}
	}
	return s.base.Now().Add(backOff[tries-1])
}

// send sends a delivery; the error says in words why it was not accepted.
func (s *Notify) send(ctx context.Context, h *store.Hook, d *store.Delivery) error {
	key, _, err := s.vault.Open(h.Secret, hookSecretAs)
	if err != nil {
		return errors.New("its secret cannot be opened")
	}
	u, err := url.Parse(h.URL)
	if err != nil {
		return errors.New("its URL cannot be read")
	}
	server := outbound.Server{Base: &url.URL{Scheme: u.Scheme, Host: u.Host}}
	if h.Address != "" {
		if server.Address, err = url.Parse(h.Address); err != nil {
			return errors.New("its address cannot be read")
		}
	}
	id, at := fmt.Sprintf("msg_%d", d.ID), strconv.FormatInt(s.base.Now().Unix(), 10)
	answer, err := outbound.Call(ctx, server, &exchange.Request{Method: "POST", URL: u, Body: []byte(d.Event),
		Header: exchange.Header{
			{Name: "Content-Type", Value: "application/cloudevents+json; charset=utf-8"},
			{Name: "User-Agent", Value: "Inkret"},
			{Name: "Webhook-Id", Value: id}, {Name: "Webhook-Timestamp", Value: at}, {Name: "Webhook-Signature",
				Value: Signature(key, id, at, []byte(d.Event))}}})
	if err != nil {
		return err
	}
	if answer.Status < 200 || answer.Status > 299 {
		return fmt.Errorf("it answered %d", answer.Status)
	}
	return nil
}

// Signature returns the Standard Webhooks signature of a message: HMAC-SHA-256 over its id, timestamp and body.
func Signature(key []byte, id, timestamp string, body []byte) string {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(id + "." + timestamp + "."))
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// ResealHooks encrypts the secrets of webhooks with the newest key.
func (s *Notify) ResealHooks(ctx context.Context) error {
	hooks, err := s.store.Hooks(ctx)
	if err != nil {
		return err
	}
	for _, h := range hooks {
		key, _, err := s.vault.Open(h.Secret, hookSecretAs)
		if err != nil {
			return fmt.Errorf("the secret of hook %d: %w", h.ID, err)
		}
		if err := s.store.ResealHook(ctx, h.ID, s.vault.Seal(key, hookSecretAs)); err != nil {
			return err
		}
	}
	return nil
}

package evidence

import (
	"context"
	"strings"

	"inkret/core/compare"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/core/shown"
	"inkret/service/base"
	"inkret/service/vault"
	"inkret/store"
)

// Batch returns one batch.
func (s *Evidence) Batch(ctx context.Context, id int64) (store.Batch, error) {
	b, err := s.store.Batch(ctx, id)
	return b, base.Found(err, "batch %d", id)
}

// masker returns the masker for a service's exchanges.
func (s *Evidence) masker(ctx context.Context, service string) (shown.Masker, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return shown.Masker{}, err
	}
	return shown.For(f.Contracts), nil
}

// CaptureView is a capture, masked for display.
type CaptureView struct {
	store.Capture
	RequestHeader  exchange.Header       // masked
	ResponseHeader exchange.Header       // masked
	JudgedBy       string                // contract or sweep; empty when it was skipped
	Body           *scan.WireNode        // the picture of the response body; nil for none
	Cut            int                   // the picture was cut off
	Command        string                // makes the same call, credentials left out
	Again          []store.Capture       // that made this capture's call again, newest first
	Fingerprints   map[*scan.Spot]string // of the findings that it shows
}

// mostAgain is how many repeats of a call are listed with it.
const mostAgain = 20

// Capture returns one capture. Its body is evaluated again under the contracts in force, for the wire view.
func (s *Evidence) Capture(ctx context.Context, id int64) (CaptureView, error) {
	c, err := s.store.Capture(ctx, id)
	if err != nil {
		return CaptureView{}, base.Found(err, "capture %d", id)
	}
	held, wire, out, err := s.picture(ctx, c)
	if err != nil {
		return CaptureView{}, err
	}
	masker, err := s.masker(ctx, c.Service)
	if err != nil {
		return CaptureView{}, err
	}
	v := CaptureView{Capture: c, RequestHeader: masker.Header(held.RequestHeader),
		ResponseHeader: masker.Header(held.ResponseHeader), Fingerprints: map[*scan.Spot]string{}}
	v.Command = command(c, held)
	if v.Again, _, _, err = s.store.Captures(ctx, store.CaptureFilter{Repeats: id},
		store.Page{Number: 1, Size: mostAgain}); err != nil {
		return v, err
	}
	if wire == nil || out.Skipped != "" {
		return v, nil
	}
	v.JudgedBy = "sweep"
	if out.Response != nil {
		v.JudgedBy = "contract"
	}
	v.Body, v.Cut = wire.Root(out.Spots), wire.Cut
	if c.Holds == store.HoldsOutline { // the stand-ins are no values
		v.Body.Blank()
	}
	for i := range out.Spots {
		spot := &out.Spots[i]
		v.Fingerprints[spot] = finding.IdentityOf(c.Service, &out, spot).Fingerprint()
	}
	return v, nil
}

// Comparison holds two captures side by side.
type Comparison struct {
	Before, After store.Capture   // of the two
	Places        []ComparedPlace // in the order of their paths
}

// ComparedPlace is a place in both bodies, with the kinds of its findings in each.
type ComparedPlace struct {
	compare.BodyChange
	Leaked, Leaks string // a finding was there
}

// Compare compares the bodies of two captures, the earlier one first.
func (s *Evidence) Compare(ctx context.Context, before, after int64) (Comparison, error) {
	var c Comparison
	var bodies [2]compare.Body
	var leaks [2]map[string]string
	for i, id := range []int64{before, after} {
		one, err := s.store.Capture(ctx, id)
		if err != nil {
			return c, base.Found(err, "capture %d", id)
		}
		held, wire, out, err := s.picture(ctx, one)
		if err != nil {
			return c, err
		}
		if wire == nil {
			return c, base.NewProblem(base.Conflict, "compare two whose bodies are kept, in whole or as an outline",
				"nothing is kept of the body of capture %d", id)
		}
		bodies[i], leaks[i] = compare.Body{Type: held.ResponseHeader.Get("Content-Type"), Data: held.ResponseBody},
			map[string]string{}
		for _, spot := range out.Spots {
			if !spot.Request && leaks[i][spot.Path] == "" {
				leaks[i][spot.Path] = spot.Kind.String()
			}
		}
		one.Sealed = nil
		if i == 0 {
			c.Before = one
		} else {
			c.After = one
		}
	}
	for _, p := range compare.Bodies(bodies[0], bodies[1]) {
		was := p.Path
		if p.From != "" {
			was = p.From
		}
		c.Places = append(c.Places, ComparedPlace{p, leaks[0][was], leaks[1][p.Path]})
	}
	return c, nil
}

// command returns a curl command for the same call. Credentials are left for the user to fill in.
func command(c store.Capture, held vault.Exchange) string {
	var b strings.Builder
	b.WriteString("curl")
	if c.Method != "GET" {
		b.WriteString(" -X " + shellWord(c.Method))
	}
	for _, f := range held.RequestHeader {
		switch name := strings.ToLower(f.Name); {
		case name == "authorization" || name == "cookie":
			b.WriteString(" -H " + shellWord(f.Name+": $"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))))
		case name == "accept":
			b.WriteString(" -H " + shellWord(f.Name+": "+f.Value))
		}
	}
	b.WriteString(" " + shellWord(c.URL))
	return b.String()
}

// shellWord quotes a word for a POSIX shell. Variables that stand for credentials stay unquoted.
func shellWord(s string) string {
	if name, value, ok := strings.Cut(s, ": $"); ok && strings.Trim(value, "ABCDEFGHIJKLMNOPQRSTUVWXYZ_") == "" {
		return `"` + name + `: $` + value + `"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

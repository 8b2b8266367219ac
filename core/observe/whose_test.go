package observe

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
)

func tokenOf(claims string) string {
	part := base64.RawURLEncoding.EncodeToString
	return "Bearer " + part([]byte(`{"alg":"none"}`)) + "." + part([]byte(claims)) + ".x"
}

// TestWhoAsksIsProposed checks what is proposed of who makes requests and whose records there are, and that
// chance alone gives nothing.
func TestWhoAsksIsProposed(t *testing.T) {
	const people = `[{"id":7,"name":"Ada","email":"ada@sails.example"},{"id":8,"name":"Bo","email":"bo@sails.example"}]`
	for name, one := range map[string]struct {
		credentials, me, path, body string
		tellers, owners             string
	}{
		"a claim": {tokenOf(`{"sub":"7","exp":7,"role":"skipper"}`), "", "/v1/bookings",
			`[{"ref":"a","skipper_id":7,"berth":7}]`, "claim sub", "Skipper.id Booking.skipper_id"},
		"another claim": {tokenOf(`{"sub":"opaque","account":7}`), "", "/v1/bookings", `[{"ref":"a","owner":7}]`,
			"claim account", "Skipper.id Booking.owner"},
		"an answer about oneself": {"Basic abc", `{"data":{"user":{"id":7}}}`, "/v1/bookings",
			`[{"ref":"a","user_id":7}]`,
			"GET /v1/me at /data/user/id", "Skipper.id Booking.user_id"},
		"a relation": {tokenOf(`{"sub":"8"}`), "", "/v1/bookings",
			`[{"ref":"a","skipper":{"id":8,"name":"Bo","email":"bo@sails.example"}}]`, "claim sub",
			"Skipper.id Booking.skipper"},
		"another number": {tokenOf(`{"sub":"9"}`), "", "/v1/bookings", `[{"ref":"a","skipper_id":7}]`, "", ""},
		"a number by chance": {tokenOf(`{"sub":"7"}`), "", "/v1/bookings", `[{"ref":"a","berth":7}]`, "claim sub",
			"Skipper.id"},
		"what tells no one":      {tokenOf(`{"exp":7,"client_id":"7"}`), "", "/v1/bookings", `[{"ref":"a"}]`, "", ""},
		"nobody with a token":    {"", "", "/v1/bookings", `[{"ref":"a","skipper_id":7}]`, "", ""},
		"an answer to anybody":   {"", `{"id":7}`, "/v1/bookings", `[{"ref":"a","skipper_id":7}]`, "", ""},
		"a token that is broken": {"Bearer a.b.c", "", "/v1/bookings", `[{"ref":"a","skipper_id":7}]`, "", ""},
	} {
		o := New(nil)
		add := func(path, body string) {
			if one.credentials == "" {
				o.Add(capture(t, "GET", "https://a.example"+path, body))
			} else {
				o.Add(capture(t, "GET", "https://a.example"+path, body, "Authorization", one.credentials))
			}
		}
		add("/v1/skippers", people)
		add(one.path, one.body)
		if one.me != "" {
			add("/v1/me", one.me)
		}
		s := o.Sketch()
		var tellers, owners []string
		for _, g := range s.Tellers {
			if g.Claim != "" {
				tellers = append(tellers, "claim "+g.Claim)
			} else {
				tellers = append(tellers, fmt.Sprint(g.ToldBy, " at ", g.At))
			}
		}
		for _, x := range s.Objects {
			if x.Owner != "" {
				owners = append(owners, x.Name+"."+x.Owner)
			}
		}
		if got := strings.Join(tellers, ", "); got != one.tellers {
			t.Errorf("%s: who asks is told by %q, want %q", name, got, one.tellers)
		}
		if got := strings.Join(owners, " "); got != one.owners {
			t.Errorf("%s: owners are %q, want %q", name, got, one.owners)
		}
	}
}

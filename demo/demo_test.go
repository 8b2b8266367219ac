package demo

import (
	"encoding/json"
	"net/http/httptest"
	"strings"
	"testing"
)

// get asks a harbour as an audience.
func get(t *testing.T, release int, a Audience, path string) (status int, body string) {
	t.Helper()
	r := httptest.NewRequest("GET", "http://"+host+path, nil)
	authorise(r, a)
	w := httptest.NewRecorder()
	NewHarbour(release).ServeHTTP(w, r)
	return w.Code, w.Body.String()
}

// TestTheTwoReleases checks what the second release repairs, renames and brings back.
func TestTheTwoReleases(t *testing.T) {
	for _, c := range []struct {
		path          string
		as            Audience
		first, second string // in the body of one release and not of the other
	}{
		{"/v1/berths", Visitor, "password_hash", `"berth_price"`},
		{"/v1/berths/106", Visitor, "repair_note", `"berth_price"`},
		{"/v1/bookings", Skipper, "desk_note", ""},
		{"/v1/bookings/7004", Skipper, "born_on", ""},
		{"/v1/bookings?fields=id,ref", Skipper, "arrives_on", ""},
		{"/v1/skippers/505", Skipper, "insurance_no", ""},
		{"/v1/skippers/505", Office, `"email"`, ""},
		{"/v1/charges", Office, "desk_note", ""},
		{"/v1/inspections/1", Skipper, "remarks", ""},
		{"/v1/notices", Visitor, `"duty"`, ""},
		{"/v1/search?q=x", Visitor, "SELECT", ""},
		{"/arrivals", Visitor, "@sails.example", ""},
		{"/v1/staff", Office, "", "desk_pin"},
	} {
		_, one := get(t, 1, c.as, c.path)
		_, two := get(t, 2, c.as, c.path)
		if c.first != "" && (!strings.Contains(one, c.first) || strings.Contains(two, c.first)) {
			t.Errorf("%s as %s: release 1 has %q: %v, release 2: %v", c.path, c.as, c.first,
				strings.Contains(one, c.first), strings.Contains(two, c.first))
		}
		if c.second != "" && (strings.Contains(one, c.second) || !strings.Contains(two, c.second)) {
			t.Errorf("%s as %s: release 1 has %q: %v, release 2: %v", c.path, c.as, c.second,
				strings.Contains(one, c.second), strings.Contains(two, c.second))
		}
	}
}

func TestWhoMayAskTheHarbour(t *testing.T) {
	for _, c := range []struct {
		path   string
		as     Audience
		status int
	}{
		{"/v1/bookings", Visitor, 401}, {"/v1/bookings", Skipper, 200}, {"/v1/charges", Skipper, 403},
		{"/v1/charges", Office, 200},
		{"/v1/skippers/506", Skipper, 404}, {"/v1/skippers/506", Office, 200}, {"/v1/berths/999", Visitor, 404},
		{"/v1/nothing", Visitor, 404},
	} {
		if status, _ := get(t, 1, c.as, c.path); status != c.status {
			t.Errorf("%s as %s gives %d, want %d", c.path, c.as, status, c.status)
		}
	}
}

// TestARecordingIsOfRealCalls records over loopback and reads the HAR back.
func TestARecordingIsOfRealCalls(t *testing.T) {
	server := httptest.NewServer(NewHarbour(1))
	defer server.Close()
	for _, a := range Audiences {
		var b strings.Builder
		if err := Record(t.Context(), server.Listener.Addr().String(), a, &b); err != nil {
			t.Fatal(err)
		}
		var har struct {
			Log struct {
				Version string
				Entries []struct {
					Request  struct{ Method, URL string }
					Response struct {
						Status  int
						Content struct{ Text string }
					}
				}
			}
		}
		if err := json.Unmarshal([]byte(b.String()), &har); err != nil || har.Log.Version != "1.2" ||
			len(har.Log.Entries) != len(calls(a)) {
			t.Fatalf("%s: version %q, %d entries of %d, %v", a, har.Log.Version, len(har.Log.Entries), len(calls(a)),
				err)
		}
		for i, e := range har.Log.Entries {
			if want := calls(a)[i]; e.Request.Method != want.method || e.Request.URL != "http://"+host+want.path ||
				e.Response.Status == 0 || e.Response.Content.Text == "" && e.Response.Status != 204 {
				t.Errorf("%s: entry %d is %+v", a, i, e)
			}
		}
	}
	if err := Record(t.Context(), "127.0.0.1:1", Visitor, &strings.Builder{}); err == nil {
		t.Error("calls to nobody are recorded")
	}
}

// TestAccountNumbersAreWellFormed checks them by ISO 7064 MOD 97-10, so that they
// are recognised for what they look like.
func TestAccountNumbersAreWellFormed(t *testing.T) {
	for i := range 50 {
		text := fakeIBAN(i)
		rest := 0
		for _, c := range text[4:] + text[:4] {
			if c >= 'A' {
				rest = (rest*100 + int(c-'A') + 10) % 97
			} else {
				rest = (rest*10 + int(c-'0')) % 97
			}
		}
		if rest != 1 || len(text) != 18 {
			t.Errorf("%s leaves %d and has %d characters", text, rest, len(text))
		}
	}
}

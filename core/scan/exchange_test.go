package scan

import (
	"strings"
	"testing"

	"inkret/core/exchange"
)

func TestSharedCaches(t *testing.T) {
	contracts := mustRead(t, harbour)
	const personal, plain = `{"data":{"id":7,"ref":"x","owner":{"id":1,"name":"Ada"}}}`, `{"data":{"id":7,"ref":"x"}}`
	for _, c := range []struct {
		name, body string
		header     exchange.Header
		request    exchange.Header
		want       bool
	}{
		{"public", personal, exchange.Header{{Name: "Cache-Control", Value: "public"}}, nil, true},
		{"fresh for a while", personal, exchange.Header{{Name: "cache-control", Value: "Max-Age=60"}}, nil, true},
		{"with nothing personal in it", plain, exchange.Header{{Name: "Cache-Control", Value: "public, max-age=60"}},
			nil, false},
		{"says nothing", personal, nil, nil, false},
		{"stale at once", personal, exchange.Header{{Name: "Cache-Control", Value: "max-age=0"}}, nil, false},
		{"stale for shared caches", personal, exchange.Header{{Name: "Cache-Control", Value: "max-age=60, s-maxage=0"}},
			nil, false},
		{"private", personal, exchange.Header{{Name: "Cache-Control", Value: "private, max-age=60"}}, nil, false},
		{"no-store in a second field", personal, exchange.Header{{Name: "Cache-Control", Value: "public"},
			{Name: "Cache-Control", Value: "no-store"}}, nil, false},
		{"an authorised request", personal, exchange.Header{{Name: "Cache-Control", Value: "max-age=60"}},
			exchange.Header{{Name: "Authorization", Value: "Bearer x"}}, false},
		{"an authorised request, and shared all the same", personal,
			exchange.Header{{Name: "Cache-Control", Value: "s-maxage=60"}},
			exchange.Header{{Name: "Authorization", Value: "Bearer x"}}, true},
		{"varies by everything", personal, exchange.Header{{Name: "Cache-Control", Value: "public"},
			{Name: "Vary", Value: "*"}}, nil, false},
		{"expires later", personal, exchange.Header{{Name: "Date", Value: "Fri, 01 May 2026 10:00:00 GMT"},
			{Name: "Expires", Value: "Fri, 01 May 2026 11:00:00 GMT"}}, nil, true},
		{"has expired", personal, exchange.Header{{Name: "Date", Value: "Fri, 01 May 2026 10:00:00 GMT"},
			{Name: "Expires", Value: "Fri, 01 May 2026 09:00:00 GMT"}}, nil, false},
		{"it came from one", personal, exchange.Header{{Name: "Age", Value: "41"},
			{Name: "Cache-Control", Value: "no-store"}}, nil, true},
		{"an age of nothing", personal, exchange.Header{{Name: "Age", Value: "0"}}, nil, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			capture := call("/bookings/7", "skipper", c.body)
			capture.Response.Header = append(capture.Response.Header, c.header...)
			capture.Request.Header = c.request
			got := strings.Contains(describe(NewJudge(contracts).Capture(capture).Spots), "cacheable-private medium $")
			if got != c.want {
				t.Errorf("told: %v, want %v", got, c.want)
			}
		})
	}
}

func TestHeavyExcess(t *testing.T) {
	contracts := mustRead(t, harbour)
	pad := strings.Repeat("x", 9_000)
	for _, c := range []struct {
		name, body string
		want       bool
	}{
		{"more than half of a large body", `{"id":7,"arrives_on":"2026-05-01","colour":"` + pad + pad + `"}`, true},
		{"more than half of a small one", `{"id":7,"arrives_on":"2026-05-01","colour":"` + pad + `"}`, false},
		{"less than half", `{"id":7,"arrives_on":"` + pad + pad + `","colour":"` + pad + `"}`, false},
	} {
		if got := strings.Contains(describe(NewJudge(contracts).Capture(call("/plain", "visitor", c.body)).Spots),
			"heavy-excess info $"); got != c.want {
			t.Errorf("%s: told %v, want %v", c.name, got, c.want)
		}
	}
}

func TestErrorsThatReveal(t *testing.T) {
	contracts := mustRead(t, harbour)
	for detail, want := range map[string]bool{
		"SELECT * FROM skippers WHERE id = 7":                                         true,
		"near 'select name from skippers where id=7'":                                 true,
		"ERROR: syntax error at or near \\\"FROM\\\"":                                 true,
		"Traceback (most recent call last):\\n  File \\\"app.py\\\", line 3":          true,
		"java.lang.IllegalStateException: x\\n\\tat quay.Berths.load(Berths.java:41)": true,
		"panic: x\\n\\ngoroutine 7 [running]:\\nmain.go:12":                           true,
		"cannot open /var/lib/quay/berths.db":                                         true,
		"C:\\\\quay\\\\api\\\\web.config is missing":                                  true,
		"connect ECONNREFUSED 10.2.0.7:5432":                                          true,
		"no route to db.quay.internal":                                                true,
		"no such berth":                                                               false,
		"select a berth from the list":                                                false,
		"see /data/attributes/email":                                                  false,
		"version 10.2.0 is needed":                                                    false,
		"look at https://docs.quay.example/errors/home":                               false,
	} {
		capture := call("/bookings/7", "skipper", `{"title":"Failed","detail":"`+detail+`"}`)
		for status, fails := range map[int]bool{404: true, 200: false} {
			capture.Response.Status = status
			got := strings.Contains(describe(NewJudge(contracts).Capture(capture).Spots),
				"revealing-error medium $.detail")
			if got != (want && fails) {
				t.Errorf("%q with %d: told %v, want %v", detail, status, got, want && fails)
			}
		}
	}
}

func TestWideObjectsAreHeldAgainstTheirNames(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"a":{`)
	for i := range 200 {
		b.WriteString(`"n` + strings.Repeat("x", i) + `":{"y":1},`)
	}
	b.WriteString(`"nxx":1},"b":{"nxx":1}}`)
	got := describe(NewJudge(nil).Capture(call("/x", "", b.String())).Spots)
	if want := "hidden-duplicate medium $.a.nxx"; got != want {
		t.Errorf("spots:\n%s\nwant:\n%s", got, want)
	}
}

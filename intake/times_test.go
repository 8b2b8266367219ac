package intake

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"inkret/core/exchange"
)

// TestTimesAsToolsWriteThem reads the usual forms in each kind of recording; what is none is no time.
func TestTimesAsToolsWriteThem(t *testing.T) {
	want := time.Date(2020, 1, 1, 10, 0, 0, 0, time.UTC)
	for _, text := range []string{"2020-01-01T10:00:00Z", "2020-01-01T12:00:00+0200", "2020-01-01T12:00:00.000+02:00",
		"2020-01-01 10:00:00", "2020-01-01 10:00:00.000", "2020-01-01 10:00:00,000", "2020-01-01 10:00:00 UTC",
		"2020-01-01 12:00:00 +0200", "2020-01-01T05:00:00-05", "20200101T100000Z", "20200101100000",
		"Wed, 01 Jan 2020 10:00:00 GMT", "2020-01-01T10:00:00"} {
		line := fmt.Sprintf(`{"started":%q,"request":{"url":"https://q.example/a"},"response":{"status":200,"body":{}}}`, text)
		har := fmt.Sprintf(`{"log":{"entries":[{"startedDateTime":%q,"request":{"method":"GET","url":"https://q.example/a"},"response":{"status":200,"content":{"text":"{}"}}}]}}`, text)
		for kind, recording := range map[string]string{"line": line, "HAR": har} {
			if got := startedIn(t, recording); !got.Equal(want) {
				t.Errorf("%q in a %s is %v", text, kind, got)
			}
		}
	}
	for _, text := range []string{"", "yesterday", "2020-13-01T10:00:00Z", "10:00", "1577872800", "2020-01-01"} {
		if got := startedIn(t, fmt.Sprintf(`{"started":%q,"request":{"url":"https://q.example/a"},"response":{"status":200,"body":{}}}`, text)); !got.IsZero() {
			t.Errorf("%q is %v", text, got)
		}
	}
}

func startedIn(t *testing.T, recording string) (started time.Time) {
	t.Helper()
	n := 0
	if err := Read("it", strings.NewReader(recording), Options{}, func(c *exchange.Capture) error {
		started = c.Started
		n++
		return nil
	}); err != nil || n != 1 {
		t.Fatalf("%d captures, %v in %s", n, err, recording)
	}
	return started
}

package intake

import (
	"strings"
	"time"
)

// timeForms lists forms of times in recordings besides RFC 3339: zones without colon or after a blank, a blank or
// comma in place of T or the point, no zone (meaning UTC), and HTTP dates (RFC 9110 section 5.6.7).
var timeForms = []string{
	time.RFC3339Nano, "2006-01-02T15:04:05.999999999Z0700", "2006-01-02T15:04:05.999999999 Z07:00",
	"2006-01-02T15:04:05.999999999 Z0700", "2006-01-02T15:04:05.999999999Z07", "2006-01-02T15:04:05.999999999",
	"20060102T150405Z0700", "20060102150405", time.RFC1123, time.RFC1123Z, time.RFC850, time.ANSIC,
}

// timeOf parses a recorded time; the zero time if it cannot be parsed.
func timeOf(text string) time.Time {
	text = strings.TrimSpace(text)
	if len(text) > len("2006-01-02 ") && text[4] == '-' && text[10] == ' ' {
		text = text[:10] + "T" + text[11:]
	}
	if len(text) > 19 && text[19] == ',' {
		text = text[:19] + "." + text[20:]
	}
	text = strings.TrimSuffix(text, " UTC")
	for _, form := range timeForms {
		if t, err := time.Parse(form, text); err == nil {
			return t
		}
	}
	return time.Time{}
}

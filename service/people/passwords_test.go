package people

import (
	"strings"
	"testing"
)

func TestPasswordsThatAreSoonGuessed(t *testing.T) {
	for password, says := range map[string]string{
		"short": "at least 12", strings.Repeat("long enough ", 100): "at most 1024", "passwordpassword": "most common",
		"123456789012": "most common", "PasswordPassword!": "most common",
		"abababababab": "repeats", "qqqqqqqqqqqqqqqqq": "repeats", "xyz1xyz1xyz1xyz1": "repeats",
		"noor@quay.example": "your own name or address", "Noor Adeyar 1990": "your own name or address",
		"low tide at nine": "", "driftwood lamp seventeen": "", "ebb and flood at noon": "",
	} {
		err := fitPassword(password, "Noor Adeyar", "noor@quay.example")
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%q: %v, want %q", password, err, says)
		}
	}
	if n := len(common()); n < 40_000 {
		t.Errorf("only %d common passwords are known", n)
	}
}

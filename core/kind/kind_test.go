package kind

import "testing"

// TestEveryKindIsWhole checks that nothing of a kind was forgotten, and that it is read back by its name.
func TestEveryKindIsWhole(t *testing.T) {
	for _, k := range All() {
		if k.String() == "" || k.CWE() == 0 || k.Mend() == "" {
			t.Errorf("kind %d is %q, with CWE %d, mended %q", k, k, k.CWE(), k.Mend())
		}
		if parsed, ok := Parse(k.String()); !ok || parsed != k {
			t.Errorf("%s is read back as %v", k, parsed)
		}
		if k.Whole() && k.Member() || k.Exposure() && !k.Member() || k.Sensitive() && !k.Exposure() {
			t.Errorf("%s is of one member and of the whole, or sensitive and no exposure", k)
		}
	}
}

package intake

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
)

// TestUnquotingAgrees decodes strings by chance, with every escape, lone surrogates and what is not UTF-8.
func TestUnquotingAgrees(t *testing.T) {
	parts := []string{"a", "é", "🌊", `\"`, `\\`, `\/`, `\b`, `\f`, `\n`, `\r`, `\t`, `\u0000`, `\u00e9`, `\u20AC`, `\ud83c\udf0a`,
		`\ud83c`, `\udf0a`, `\ud83cx`, `\udf0a\ud83c`, "\xff", "\xe2\x82", "plain text"}
	for seed := range uint64(20_000) {
		r := rand.New(rand.NewPCG(seed, 3))
		text := []byte{'"'}
		for range r.IntN(8) {
			text = append(text, parts[r.IntN(len(parts))]...)
		}
		text = append(text, '"')
		want, _ := jsontext.AppendUnquote(nil, text)
		if got := unquoted(text); !bytes.Equal(got, want) {
			t.Fatalf("seed %d: %q is %q, want %q", seed, text, got, want)
		}
	}
}

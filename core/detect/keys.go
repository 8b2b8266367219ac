package detect

import (
	"bytes"
	"strings"
)

// Keys of well-known issuers, by the prefix, alphabet and length that their public documentation gives.

// issuedKey is a form of keys.
type issuedKey struct {
	prefix string
	of     string // the bytes behind it, by name of alphabets
	least  int    // of them
	most   int    // 0 is no bound; what is longer is something else
	holds  string // this occurs among them
}

// issuedKeys lists the forms, with where they are documented.
var issuedKeys = []issuedKey{
	// AWS, "IAM identifiers"
	{"AKIA", "capitals", 16, 16, ""}, {"ASIA", "capitals", 16, 16, ""},
	// GitHub, "GitHub's token formats"
	{"ghp_", "plain", 36, 0, ""}, {"gho_", "plain", 36, 0, ""}, {"ghu_", "plain", 36, 0, ""},
	{"ghs_", "plain", 36, 0, ""}, {"ghr_", "plain", 36, 0, ""}, {"github_pat_", "word", 60, 0, "_"},
	// GitLab, "Token overview: token prefixes"
	{"glpat-", "base64url", 20, 0, ""}, {"gldt-", "base64url", 20, 0, ""}, {"glrt-", "base64url", 20, 0, ""},
	{"glcbt-", "base64url", 20, 0, ""}, {"glptt-", "base64url", 20, 0, ""}, {"glft-", "base64url", 20, 0, ""},
	{"glsoat-", "base64url", 20, 0, ""}, {"glimt-", "base64url", 20, 0, ""}, {"glagent-", "base64url", 20, 0, ""},
	// Slack, "Token types"
	{"xoxb-", "dashed", 20, 0, ""}, {"xoxp-", "dashed", 20, 0, ""}, {"xoxa-", "dashed", 20, 0, ""},
	{"xoxr-", "dashed", 20, 0, ""}, {"xoxs-", "dashed", 20, 0, ""}, {"xoxe-", "dashed", 20, 0, ""},
	{"xoxe.", "dotted", 20, 0, ""}, {"xapp-", "dashed", 40, 0, ""},
	// Stripe, "API keys" and "Receive events in your webhook endpoint"
	{"sk_live_", "plain", 20, 0, ""}, {"sk_test_", "plain", 20, 0, ""}, {"rk_live_", "plain", 20, 0, ""},
	{"rk_test_", "plain", 20, 0, ""}, {"whsec_", "base64", 24, 0, ""},
	// Google, "Use API keys" and "OAuth 2.0"
	{"AIza", "base64url", 35, 0, ""}, {"GOCSPX-", "base64url", 28, 0, ""}, {"ya29.", "base64url", 40, 0, ""},
	{"1//0", "base64url", 40, 0, ""},
	// registries of packages and images: npm, PyPI, RubyGems, crates.io, Docker Hub, NuGet
	{"npm_", "plain", 36, 0, ""}, {"pypi-AgE", "base64url", 40, 0, ""}, {"rubygems_", "hex", 48, 48, ""},
	{"cio", "plain", 32, 32, ""}, {"dckr_pat_", "base64url", 27, 0, ""}, {"oy2", "small", 43, 43, ""},
	// SendGrid, DigitalOcean, Hugging Face, Anthropic, OpenAI, Databricks
	{"SG.", "dotted", 50, 0, "."}, {"dop_v1_", "hex", 64, 64, ""}, {"doo_v1_", "hex", 64, 64, ""},
	{"dor_v1_", "hex", 64, 64, ""}, {"hf_", "plain", 34, 0, ""}, {"sk-ant-", "base64url", 40, 0, ""},
	{"sk-proj-", "base64url", 40, 0, ""}, {"sk-svcacct-", "base64url", 40, 0, ""}, {"dapi", "hex", 32, 32, ""},
	// HashiCorp Vault, "Tokens"
	{"hvs.", "base64url", 24, 0, ""}, {"hvb.", "base64url", 24, 0, ""}, {"hvr.", "base64url", 24, 0, ""},
	// Linear, Shopify, Square, PlanetScale, Doppler, Grafana, New Relic, Sentry, Postman, Figma
	{"lin_api_", "plain", 40, 0, ""}, {"shpat_", "hex", 32, 32, ""}, {"shpca_", "hex", 32, 32, ""},
	{"shppa_", "hex", 32, 32, ""}, {"shpss_", "hex", 32, 32, ""}, {"sq0atp-", "base64url", 22, 0, ""},
	{"sq0csp-", "base64url", 43, 0, ""}, {"pscale_tkn_", "dotted", 32, 0, ""}, {"pscale_pw_", "dotted", 32, 0, ""},
	{"dp.pt.", "plain", 40, 0, ""}, {"dp.st.", "dotted", 40, 0, ""}, {"glsa_", "word", 32, 0, "_"},
	{"glc_", "base64", 32, 0, ""}, {"NRAK-", "capitals", 27, 27, ""}, {"sntrys_", "base64", 40, 0, ""},
	{"sntryu_", "hex", 64, 64, ""}, {"PMAK-", "dashed", 58, 60, "-"}, {"figd_", "base64url", 40, 0, ""},
	// age(1)
	{"AGE-SECRET-KEY-1", "capitals", 58, 58, ""},
}

// alphabets of keys, besides letters and digits.
var alphabets = map[string]func(c byte) bool{
	"plain":     letterOrDigit,
	"capitals":  func(c byte) bool { return upper(c) || digit(c) },
	"small":     func(c byte) bool { return letterOrDigit(c) && !upper(c) },
	"hex":       func(c byte) bool { return digit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' },
	"word":      func(c byte) bool { return letterOrDigit(c) || c == '_' },
	"dashed":    func(c byte) bool { return letterOrDigit(c) || c == '-' },
	"base64url": base64url,
	"base64":    func(c byte) bool { return base64url(c) || c == '+' || c == '/' || c == '=' },
	"dotted":    func(c byte) bool { return base64url(c) || c == '.' },
}

// keysAt holds the forms by their first byte, keyLetters the alphabets of each as a table.
var (
	keysAt     [256][]*issuedKey
	keyLetters = map[string]*[256]bool{}
)

func init() {
	for name, holds := range alphabets {
		t := new([256]bool)
		for c := range t {
			t[c] = holds(byte(c))
		}
		keyLetters[name] = t
	}
	for i := range issuedKeys {
		k := &issuedKeys[i]
		keysAt[k.prefix[0]] = append(keysAt[k.prefix[0]], k)
	}
}

// shortestKey is the length of the shortest of these keys.
const shortestKey = 20

// accessKey finds a key of a well-known issuer anywhere in v.
func accessKey(v []byte) Hit {
	inWord := false
	for i := 0; i+shortestKey <= len(v); i++ {
		c := v[i]
		if !inWord {
			for _, k := range keysAt[c] {
				if end := k.match(v, i); end > 0 {
					return secret("access key", i, end)
				}
			}
			if digit(c) {
				if end := botToken(v, i); end > 0 {
					return secret("access key", i, end)
				}
			}
		}
		inWord = letterOrDigit(c)
	}
	return Hit{}
}

// match returns the end of the key that begins at a byte, or 0.
func (k *issuedKey) match(v []byte, at int) int {
	if len(v)-at < len(k.prefix)+k.least || v[at+1] != k.prefix[1] || string(v[at:at+len(k.prefix)]) != k.prefix {
		return 0
	}
	from, table := at+len(k.prefix), keyLetters[k.of]
	end := from
	for end < len(v) && end-from < longestPart && table[v[end]] {
		end++
	}
	n := end - from
	if n < k.least || k.most > 0 && (n > k.most || end < len(v) && letterOrDigit(v[end])) ||
		!strings.Contains(string(v[from:end]), k.holds) || !varied(v[from:end]) {
		return 0
	}
	return end
}

// varied reports whether a text is no placeholder: it has a digit or capital, and more than a few different bytes.
func varied(v []byte) bool {
	const least = 6
	var seen [256]bool
	kinds, figure := 0, false
	for _, c := range v {
		figure = figure || digit(c) || upper(c)
		if !seen[c] {
			seen[c] = true
			kinds++
		}
	}
	return figure && kinds >= least
}

// botToken returns the end of a token as Telegram documents it ("Bot API, Authorizing your bot"), or 0: a number, a
// colon, 35 of base64url.
func botToken(v []byte, at int) int {
	const length, fewest, most = 35, 8, 10
	end := figures.run(v, at)
	if n := end - at; n < fewest || n > most || end >= len(v) || v[end] != ':' {
		return 0
	}
	from := end + 1
	for end = from; end < len(v) && end-from <= length && base64url(v[end]); {
		end++
	}
	if end-from != length || !bytes.HasPrefix(v[from:], []byte("AA")) || !varied(v[from:end]) {
		return 0
	}
	return end
}

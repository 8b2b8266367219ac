package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inkret/api/wire"
)

// notations are bodies of an API that does not speak JSON: by path, the media type, a body that leaks an address and a
// hash, and the paths of both.
var notations = map[string]struct{ media, body, email, hash string }{
	"/export.csv": {"text/csv; charset=utf-8",
		"id,email,note\r\n7,ada@quay.example,\"two\r\nlines\"\r\n8,bo@quay.example," + leakedHash + "\r\n",
		"$[*].email", "$[*].note"},
	"/export.tsv": {"text/tab-separated-values", "id\temail\tnote\n7\tada@quay.example\t" + leakedHash + "\n",
		"$[*].email", "$[*].note"},
	"/cbor": {"application/cbor", "\xa3\x62id\x07" + packedText("email", 0x60, 23, 0x79) +
		packedText("ada@quay.example", 0x60, 23, 0x79) + packedText("note", 0x60, 23, 0x79) +
		packedText(leakedHash, 0x40, 23, 0x59), "$.email", "$.note"},
	"/problem": {"application/concise-problem-details+cbor", "\xa2\x05\x07\x06\xa2" + packedText("email", 0x60, 23,
		0x79) +
		packedText("ada@quay.example", 0x60, 23, 0x79) + packedText("note", 0x60, 23, 0x79) +
		packedText(leakedHash, 0x60, 23, 0x79), "$[*].email", "$[*].note"},
	"/packed": {"application/vnd.msgpack", "\x92\xc0\x82" + packedText("email", 0xa0, 31, 0xda) +
		packedText("ada@quay.example", 0xa0, 31, 0xda) + packedText("note", 0xa0, 31, 0xda) +
		packedText(leakedHash, 0xa0, 31, 0xda), "$[*].email", "$[*].note"},
	"/stream": {"application/stream+json", `{"id":7}{"email":"ada@quay.example"}` + "\n" + `{"note":"` + leakedHash +
		`"}`,
		"$[*].email", "$[*].note"},
}

const leakedHash = "$2b$10$N9qo8uLOickgx2ZMRZoMyeIjZAgcfl7p92ldGxad68LJZdL17lhWy"

// TestNotationsOverEveryPath has an API answer in other notations, and looks for the same findings whichever way its
// answers come: from a HAR, as HTTP messages, from what the recorder writes, by upload and live.
func TestNotationsOverEveryPath(t *testing.T) {
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", notations[r.URL.Path].media)
		io.WriteString(w, notations[r.URL.Path].body)
	}))
	defer upstream.Close()
	server, home := startDemo(t)
	signIn(t, server, home)
	dir := t.TempDir()
	recorded := filepath.Join(dir, "recorded.lines")
	for _, to := range [][]string{{"--to", recorded}, {"--name", "other notations"}} {
		r := record(t, home, nil, append([]string{"--upstream", upstream.URL, "--as",
			"https://api.fennick-quay.example"},
			to...)...)
		for _, path := range slices.Sorted(maps.Keys(notations)) {
			if got := call(t, r.url+path); got != notations[path].body {
				t.Errorf("%s came through the recorder as %q", path, got)
			}
		}
		if status := r.end(t); status != 0 {
			t.Fatalf("the recorder ends with %d: %s", status, r.said)
		}
	}
	har, messages := filepath.Join(dir, "all.har"), filepath.Join(dir, "all.http")
	writeNotations(t, har, messages)

	want := map[string]bool{}
	for path, n := range notations {
		want["GET "+path+" "+n.email+" sensitive-field"] = true
		want["GET "+path+" "+n.hash+" secret-value"] = true
	}
	for _, file := range []string{har, messages, recorded} {
		r := run(t, home, nil, "check", "--format", "json", file)
		found := map[string]bool{}
		for _, f := range decode[checked](t, r.out).Findings {
			found[f.Endpoint+" "+f.Path+" "+f.Kind] = true
		}
		if !maps.Equal(found, want) || strings.Contains(r.out, leakedHash) {
			t.Errorf("%s gives %v, want %v", filepath.Base(file), slices.Sorted(maps.Keys(found)),
				slices.Sorted(maps.Keys(want)))
		}
	}
	found := func() map[string]bool {
		found := map[string]bool{}
		for _, f := range decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--format", "json", "--size",
			"500").out).Items {
			path := strings.TrimPrefix(f.Endpoint, "GET ")
			if notations[path].media != "" && f.Kind != "unknown-endpoint" { // the demo has contracts, none of these
				found[f.Endpoint+" "+f.Path+" "+f.Kind] = true
			}
		}
		return found
	}
	waitFor(t, "the recording is judged", func() bool { return len(found()) >= len(want) })
	if got := found(); !maps.Equal(got, want) {
		t.Errorf("live it is %v", slices.Sorted(maps.Keys(got)))
	}
	if r := run(t, home, nil, "capture", "upload", har); r.status != 0 ||
		!strings.Contains(r.out, "6 captures (6 judged, 0 skipped), 18 findings, 0 of them new") {
		t.Errorf("uploaded, it is exit %d: %s%s", r.status, r.out, r.err)
	}
	if got := found(); !maps.Equal(got, want) {
		t.Errorf("after the upload there is %v", got)
	}
	token := tokenOf(t, server, demoReviewer)
	for _, c := range decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--search", "/cbor", "--format",
		"json").out).Items {
		status, text, _ := send(t, http.DefaultClient, "GET", fmt.Sprintf("%s/api/v1/captures/%d", server.url, c.ID),
			"",
			"Authorization", "Bearer "+token)
		if status != http.StatusOK || !strings.Contains(text, `"note"`) || strings.Contains(text, leakedHash) ||
			strings.Contains(text, "ada@quay.example") {
			t.Errorf("it is shown with %d as %s", status, text)
		}
	}
}

// writeNotations writes the answers as a HAR and as HTTP messages.
func writeNotations(t *testing.T, har, messages string) {
	t.Helper()
	var entries []any
	var wire strings.Builder
	for _, path := range slices.Sorted(maps.Keys(notations)) {
		n := notations[path]
		one := inHAR(path, n.media, n.body)
		one["request"].(map[string]any)["url"] = "https://api.fennick-quay.example" + path
		content := one["response"].(map[string]any)["content"].(map[string]any)
		content["text"], content["encoding"] = base64.StdEncoding.EncodeToString([]byte(n.body)), "base64"
		entries = append(entries, one)
		fmt.Fprintf(&wire, "GET https://api.fennick-quay.example%s HTTP/1.1\r\n\r\nHTTP/1.1 200 OK\r\n"+
			"Content-Type: %s\r\nContent-Length: %d\r\n\r\n%s", path, n.media, len(n.body), n.body)
	}
	data, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "entries": entries}})
	if err != nil {
		t.Fatal(err)
	}
	for file, data := range map[string][]byte{har: data, messages: []byte(wire.String())} {
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

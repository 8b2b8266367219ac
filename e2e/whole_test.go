package e2e

import (
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
	"inkret/core/detect/labelled"
)

// longID returns the nth of many numbers of 16 digits, whose check digit (ISO/IEC 7812-1) is right or wrong.
func longID(n int, right bool) string {
	number := []byte(labelled.WithCheckDigit(fmt.Sprintf("4%014d", 7_919*n+123_457)))
	if last := &number[len(number)-1]; !right {
		*last = '0' + (*last-'0'+3)%10
	}
	return string(number)
}

// idList returns a body with n numbers, of which the first few have the right check digit.
func idList(from, n, right int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf(`{"ref":"%s"}`, longID(from+i, i < right)))
	}
	return `{"items":[` + strings.Join(all, ",") + `]}`
}

// byNumber returns a body with a member for each of n numbers, of which the first few have the right check digit.
func byNumber(from, n, right int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf(`"%s":1`, longID(from+i, i < right)))
	}
	return `{"ref":{` + strings.Join(all, ",") + `}}`
}

// byLogin returns a body with an address for each of n logins.
func byLogin(from, n int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf(`"%c%c%c":{"ref":"%d@quay.example"}`, 'a'+(from+i)/26/26, 'a'+(from+i)/26%26,
			'a'+(from+i)%26, i))
	}
	return `{"by":{` + strings.Join(all, ",") + `}}`
}

// wholeCalls are calls and their answers: of /ids, five of thirty fit by chance, over five calls.
func wholeCalls() (paths []string, bodies map[string]string) {
	bodies = map[string]string{"/few": idList(100, 19, 1), "/half": idList(200, 20, 10), "/less": idList(300, 20, 9)}
	for i := range 5 {
		bodies[fmt.Sprint("/ids?page=", i)] = idList(1000+10*i, 6, 1)
		bodies[fmt.Sprint("/cards?page=", i)] = idList(2000+10*i, 6, 6)
		bodies[fmt.Sprint("/keyed?page=", i)] = byNumber(5000+10*i, 6, 1)
		bodies[fmt.Sprint("/vault?page=", i)] = byNumber(6000+10*i, 6, 6)
		bodies[fmt.Sprint("/people?page=", i)] = byLogin(130*i, 130)
		bodies[fmt.Sprint("/crew?page=", i)] = byLogin(i, 1)
	}
	for i := range 20 {
		bodies[fmt.Sprintf("/orders?ref=%s", longID(3000+i, i == 7))] = `{"ok":true}`
		bodies[fmt.Sprintf("/receipts?ref=%s", longID(4000+i, i > 3))] = `{"ok":true}`
	}
	return slices.Sorted(maps.Keys(bodies)), bodies
}

// wholeFindings are what they show.
var wholeFindings = map[string]bool{"GET /vault $.ref[*]": true, "GET /cards $.items[*].ref": true,
	"GET /few $.items[*].ref":  true,
	"GET /half $.items[*].ref": true, "GET /receipts query >> $.ref": true, "GET /people $.by[*].ref": true,
	"GET /crew $.by.aaa.ref": true, "GET /crew $.by.aab.ref": true, "GET /crew $.by.aac.ref": true,
	"GET /crew $.by.aad.ref": true, "GET /crew $.by.aae.ref": true}

// TestTheWholeRunDecidesOverEveryPath has an API answer with long numbers, a few of which pass for card numbers
// by chance, and with objects whose names are data, and looks for the same findings whichever way the answers
// come, and in whatever order.
func TestTheWholeRunDecidesOverEveryPath(t *testing.T) {
	paths, bodies := wholeCalls()
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, bodies[r.URL.RequestURI()])
	}))
	defer upstream.Close()
	server, home := startDemo(t)
	signIn(t, server, home)
	dir := t.TempDir()
	recorded := filepath.Join(dir, "recorded.lines")
	for _, to := range [][]string{{"--to", recorded}, {"--name", "the whole"}} {
		r := record(t, home, nil, append([]string{"--upstream", upstream.URL, "--as",
			"https://api.fennick-quay.example"}, to...)...)
		for _, path := range paths {
			call(t, r.url+path)
		}
		if status := r.end(t); status != 0 {
			t.Fatalf("the recorder ends with %d: %s", status, r.said)
		}
	}
	lines, err := os.ReadFile(recorded)
	if err != nil {
		t.Fatal(err)
	}
	all := strings.SplitAfter(string(lines), "\n")
	slices.Reverse(all)
	backwards := strings.Join(all, "")
	halves := []string{filepath.Join(dir, "one.lines"), filepath.Join(dir, "two.lines")}
	for i, text := range []string{strings.Join(all[:len(all)/2], ""), strings.Join(all[len(all)/2:], "")} {
		if err := os.WriteFile(halves[i], []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for name, r := range map[string]result{
		"a file":    run(t, home, nil, "check", "--format", "json", recorded),
		"backwards": run(t, home, strings.NewReader(backwards), "check", "--format", "json", "-"),
		"two files": run(t, home, nil, "check", "--format", "json", halves[0], halves[1]),
	} {
		found := map[string]bool{}
		for _, f := range decode[checked](t, r.out).Findings {
			found[f.Endpoint+" "+f.Path] = true
		}
		if !maps.Equal(found, wholeFindings) || r.status != 1 {
			t.Errorf("%s gives exit %d and %v, want %v", name, r.status, slices.Sorted(maps.Keys(found)),
				slices.Sorted(maps.Keys(wholeFindings)))
		}
	}
	found := func() map[string]bool {
		found := map[string]bool{}
		for _, f := range decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--format", "json", "--size",
			"500").out).Items {
			if strings.HasSuffix(strings.TrimSuffix(f.Path, "[*]"), ".ref") {
				found[f.Endpoint+" "+f.Path] = true
			}
		}
		return found
	}
	waitFor(t, "the recording is judged", func() bool { return maps.Equal(found(), wholeFindings) })
	if r := run(t, home, nil, "capture", "upload", recorded); r.status != 0 {
		t.Errorf("uploaded, it is exit %d: %s%s", r.status, r.out, r.err)
	}
	if got := found(); !maps.Equal(got, wholeFindings) {
		t.Errorf("after the upload there is %v", slices.Sorted(maps.Keys(got)))
	}
	list := decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--search", "/ids?page", "--format",
		"json").out)
	if len(list.Items) != 10 {
		t.Fatalf("%d captures of /ids are listed", len(list.Items))
	}
	token := tokenOf(t, server, demoReviewer)
	for _, c := range list.Items {
		if n := c.Findings; n != 1 { // nobody wrote a contract for it
			t.Errorf("capture %d has %d findings", c.ID, n)
		}
		status, text, _ := send(t, http.DefaultClient, "GET", server.url+fmt.Sprintf("/api/v1/captures/%d", c.ID), "",
			"Authorization", "Bearer "+token)
		if status != http.StatusOK || strings.Contains(text, "secret-value") || !strings.Contains(text, "ref") {
			t.Errorf("capture %d is shown as %d %s", c.ID, status, text)
		}
	}
}

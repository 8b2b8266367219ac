package scan

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"testing/iotest"

	"inkret/core/contract"
	"inkret/core/exchange"
)

// long makes of a capture one whose body is not held.
func long(c *exchange.Capture, open func() io.Reader) *exchange.Capture {
	other := *c
	other.Response.Body, other.Response.Long = nil, exchange.NewLong(open, c.Response.Header)
	return &other
}

// throughWindow judges a capture as if its body were too long to be held, through a window
// of a few bytes that is filled byte by byte.
func throughWindow(contracts *contract.Contracts, c *exchange.Capture) Outcome {
	j := NewJudge(contracts)
	j.ahead = 16
	body := c.Response.Body
	return j.Capture(long(c, func() io.Reader { return iotest.OneByteReader(bytes.NewReader(body)) }))
}

// sameVerdict tells how two outcomes of one body differ; empty where they do not.
func sameVerdict(a, b *Outcome) string {
	if a.Skipped != b.Skipped || a.Excess != b.Excess || len(a.Spots) != len(b.Spots) {
		return fmt.Sprintf("skipped %q and %q, excess %d and %d, %d and %d spots", a.Skipped, b.Skipped, a.Excess,
			b.Excess, len(a.Spots), len(b.Spots))
	}
	for i := range a.Spots {
		x, y := a.Spots[i], b.Spots[i]
		x.pointerEnd, y.pointerEnd, x.Grant, y.Grant = 0, 0, nil, nil
		if !reflect.DeepEqual(x, y) {
			return fmt.Sprintf("spot %d is\n%+v\nand\n%+v", i, x, y)
		}
	}
	return ""
}

// aBody makes a body that somewhat resembles those of the harbour.
func aBody(r *rand.Rand) string {
	names := []string{"data", "items", "id", "ref", "skipper", "email", "charges", "note", "desk_note", "arrives_on",
		"password", "links", "x", `\u0069d`, "a b", "2026"}
	var b strings.Builder
	var value func(depth int)
	blank := func() { b.WriteString(strings.Repeat(" ", r.IntN(6)*r.IntN(6))) }
	value = func(depth int) {
		switch n := r.IntN(9); {
		case depth < 5 && (n < 3 || depth == 0):
			b.WriteByte('{')
			for i := range r.IntN(5) {
				if i > 0 {
					b.WriteByte(',')
				}
				blank()
				fmt.Fprintf(&b, `"%s":`, names[r.IntN(len(names))])
				blank()
				value(depth + 1)
			}
			blank()
			b.WriteByte('}')
		case depth < 5 && n < 5:
			b.WriteByte('[')
			for i := range r.IntN(4) {
				if i > 0 {
					b.WriteByte(',')
				}
				value(depth + 1)
			}
			b.WriteByte(']')
		case n < 7:
			b.WriteString([]string{"7", "-12.5e3", "true", "null", "1234567890123456789", "0"}[r.IntN(6)])
		default:
			b.WriteString([]string{`"x"`, `"ada@sails.example"`, `"2026-05-01"`, `"` + bcrypt + `"`, `""`,
				`"a\u00e9\n\ud83d\ude00 and some more text, longer than the window is"`,
				`"{\"email\":\"a@b.example\"}"`}[r.IntN(7)])
		}
	}
	value(0)
	return b.String()
}

func TestAWindowChangesNothing(t *testing.T) {
	contracts := mustRead(t, harbour)
	r := rand.New(rand.NewPCG(3, 4))
	judged, found := 0, 0
	for range 20_000 {
		body := aBody(r)
		if r.IntN(4) == 0 { // it breaks off, or something in it is not JSON
			at := r.IntN(len(body))
			body = body[:at] + []string{"", "?", "\x00", `"`}[r.IntN(4)] + body[at+r.IntN(2):]
		}
		if body == "" {
			continue
		}
		c := call([]string{"/bookings/7", "/bookings", "/office-only", "/split", "/free", "/nowhere",
			"/plain"}[r.IntN(7)], []string{"visitor", "office"}[r.IntN(2)], body)
		held := NewJudge(contracts).Capture(c)
		window := throughWindow(contracts, c)
		if differ := sameVerdict(&held, &window); differ != "" {
			t.Fatalf("%s of %s, held and through a window: %s", c.Request.URL.Path, body, differ)
		}
		if held.Skipped == "" {
			judged++
		}
		found += len(held.Spots)
	}
	if judged < 5_000 || found < 50_000 {
		t.Errorf("%d bodies were judged and %d spots found", judged, found)
	}
}

// TestALongBodyTakesNoRoomForEachSpot has more leaks than are kept.
func TestALongBodyTakesNoRoomForEachSpot(t *testing.T) {
	const n = 100_000
	body := `{"items":[` + strings.Repeat(`{"id":1,"ref":"a","email":"ada@sails.example"},`, n) + `{"id":1,"ref":"a"}]}`
	c := call("/bookings", "visitor", body)
	held := NewJudge(mustRead(t, harbour)).Capture(c)
	out := NewJudge(mustRead(t, harbour)).Capture(long(c, func() io.Reader { return strings.NewReader(body) }))
	spots, bytes := 0, 0
	for i := range out.Spots {
		spots += 1 + out.Spots[i].Folded
		bytes += out.Spots[i].Bytes
	}
	weight := 0
	for i := range held.Spots {
		weight += held.Spots[i].Bytes
	}
	if len(held.Spots) < n || spots != len(held.Spots) || bytes != weight || out.Excess != held.Excess ||
		out.Bytes != len(body) || len(out.Spots) > 2*manySpots {
		t.Errorf("%d spots stand for %d of %d bytes, excess %d of %d; held it has %d of %d bytes, excess %d",
			len(out.Spots), spots, bytes, out.Excess, out.Bytes, len(held.Spots), weight, held.Excess)
	}
}

func TestLongBodies(t *testing.T) {
	contracts := mustRead(t, harbour)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	io.WriteString(w, "\xef\xbb\xbf"+`{"id":7,"arrives_on":"2026-05-01","email":"a@b.example"}`)
	w.Close()
	broken := errors.New("the disk is gone")
	for _, c := range []struct {
		name, path, media, coding string
		open                      func() io.Reader
		spots, skipped            string
	}{
		{"read again where `at` is absent", "/bookings/7", "application/json", "",
			func() io.Reader { return strings.NewReader(`{"id":7,"ref":"x","email":"a@b.example"}`) },
			"missing-field low $.data\nsensitive-field high $.email", ""},
		{"packed, with a byte order mark", "/plain", "application/json", "gzip",
			func() io.Reader { return bytes.NewReader(packed.Bytes()) }, "sensitive-field high $.email", ""},
		{"packed, and breaking off", "/plain", "application/json", "gzip",
			func() io.Reader { return bytes.NewReader(packed.Bytes()[:packed.Len()-12]) },
			"sensitive-field high $.email", "the body cannot be read further (unexpected EOF)"},
		{"a coding that is not known", "/plain", "application/json", "gzip, rot13, zstd",
			func() io.Reader { return strings.NewReader("\x28\xb5\x2f\xfd") }, "", "rot13"},
		{"the file fails in the middle", "/plain", "application/json", "", func() io.Reader {
			return io.MultiReader(strings.NewReader(`{"id":7,"email":"a@b.example","arrives_on":"20`),
				iotest.ErrReader(broken))
		}, "sensitive-field high $.email", "the disk is gone) at byte 46"},
		{"another notation", "/plain", "text/html", "", nil, "",
			"over 64 MiB, JSON alone is read, and this is text/html"},
		{"another charset", "/plain", "application/json; charset=latin1", "", nil, "",
			"UTF-8 alone is read, and this is latin1"},
		{"a swept one", "/nowhere", "application/json", "",
			func() io.Reader { return strings.NewReader(`[{"password":"x"}]`) },
			"sensitive-field critical $[*].password\nunknown-endpoint low $", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			capture := call(c.path, "office", "")
			capture.Response.Header = exchange.Header{{Name: "Content-Type", Value: c.media}, {Name: "Content-Encoding",
				Value: c.coding}}
			out := NewJudge(contracts).Capture(long(capture, c.open))
			if got := describe(out.Spots); got != c.spots || !strings.Contains(out.Skipped, c.skipped) ||
				(out.Skipped == "") != (c.skipped == "") {
				t.Errorf("skipped because %q, spots\n%s\nwant\n%s", out.Skipped, got, c.spots)
			}
		})
	}
}

// TestAValueThatTheWindowDoesNotHold is read through a wider one.
func TestAValueThatTheWindowDoesNotHold(t *testing.T) {
	contracts := mustRead(t, harbour)
	opened := 0
	body := `{"id":7,"note":"` + strings.Repeat("quay ", 600_000) + `","email":"a@b.example"}`
	out := NewJudge(contracts).Capture(long(call("/plain", "visitor", ""),
		func() io.Reader { opened++; return strings.NewReader(body) }))
	want := "missing-field low $.arrives_on\nunexpected-field medium $.note\nsensitive-field high " +
		"$.email\nheavy-excess info $"
	if got := describe(out.Spots); got != want || out.Bytes != len(body) || opened < 2 ||
		out.Spots[1].Bytes < 3_000_000 {
		t.Errorf("opened %d times, skipped because %q, %d of %d bytes, spots\n%s", opened, out.Skipped, out.Bytes,
			len(body), got)
	}
}

func TestALongBodyIsNotPictured(t *testing.T) {
	contracts := mustRead(t, harbour)
	out := NewJudge(contracts).Watch(long(call("/plain", "visitor", ""),
		func() io.Reader { return strings.NewReader("{}") }), NewWire(contracts))
	if !strings.Contains(out.Skipped, "cannot be shown") {
		t.Errorf("skipped because %q", out.Skipped)
	}
}

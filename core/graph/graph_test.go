package graph

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"
)

const quay = `type Query { berth(id: ID, near: Near): Berth find: [Hit] }
interface Node { id: ID }
union Hit = Berth | Booking
input Near { lat: Float }
type Berth implements Node { id: ID label: String bookings(first: Int): [Booking] }
type Booking implements Node { id: ID ref: String berth: Berth }
`

func asksFor(t testing.TB, s *Schema, body string) (all []string) {
	t.Helper()
	queries, _, err := Ask(s, "POST", &url.URL{}, "application/json", []byte(body))
	if err != nil {
		return []string{err.Error()}
	}
	for _, q := range queries {
		q.Data.Each(func(typeName, field string) { all = append(all, typeName+"."+field) })
	}
	return all
}

func asJSON(t testing.TB, query string) string {
	t.Helper()
	text, err := json.Marshal(map[string]any{"query": query, "variables": map[string]string{"secret": "hunter-2"}})
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

var queries = []string{
	`{ berth(id: "hunter-2", near: {lat: 51.2}) { label } }`,
	`query Q($secret: ID = "hunter-2") { a: berth(id: $secret) { ...f } find { __typename ... on Node { id } } }
		fragment f on Berth @keep(why: "hunter-2") { b: bookings(first: 3) @include(if: true) { ref @skip(if: false) } }`,
	`{ find { ... { ... on Booking { berth { label } } } ... on Berth { label bookings { ref } } } }`,
	`subscription { x }`, `mutation { x }`, `{`, ``, `query A { berth { id } } query B { find { __typename } }`,
	`{ ...a } fragment a on Query { ...b } fragment b on Query { ...a }`,
	`{ berth { ...a ...a ...a } } fragment a on Berth { ...b ...b label } fragment b on Berth { ...c ...c id } fragment c on Berth { label }`,
}

// TestOutlinesAskForTheSame keeps of queries what they ask for, and none of their values.
func TestOutlinesAskForTheSame(t *testing.T) {
	s, err := Read([]byte(quay))
	if err != nil {
		t.Fatal(err)
	}
	kept := 0
	for _, query := range queries {
		body := asJSON(t, query)
		outline := Outline("POST", &url.URL{}, "application/json", []byte(body))
		if outline == nil {
			continue
		}
		kept++
		if strings.Contains(string(outline), "hunter") || strings.Contains(string(outline), "51.2") {
			t.Errorf("%s is kept as %s", query, outline)
		}
		if was, is := asksFor(t, s, body), asksFor(t, s, string(outline)); !slices.Equal(was, is) {
			t.Errorf("%s asks for %v, and what is kept for %v", query, was, is)
		}
	}
	if kept < 6 {
		t.Errorf("only %d queries are kept", kept)
	}
	one, other := asJSON(t, queries[0]), strings.Replace(asJSON(t, queries[0]), "hunter-2", "other", 1)
	same := func(body string) string { return string(Same("POST", &url.URL{}, "application/json", []byte(body))) }
	if same(one) != same(" "+strings.Replace(one, ":", " : ", 1)) || same(one) == same(other) || same("{}") != "" {
		t.Error("calls are told apart by their blanks, or not by their values")
	}
}

// TestFragmentsCostWhatTheyWeigh spreads fragments into each other so often that spelled out they would not end.
func TestFragmentsCostWhatTheyWeigh(t *testing.T) {
	s, err := Read([]byte(quay))
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	b.WriteString("{ berth { ...f0 } }")
	for i := range 60 {
		name := string(rune('0'+i/10)) + string(rune('0'+i%10))
		next := string(rune('0'+(i+1)/10)) + string(rune('0'+(i+1)%10))
		b.WriteString(" fragment f" + strings.TrimLeft(name[:1], "0") + name[1:] +
			" on Berth { bookings { berth { ...f" +
			strings.TrimLeft(next[:1], "0") + next[1:] + " } x: berth { ...f" + strings.TrimLeft(next[:1], "0") +
			next[1:] + " } } }")
	}
	done := make(chan int)
	go func() { done <- len(asksFor(t, s, asJSON(t, b.String()))) }()
	select {
	case n := <-done:
		if n > 2*mostFields {
			t.Errorf("%d fields are collected", n)
		}
	case <-time.After(time.Minute):
		t.Fatal("it does not end")
	}
}

// FuzzAsk reads whatever is sent: it ends, and what is kept of it can be read again.
func FuzzAsk(f *testing.F) {
	s, err := Read([]byte(quay))
	if err != nil {
		f.Fatal(err)
	}
	for _, query := range queries {
		f.Add(asJSON(f, query), "application/json")
		f.Add(query, "application/graphql")
	}
	f.Add(`[{"query":"{berth{id}}"},{"query":"{find{__typename}}"}]`, "application/json")
	f.Add("--x\r\nContent-Disposition: form-data; name=\"operations\"\r\n\r\n{}\r\n--x--",
		"multipart/form-data; boundary=x")
	f.Fuzz(func(t *testing.T, body, media string) {
		for _, schema := range []*Schema{s, nil} {
			all, _, err := Ask(schema, "POST", &url.URL{}, media, []byte(body))
			if err != nil {
				continue
			}
			for _, q := range all {
				q.Data.Each(func(string, string) {})
				q.Data.Below([]string{"berth", "bookings"})
				q.Data.NameKey()
			}
		}
		if kept := Outline("POST", &url.URL{}, media, []byte(body)); kept != nil &&
			!Asks("POST", &url.URL{}, "application/json", kept) {
			t.Errorf("%q is kept as %s, which asks for nothing", body, kept)
		}
	})
}

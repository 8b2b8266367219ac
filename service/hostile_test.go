package service

import (
	"bytes"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/intake"
	"inkret/service/base"
	"inkret/service/evidence"
)

// hostileBodies are made to cost much: what they do is told beside each.
func hostileBodies() map[string]string {
	deep := func(open, inner, end string, levels int) string {
		return strings.Repeat(open, levels) + inner + strings.Repeat(end, levels)
	}
	var names, keys, leaks strings.Builder
	for i := range 300_000 {
		fmt.Fprintf(&names, `,"n%x":1`, i*2654435761&0xffffffff)
	}
	for i := range 200_000 {
		fmt.Fprintf(&keys, `,"%d":{"mail":"a%d@b.example"}`, 1_000_000_000+i*7, i)
	}
	for i := range 20_000 {
		fmt.Fprintf(&leaks, `,"w%x":"a%d@b.example"`, i*2654435761&0xffffffff, i)
	}
	return map[string]string{
		"9,990 levels of lists":        deep("[", `"ada@b.example"`, "]", 9990),
		"3,000 levels of objects":      deep(`{"a":`, `"ada@b.example"`, "}", 3000),
		"levels with a leak at each":   deep(`{"email":"a@b.example","a":`, "1", "}", 700),
		"different names":              `{"id":7` + names.String() + "}",
		"different names of addresses": `{"id":7` + leaks.String() + "}",
		"keys of a map":                `{"id":7` + keys.String() + "}",
	}
}

// TestHostileBodiesCostWhatTheyWeigh takes in bodies that are made to cost much: the database grows by a small multiple
// of their bytes, memory by what they weigh, others write meanwhile, and a check of the same file finds the same.
func TestHostileBodiesCostWhatTheyWeigh(t *testing.T) {
	for name, body := range hostileBodies() {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			text := recording(body)
			before := w.bytes()
			var ended atomic.Bool
			peak := uint64(0)
			watched := make(chan struct{})
			go func() {
				defer close(watched)
				var m runtime.MemStats
				for !ended.Load() {
					runtime.ReadMemStats(&m)
					peak = max(peak, m.HeapAlloc)
					time.Sleep(10 * time.Millisecond) // to look again, not to wait for anything
				}
			}()
			b, err := w.Evidence.Upload(t.Context(), w.who, "quay", "hostile.har", evidence.Said{},
				strings.NewReader(text))
			ended.Store(true)
			<-watched
			if err != nil || b.Judged != 1 {
				t.Fatalf("%+v, %v", b, err)
			}
			if grown := w.bytes() - before; grown > 8*int64(len(body))+1<<20 {
				t.Errorf("the database grew by %d bytes for a body of %d", grown, len(body))
			}
			if most := uint64(40*len(text) + 256<<20); peak > most {
				t.Errorf("%d MB were in use at the most for %d kB", peak>>20, len(text)>>10)
			}
			got := w.shownPaths()
			if len(got) > 700 {
				t.Errorf("there are %d findings", len(got))
			}
			if want := checkedPaths(t, text); !slices.Equal(got, want) {
				t.Errorf("the service shows\n%s\na check\n%s", strings.Join(got[:min(len(got), 20)], "\n"),
					strings.Join(want[:min(len(want), 20)], "\n"))
			}
		})
	}
}

// TestManyUnknownAddresses records calls of as many addresses that no contract has.
func TestManyUnknownAddresses(t *testing.T) {
	w := newWorld(t)
	var lines strings.Builder
	for i := range 5_000 {
		lines.WriteString(strings.Replace(at(w.clock.now, `{"id":7}`), "/skippers/7",
			fmt.Sprintf("/pages/page-%c%c%c%c", 'a'+i%26,
				'a'+i/26%26, 'a'+i/676%26, 'a'+i%7), 1))
	}
	before := w.bytes()
	b := w.upload("many.lines", lines.String())
	if b.Judged != 5_000 {
		t.Fatalf("%+v", b)
	}
	if grown := w.bytes() - before; grown > 12*int64(lines.Len()) {
		t.Errorf("the database grew by %d bytes for a recording of %d", grown, lines.Len())
	}
}

// bytes returns the size of the database.
func (w *world) bytes() (n int64) {
	w.t.Helper()
	size, err := w.store.Size(w.t.Context())
	if err != nil {
		w.t.Fatal(err)
	}
	return size
}

// shownPaths lists what findings there are.
func (w *world) shownPaths() (all []string) {
	w.t.Helper()
	for page := 1; ; page++ {
		some, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{}, base.Page{Number: page, Size: 100})
		if err != nil {
			w.t.Fatal(err)
		}
		for _, f := range some {
			all = append(all, fmt.Sprintln(f.Kind, f.Severity, f.Endpoint, f.Path, f.Spots, f.Bytes))
		}
		if len(some) == 0 {
			slices.Sort(all)
			return all
		}
	}
}

// checkedPaths lists what a check of a recording finds.
func checkedPaths(t *testing.T, text string) (all []string) {
	t.Helper()
	c, err := contract.Read(contract.File{Name: "quay.yaml", Data: []byte(harbour)})
	if err != nil {
		t.Fatal(err)
	}
	var known scan.Known
	for range 4 {
		judge, collector := scan.NewJudge(c), finding.NewCollector("quay")
		judge.Counts = true
		judge.Know(known)
		if err := intake.Read("hostile.har", bytes.NewReader([]byte(text)), intake.Options{},
			func(c *exchange.Capture) error {
				out := judge.Capture(c)
				collector.Add("hostile.har", c.Entry, &out)
				return nil
			}); err != nil {
			t.Fatal(err)
		}
		all = nil
		for _, f := range collector.Findings() {
			all = append(all, fmt.Sprintln(f.Kind, int(f.Severity), f.Endpoint, f.Path, f.Spots, f.Bytes))
		}
		data := collector.Data()
		if len(data) == 0 {
			break
		}
		known.Data = append(known.Data, data...)
	}
	slices.Sort(all)
	return all
}

package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/intake"
	"inkret/report"
	"inkret/service"
	"inkret/service/base"
	"inkret/service/evidence"
)

// leaking writes a recording in which as many members leak, a hundred at each address. times tells recordings apart.
func leaking(w io.Writer, members, times int) error {
	const each = 100
	for i := range members / each {
		var b strings.Builder
		for k := range each {
			fmt.Fprintf(&b, `,"field_%d_email":"ada.moor@sails.example"`, k)
		}
		body := strings.ReplaceAll(`{"n":`+fmt.Sprint(times)+b.String()+`}`, `"`, `\"`)
		if _, err := fmt.Fprintf(w, `{"started":"2026-05-01T10:00:00Z","request":{"url":"https://bench.example/p/%s"},`+
			`"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":"%s"}}`+
			"\n",
			word(i), body); err != nil {
			return err
		}
	}
	return nil
}

// word is a different word for each number.
func word(i int) string {
	text := "w"
	for ; i > 0; i /= 26 {
		text += string(rune('a' + i%26))
	}
	return text
}

// storing measures what it costs to store what was judged, relative to judging it, and how long others wait meanwhile.
func storing() error {
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, who, err := filled(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	contracts, err := contract.Read(contract.File{Name: "bench.yaml", Data: []byte(listContract)})
	if err != nil {
		return err
	}
	for times, what := range []string{"new", "seen again"} {
		for _, members := range []int{10_000, 40_000} {
			var text bytes.Buffer
			if err := leaking(&text, members, times); err != nil {
				return err
			}
			begun := time.Now()
			judge, collector := scan.NewJudge(contracts), finding.NewCollector("bench")
			judge.Counts = true
			if err := intake.Read("l", bytes.NewReader(text.Bytes()), intake.Options{},
				func(c *exchange.Capture) error {
					out := judge.Capture(c)
					collector.Add("l", c.Entry, &out)
					return nil
				}); err != nil {
				return err
			}
			found := len(collector.Findings())
			if err := report.Writers["json"](io.Discard, &report.Result{Service: "bench", Summary: collector.Summary(),
				Findings: collector.Findings(), Skipped: collector.Skipped()}); err != nil {
				return err
			}
			checking := time.Since(begun)
			took, waited, err := uploaded(s, who, text.Bytes())
			if err != nil {
				return err
			}
			fmt.Printf("  %6d findings %-10s %5.1f times checking them, %6.0f a second; another writer waited %4.0f "+
				"ms at the most\n",
				found, what, took.Seconds()/checking.Seconds(), float64(found)/took.Seconds(), waited.Seconds()*1000)
		}
	}
	return nil
}

// uploaded takes in a recording, while somebody else writes all the time, and returns how long that waited at the most.
func uploaded(s *service.Service, who base.Caller, text []byte) (took, waited time.Duration, err error) {
	var ended atomic.Bool
	longest := make(chan time.Duration)
	go func() {
		most := time.Duration(0)
		for n := 0; !ended.Load(); n++ {
			begun := time.Now()
			if err := s.Evidence.SetKeeping(context.Background(), who, "bench",
				base.KeepingTime{Bodies: true, Days: 1 + n%30}); err != nil {
				break
			}
			most = max(most, time.Since(begun))
			time.Sleep(time.Millisecond)
		}
		longest <- most
	}()
	begun := time.Now()
	_, err = s.Evidence.Upload(context.Background(), who, "bench", "l.lines", evidence.Said{}, bytes.NewReader(text))
	took = time.Since(begun)
	ended.Store(true)
	return took, <-longest, err
}

// Command bench measures the performance of Inkret as ratios to a baseline in the same run. Absolute times differ
// between machines, ratios much less.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"time"
)

// section is one part of the report.
type section struct {
	name string
	run  func() error
}

func main() {
	only := flag.String("only", "",
		"run the section of this name alone: judge, contract, detectors, review, formats, recorder, upload, "+
			"storing, graphs, "+
			"drafting, "+
			"memory or team")
	child := flag.String("child", "", "used by the memory section")
	flag.Parse()
	if *child != "" {
		if err := importChild(*child); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	fmt.Printf("%s, %s/%s, %d processors\n", runtime.Version(), runtime.GOOS, runtime.GOARCH, runtime.NumCPU())
	for _, s := range []section{{"judge", judge}, {"checking", checking}, {"contract", readContracts},
		{"detectors", detectors},
		{"review", reviewing}, {"formats", formats}, {"recorder", recorderCost}, {"upload", upload},
		{"storing", storing},
		{"graphs", graphs}, {"drafting", drafting}, {"memory", memory},
		{"team", team}} {
		if *only != "" && *only != s.name {
			continue
		}
		fmt.Printf("\n== %s\n", s.name)
		if err := s.run(); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
	}
}

// rounds is the number of measurements, of which the median is printed.
const rounds = 7

// timed returns seconds per call of f, measured for a fraction of a second.
func timed(f func()) float64 {
	const long = 150 * time.Millisecond
	calls, begun := 0, time.Now()
	for calls == 0 || time.Since(begun) < long {
		f()
		calls++
	}
	return time.Since(begun).Seconds() / float64(calls)
}

// measure returns the median of seconds per call of f.
func measure(f func()) float64 {
	var all []float64
	for range rounds {
		all = append(all, timed(f))
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// ratio returns the time of f relative to baseline: the median over pairs, because a machine's speed drifts.
func ratio(f, baseline func()) float64 {
	var all []float64
	for range rounds {
		b := timed(baseline)
		all = append(all, timed(f)/b)
	}
	slices.Sort(all)
	return all[len(all)/2]
}

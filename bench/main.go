// Command bench measures what Inkret costs and prints it as ratios against a
// baseline in the same run: absolute times differ between machines, ratios much
// less.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"testing"
)

// section is one part of the report.
type section struct {
	name string
	run  func() error
}

func main() {
	testing.Init()
	only := flag.String("only", "", "run the section of this name alone: judge, contract, upload or memory")
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
	for _, s := range []section{{"judge", judge}, {"contract", readContracts}, {"upload", upload}, {"memory", memory}} {
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

// measure gives seconds per call of f, the least of several rounds: what
// disturbs a measurement only ever adds.
func measure(f func()) float64 {
	const rounds = 5
	best := 0.0
	for range rounds {
		r := testing.Benchmark(func(b *testing.B) {
			for b.Loop() {
				f()
			}
		})
		if s := r.T.Seconds() / float64(r.N); best == 0 || s < best {
			best = s
		}
	}
	return best
}

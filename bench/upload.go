package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"inkret/core/exchange"
	"inkret/core/scan"
	"inkret/intake"
	"inkret/service"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

// smallEntry is a HAR entry with a small list body, different for each i.
func smallEntry(w io.Writer, i int) {
	body := strings.ReplaceAll(string(listBody(600+i%7*40)), `"`, `\"`)
	fmt.Fprintf(w, `{"startedDateTime":"2026-05-01T10:00:00Z","time":1,"request":{"method":"GET","url":"https://bench.example/list?page=%d","headers":[{"name":"Accept","value":"application/json"}]},`+
		`"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"content":{"size":1,"mimeType":"application/json","text":"%s"}}}`, i, body)
}

// recording writes a HAR with n entries or the given number of bytes; 0 = no limit.
func recording(w io.Writer, entries int, length int64) error {
	out := &counter{w: w}
	io.WriteString(out, `{"log":{"version":"1.2","creator":{"name":"bench","version":"1"},"entries":[`)
	for i := 0; (entries == 0 || i < entries) && (length == 0 || out.n < length); i++ {
		if i > 0 {
			io.WriteString(out, ",")
		}
		smallEntry(out, i)
	}
	io.WriteString(out, "]}}")
	return out.err
}

type counter struct {
	w   io.Writer
	n   int64
	err error
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	if err != nil {
		c.err = err
	}
	return n, err
}

// filled opens a service with the bench contracts.
func filled(dir string) (*service.Service, base.Caller, error) {
	ctx := context.Background()
	s, err := service.Open(ctx, service.Options{Dir: dir})
	if err != nil {
		return nil, base.Caller{}, err
	}
	who := base.Caller{Person: base.Person{ID: 1, Name: "bench"}}
	_, _, err = s.Review.Apply(ctx, who, "bench",
		review.Proposed{Files: []base.ContractFile{{Name: "bench.yaml", Text: listContract}}})
	return s, who, err
}

// upload measures uploads of small captures end to end.
func upload() error {
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
	for _, entries := range []int{10_000, 100_000} {
		if err := takeIn(s, who, entries); err != nil {
			return err
		}
	}
	return nil
}

func takeIn(s *service.Service, who base.Caller, entries int) error {
	var har bytes.Buffer
	if err := recording(&har, entries, 0); err != nil {
		return err
	}
	begun := time.Now()
	if err := intake.Read("bench.har", bytes.NewReader(har.Bytes()), intake.Options{},
		func(c *exchange.Capture) error { return nil }); err != nil {
		return err
	}
	reading := time.Since(begun)
	begun = time.Now()
	judge := scan.NewJudge(nil)
	if err := intake.Read("bench.har", bytes.NewReader(har.Bytes()), intake.Options{},
		func(c *exchange.Capture) error { judge.Capture(c); return nil }); err != nil {
		return err
	}
	checking := time.Since(begun)
	begun = time.Now()
	b, err := s.Evidence.Upload(context.Background(), who, "bench", "bench.har", evidence.Said{},
		bytes.NewReader(har.Bytes()))
	if err != nil {
		return err
	}
	took := time.Since(begun)
	if b.Judged != entries {
		return fmt.Errorf("%d of %d captures were judged", b.Judged, entries)
	}
	mb := float64(har.Len()) / 1e6
	fmt.Printf("  taking in %d small captures, %.1f MB: %.0f captures/s, %.1f MB/s\n", entries, mb,
		float64(entries)/took.Seconds(), mb/took.Seconds())
	fmt.Printf("  that is %.1f times reading the recording alone, %.1f times reading and sweeping it\n",
		took.Seconds()/reading.Seconds(), took.Seconds()/checking.Seconds())
	return nil
}

const largeRecording = 500 << 20

// memory imports a recording of 500 MB of each format in a separate process and prints its peak memory.
func memory() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, f := range forms() {
		if err := resident(self, f); err != nil {
			return err
		}
	}
	return nil
}

func resident(self string, of form) error {
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	f, err := os.Create(filepath.Join(dir, largeName))
	if err != nil {
		return err
	}
	length := int64(largeRecording)
	if strings.Contains(of.name, "gzip") {
		length = largeRecording / 10 // what it holds is about ten times as much
	}
	out := bufio.NewWriterSize(f, 1<<20)
	if err := errors.Join(of.write(out, 0, length), out.Flush(), f.Close()); err != nil {
		return err
	}
	fmt.Printf("  %-14s ", of.name)
	c := exec.Command(self, "-child", dir)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	return c.Run()
}

const largeName = "large"

// importChild is the process that memory starts.
func importChild(dir string) error {
	s, who, err := filled(filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := os.Open(filepath.Join(dir, largeName))
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	begun := time.Now()
	b, err := s.Evidence.Upload(context.Background(), who, "bench", largeName, evidence.Said{}, f)
	if err != nil {
		return err
	}
	peak, err := peakResident()
	if err != nil {
		return err
	}
	mb := float64(info.Size()) / 1e6
	fmt.Printf("%4.0f MB with %7d captures: %4.0f MB resident at the most, %.1f MB/s\n", mb, b.Captures, peak,
		mb/time.Since(begun).Seconds())
	return nil
}

// peakResident returns the peak resident memory in MB, from Linux's proc(5).
func peakResident() (float64, error) {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	var kb float64
	_, err = fmt.Sscanf(rest, "%f", &kb)
	return kb * 1024 / 1e6, err
}

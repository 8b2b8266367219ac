package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"inkret/core/contract"
	"inkret/report"
)

// Rules for output on a terminal. Results go to standard output, and nothing else, so that they can be piped.
// Errors, warnings and progress go to standard error. An error is one line, followed by the next step, if there is
// one. Text from recordings or the service is cleaned of control characters. Colour and progress bars need a
// terminal.

// hinted is an error with next steps.
type hinted struct {
	error
	hints []string
}

func (h *hinted) Unwrap() error { return h.error }

func hint(err error, hints ...string) error { return &hinted{err, hints} }

// complain prints an error and its next steps.
func (a *app) complain(err error) {
	var h *hinted
	var problems contract.Problems
	if errors.As(err, &problems) {
		for _, p := range problems {
			fmt.Fprintln(a.err, report.Clean(p.Error()))
		}
		fmt.Fprintf(a.err, "inkret: the contract cannot be used: %s\n", plural(len(problems), "problem"))
		return
	}
	for _, line := range strings.Split(strings.TrimSpace(err.Error()), "\n") {
		fmt.Fprintln(a.err, "inkret: "+report.Clean(line))
	}
	if errors.As(err, &h) {
		for _, line := range h.hints {
			fmt.Fprintln(a.err, "  "+line)
		}
	}
}

func (a *app) warn(format string, args ...any) {
	fmt.Fprintln(a.err, "inkret: warning: "+cleanLines(fmt.Sprintf(format, args...)))
}

// say prints a line on standard output.
func (a *app) say(format string, args ...any) {
	fmt.Fprintln(a.out, cleanLines(fmt.Sprintf(format, args...)))
}

func quoted(s string) string { return strconv.Quote(s) }

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// terminal returns the width of w if it is a terminal, otherwise 0.
func terminal(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width <= 0 {
		return 80
	}
	return width
}

// colour reports whether to use colour on w; see no-color.org.
func colour(w io.Writer) bool {
	return terminal(w) > 0 && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// shortestProgress is the size from which a progress bar is shown.
const shortestProgress = 4 << 20

// progress wraps a reader of size bytes with a progress bar on standard error, if that is a terminal and the input
// is large. done removes the bar.
func (a *app) progress(r io.Reader, size int64, what string) (out io.Reader, done func()) {
	if size < shortestProgress || terminal(a.err) == 0 {
		return r, func() {}
	}
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.err),
		progressbar.OptionSetDescription(report.Clean(what)),
		progressbar.OptionShowBytes(true), progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(24),
		progressbar.OptionThrottle(100e6))
	done = func() { bar.Finish() }
	if f, ok := r.(file); ok {
		return &followed{f, bar}, done
	}
	wrapped := progressbar.NewReader(r, bar)
	return &wrapped, done
}

// file is input with random access.
type file interface {
	io.Reader
	io.ReaderAt
	io.Seeker
}

// followed is a file with a progress bar.
type followed struct {
	file
	bar *progressbar.ProgressBar
}

func (f *followed) Read(p []byte) (int, error) {
	n, err := f.file.Read(p)
	f.bar.Add(n)
	return n, err
}

// fileError rewords a file system error and says what to do.
func fileError(err error) error {
	var path *fs.PathError
	if !errors.As(err, &path) {
		return err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s: there is no such file", path.Path)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s: this file may not be read by you", path.Path)
	}
	return fmt.Errorf("%s: %v", path.Path, path.Err)
}

// cleanLines cleans a text of several lines, whose line feeds are ours.
func cleanLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = report.Clean(lines[i])
	}
	return strings.Join(lines, "\n")
}

package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"
)

// errInterrupted is returned by what a signal ended before its time.
var errInterrupted = errors.New("interrupted before the end")

// abandonable is input whose reading ends when the context does, though nothing more may ever come.
type abandonable struct {
	ctx context.Context
	in  io.Reader
}

// interrupted returns an error once the context has ended.
func interrupted(ctx context.Context) error {
	if ctx.Err() != nil {
		return errInterrupted
	}
	return nil
}

type readResult struct {
	data []byte
	err  error
}

func (r abandonable) Read(p []byte) (int, error) {
	if r.ctx.Err() != nil {
		return 0, errInterrupted
	}
	read := make(chan readResult, 1)
	go func() { // with a buffer of its own: it may come back when p is used for something else
		own := make([]byte, len(p))
		n, err := r.in.Read(own)
		read <- readResult{own[:n], err}
	}()
	select {
	case <-r.ctx.Done():
		return 0, errInterrupted
	case got := <-read:
		return copy(p, got.data), got.err
	}
}

// open opens a file named on the command line; "-" is standard input. Reading what is no regular file ends with the
// context.
func (a *app) open(ctx context.Context, name string) (io.ReadCloser, int64, error) {
	if name == "-" {
		return io.NopCloser(abandonable{ctx, a.in}), 0, nil
	}
	f, err := opened(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = &os.PathError{Op: "open", Path: name, Err: errors.New("is a folder")}
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	if !info.Mode().IsRegular() {
		return struct {
			io.Reader
			io.Closer
		}{abandonable{ctx, f}, f}, 0, nil
	}
	return f, info.Size(), nil
}

// opened opens a file. That of a pipe, which waits for somebody to write to it, ends with the context.
func opened(ctx context.Context, name string) (*os.File, error) {
	type result struct {
		f   *os.File
		err error
	}
	done := make(chan result, 1)
	go func() {
		f, err := os.Open(name)
		done <- result{f, err}
	}()
	select {
	case <-ctx.Done():
		return nil, errInterrupted
	case r := <-done:
		return r.f, r.err
	}
}

// onTerminal returns standard input if it is a terminal, otherwise nil.
func (a *app) onTerminal() *os.File {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return f
	}
	return nil
}

// line reads one line of standard input. Of the last one, the line feed may be missing.
func (a *app) line(ctx context.Context) (string, error) {
	if a.typed == nil {
		a.typed = bufio.NewReader(abandonable{ctx, a.in})
	}
	line, err := a.typed.ReadString('\n')
	if errors.Is(err, io.EOF) && line != "" {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}

// hidden reads a line that the terminal does not show.
func (a *app) hidden(ctx context.Context, f *os.File) (string, error) {
	before, err := term.GetState(int(f.Fd()))
	if err != nil {
		return "", err
	}
	read := make(chan readResult, 1)
	go func() {
		typed, err := term.ReadPassword(int(f.Fd()))
		read <- readResult{typed, err}
	}()
	select {
	case <-ctx.Done():
		_ = term.Restore(int(f.Fd()), before)
		fmt.Fprintln(a.err)
		return "", errInterrupted
	case got := <-read:
		fmt.Fprintln(a.err)
		return string(got.data), got.err
	}
}

// askFor asks for a line at the terminal. It returns the empty string without a terminal.
func (a *app) askFor(ctx context.Context, what string) (string, error) {
	if a.onTerminal() == nil {
		return "", nil
	}
	fmt.Fprint(a.err, what)
	line, err := a.line(ctx)
	return strings.TrimSpace(line), err
}

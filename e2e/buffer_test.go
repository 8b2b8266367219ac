package e2e

import (
	"bytes"
	"sync"
)

// safeBuffer may be read while a process writes to it.
type safeBuffer struct {
	mu sync.Mutex // guards b
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

package people

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/argon2"

	"inkret/service/base"
)

// Passwords are stored as argon2id hashes (RFC 9106). A hash takes 19 MB and tens of milliseconds, so only a few
// are computed at a time, and the queue is limited.

const (
	shortestWord = 12 // characters of a password; NIST SP 800-63B asks for 8 at least
	longestWord  = 1024
	mostHashing  = 64 // hashes that are being made or waited for
)

// argon2id with the second recommended parameters of RFC 9106 section 4, at a third of the memory: a team signing
// in must not exhaust a small machine.
const (
	argonTime    = 3
	argonMemory  = 19 * 1024
	argonThreads = 1
	argonKey     = 32
	argonSalt    = 16
)

// hasher computes password hashes, a few at a time. Create it with [newHasher].
type hasher struct {
	turns   chan struct{}
	waiting atomic.Int64
}

func newHasher() *hasher { return &hasher{turns: make(chan struct{}, max(2, runtime.NumCPU()))} }

// turn waits for a free slot; end releases it. It returns a [Problem] if the queue is full.
func (h *hasher) turn(ctx context.Context) (end func(), err error) {
	if h.waiting.Add(1) > mostHashing {
		h.waiting.Add(-1)
		return nil, base.NewProblem(base.Slowed, "try again in a few seconds",
			"too many people are signing in right now")
	}
	select {
	case h.turns <- struct{}{}:
		return func() { <-h.turns; h.waiting.Add(-1) }, nil
	case <-ctx.Done():
		h.waiting.Add(-1)
		return nil, ctx.Err()
	}
}

// hash returns the hash of a password in PHC notation.
func (h *hasher) hash(ctx context.Context, password string) (string, error) {
	end, err := h.turn(ctx)
	if err != nil {
		return "", err
	}
	defer end()
	return hashPassword(password), nil
}

// check reports whether a hash belongs to a password.
func (h *hasher) check(ctx context.Context, hash, password string) (bool, error) {
	end, err := h.turn(ctx)
	if err != nil {
		return false, err
	}
	defer end()
	return checkPassword(hash, password), nil
}

func hashPassword(password string) string {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(key))
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	var version, memory, passes uint32
	var threads uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes,
		&threads); err != nil || version != argon2.Version {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, passes, memory, threads,
		uint32(len(want)))) == 1
}

// nobody is the hash that is checked for unknown addresses, so that the response time does not reveal which
// addresses exist.
var nobody = sync.OnceValue(func() string { return hashPassword("no password of anybody") })

//go:embed wordlist/common.txt.gz
var commonPacked []byte

// common holds the most common passwords that are otherwise long enough.
var common = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	r, err := gzip.NewReader(bytes.NewReader(commonPacked))
	if err != nil {
		panic(err) // it is built in
	}
	text, err := io.ReadAll(r)
	if err != nil {
		panic(err)
	}
	for line := range strings.Lines(string(text)) {
		all[strings.ToLower(strings.TrimSuffix(line, "\n"))] = true
	}
	return all
})

// fitPassword refuses passwords that are too short, too long or easy to guess: common ones, repeated characters or
// short patterns, and parts of the person's name or address.
func fitPassword(password string, about ...string) error {
	n := len([]rune(password))
	switch {
	case n < shortestWord:
		return base.NewProblem(base.Invalid, "", "the password has %d characters; at least %d are needed", n,
			shortestWord)
	case len(password) > longestWord:
		return base.NewProblem(base.Invalid, "", "the password has %d bytes; at most %d are possible", len(password),
			longestWord)
	}
	word := strings.ToLower(password)
	bare := strings.Trim(word, "0123456789!?.,;:#*+-_ ")
	const next = "take several words that do not belong together"
	switch {
	case common()[word] || len(bare) > 0 && common()[bare]:
		return base.NewProblem(base.Invalid, next, "this password is one of the most common ones")
	case repeats(word):
		return base.NewProblem(base.Invalid, next, "the password repeats the same few characters")
	}
	for _, text := range about {
		for _, part := range append(strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
			return r == '@' ||
				r == ' '
		}), strings.ToLower(text)) {
			if len(part) >= 4 && len(word)-len(part) < shortestWord/2 && strings.Contains(word, part) {
				return base.NewProblem(base.Invalid, next, "the password is little more than your own name or address")
			}
		}
	}
	return nil
}

// repeats reports whether a text repeats one short pattern.
func repeats(text string) bool {
	for n := 1; n <= 4; n++ {
		if len(text) > n && strings.HasPrefix(strings.Repeat(text[:n], len(text)/n+1), text) {
			return true
		}
	}
	return false
}

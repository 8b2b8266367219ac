// Package sealing encrypts data at rest with AES-256-GCM (NIST SP 800-38D), under a key from a file.
package sealing

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"

	"inkret/durable"
)

const keySize = 32

// NewKey returns a random key.
func NewKey() []byte {
	key := make([]byte, keySize)
	rand.Read(key)
	return key
}

// Proof returns a value that may be stored beside encrypted data, to check later whether a key belongs to it.
func Proof(key []byte, purpose string) string {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(purpose))
	return hex.EncodeToString(mac.Sum(nil))
}

// ReadKeys reads a key file: one hexadecimal key per line, the encrypting key first. The error is [os.ErrNotExist]
// if there is none.
func ReadKeys(path string) ([][]byte, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the key file cannot be read: %w", err)
	}
	var keys [][]byte
	for _, line := range strings.Fields(string(text)) {
		key, err := hex.DecodeString(line)
		if err != nil || len(key) != keySize {
			return nil, fmt.Errorf("%s is no key file: it has %d hexadecimal digits a line", path, 2*keySize)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil, fmt.Errorf("%s is no key file: it is empty", path)
	}
	return keys, nil
}

// WriteKeys writes a key file, completely or not at all. Only its owner may read it.
func WriteKeys(path string, keys [][]byte) error {
	var text strings.Builder
	for _, key := range keys {
		text.WriteString(hex.EncodeToString(key) + "\n")
	}
	return durable.WriteFile(path, []byte(text.String()))
}

// Box encrypts and decrypts. It is safe for concurrent use.
type Box struct{ keys []cipher.AEAD }

// NewBox returns a box that encrypts with the first key and decrypts with any.
func NewBox(keys [][]byte) (*Box, error) {
	b := &Box{}
	for _, key := range keys {
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		b.keys = append(b.keys, aead)
	}
	return b, nil
}

// Seal encrypts data and authenticates its purpose. The result is the nonce followed by the ciphertext.
func (b *Box) Seal(data []byte, purpose string) []byte {
	aead := b.keys[0]
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(data)+aead.Overhead())
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, data, []byte(purpose))
}

// Open decrypts what [Box.Seal] encrypted. old reports whether an older key was needed.
func (b *Box) Open(sealed []byte, purpose string) (data []byte, old bool, err error) {
	for i, aead := range b.keys {
		n := aead.NonceSize()
		if len(sealed) < n {
			return nil, false, errors.New("something sealed is too short")
		}
		if data, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose)); err == nil {
			return data, i > 0, nil
		}
	}
	return nil, false, errors.New("something sealed does not open with this key")
}

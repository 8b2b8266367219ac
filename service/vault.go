package service

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
	"inkret/store"
)

// vault encrypts what captures hold with AES-256-GCM. Its key lies in a file
// beside the database, so that a copy of the database alone tells nothing. While
// the key is being changed the file has two: the first seals, either opens.
type vault struct {
	keys   []cipher.AEAD
	packer *zstd.Encoder
	opener *zstd.Decoder
}

const (
	keyName = "inkret.key"
	keySize = 32
	// keyCheck is the setting by which a wrong key is told before anything is
	// encrypted with it.
	keyCheck = "key_check"
	// sealedAs is authenticated with each sealed capture, secretAs with credentials.
	sealedAs = "inkret capture 1"
	secretAs = "inkret credentials 1"
)

// openVault reads the key file, and makes it at the first start.
func openVault(ctx context.Context, dir string, st *store.Store) (*vault, error) {
	path := filepath.Join(dir, keyName)
	check, err := st.Setting(ctx, keyCheck)
	if err != nil {
		return nil, err
	}
	keys, err := readKeys(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && check != "":
		return nil, fmt.Errorf("the key file %s is missing: put it back from its backup; the captures cannot be read without it", path)
	case errors.Is(err, fs.ErrNotExist):
		keys = [][]byte{newKey()}
		if err := writeKeys(path, keys); err != nil {
			return nil, fmt.Errorf("the key file cannot be made: %w", err)
		}
	case err != nil:
		return nil, err
	}
	switch {
	case check == "":
		if err := st.SetSetting(ctx, keyCheck, proofOf(keys[0])); err != nil {
			return nil, err
		}
	case !slices.ContainsFunc(keys, func(key []byte) bool { return proofOf(key) == check }):
		return nil, fmt.Errorf("%s is the key of another database: put back the one that belongs to this", path)
	}
	return newVault(keys)
}

func newVault(keys [][]byte) (*vault, error) {
	v := &vault{}
	for _, key := range keys {
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		v.keys = append(v.keys, aead)
	}
	var err error
	if v.packer, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true)); err != nil {
		return nil, err
	}
	v.opener, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(2*exchange.MaxBody))
	return v, err
}

func newKey() []byte {
	key := make([]byte, keySize)
	rand.Read(key)
	return key
}

// proofOf is what a database remembers of its key.
func proofOf(key []byte) string {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(keyCheck))
	return hex.EncodeToString(mac.Sum(nil))
}

// readKeys reads a key file: a key a line, the one that seals first.
func readKeys(path string) ([][]byte, error) {
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

// writeKeys writes a key file whole or not at all.
func writeKeys(path string, keys [][]byte) error {
	var text strings.Builder
	for _, key := range keys {
		text.WriteString(hex.EncodeToString(key) + "\n")
	}
	next := path + ".next"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text.String())
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(next, path)
}

// exchanged is what is sealed of a capture.
type exchanged struct {
	URL             string          `json:"url"`
	RequestHeader   exchange.Header `json:"request_header"`
	RequestBody     []byte          `json:"request_body,omitempty"`
	ResponseHeader  exchange.Header `json:"response_header"`
	ResponseBody    []byte          `json:"response_body,omitempty"`
	ResponseMissing string          `json:"response_missing,omitempty"`
}

// seal compresses and encrypts what a capture holds: nonce, then ciphertext.
func (v *vault) seal(e exchanged) ([]byte, error) {
	plain, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return v.lock(v.packer.EncodeAll(plain, nil), sealedAs), nil
}

// lock encrypts data for a purpose.
func (v *vault) lock(data []byte, purpose string) []byte {
	aead := v.keys[0]
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(data)+aead.Overhead())
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, data, []byte(purpose))
}

// unlock undoes lock. old is whether it took a key that seals no longer.
func (v *vault) unlock(sealed []byte, purpose string) (data []byte, old bool, err error) {
	for i, aead := range v.keys {
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

func (v *vault) open(sealed []byte) (exchanged, error) {
	var e exchanged
	packed, _, err := v.unlock(sealed, sealedAs)
	if err != nil {
		return e, err
	}
	plain, err := v.opener.DecodeAll(packed, nil)
	if err != nil {
		return e, errors.New("a sealed capture is damaged")
	}
	return e, json.Unmarshal(plain, &e)
}

// KeyChange is how far a change of key has come.
type KeyChange struct {
	Captures    int // sealed anew
	Credentials int
}

// resealAt is how many captures are sealed anew in one transaction.
const resealAt = 500

// ChangeKey seals all that a data folder holds with a new key; no service may have
// it open. One that is broken off goes on where it was when it is called again:
// until the end the key file has both keys. progress is called now and then.
func ChangeKey(ctx context.Context, dir string, progress func(KeyChange)) (KeyChange, error) {
	var done KeyChange
	if _, err := os.Stat(filepath.Join(dir, keyName)); err != nil {
		return done, fmt.Errorf("the key file cannot be read: %w", err)
	}
	s, err := Open(ctx, Options{Dir: dir})
	if err != nil {
		return done, err
	}
	defer s.Close()
	path := filepath.Join(dir, keyName)
	keys, err := readKeys(path)
	if err != nil {
		return done, err
	}
	if len(keys) == 1 {
		keys = append([][]byte{newKey()}, keys...)
		if err := writeKeys(path, keys); err != nil {
			return done, fmt.Errorf("the key file cannot be written: %w", err)
		}
	}
	if s.vault, err = newVault(keys); err != nil {
		return done, err
	}
	if err := s.store.SetSetting(ctx, keyCheck, proofOf(keys[0])); err != nil {
		return done, err
	}
	for last := int64(0); ; {
		some, err := s.store.Sealed(ctx, last, resealAt)
		if err != nil {
			return done, err
		}
		if len(some) == 0 {
			break
		}
		last = some[len(some)-1].ID
		some, err = s.resealed(some)
		if err != nil {
			return done, err
		}
		if err := s.store.Reseal(ctx, some); err != nil {
			return done, err
		}
		if done.Captures += len(some); progress != nil {
			progress(done)
		}
	}
	if done.Credentials, err = s.resealCredentials(ctx); err != nil {
		return done, err
	}
	if err := s.store.AddTrail(ctx, store.TrailEntry{At: s.now(), Author: "command line", Action: "change key", Subject: "data folder",
		Detail: fmt.Sprintf("%d captures and %d credentials were sealed anew", done.Captures, done.Credentials)}); err != nil {
		return done, err
	}
	return done, writeKeys(path, keys[:1])
}

// resealed gives those of some captures that an older key sealed, sealed anew.
func (s *Service) resealed(some []store.Capture) ([]store.Capture, error) {
	var again []store.Capture
	for _, c := range some {
		data, old, err := s.vault.unlock(c.Sealed, sealedAs)
		if err != nil {
			return nil, fmt.Errorf("capture %d: %w", c.ID, err)
		}
		if old {
			c.Sealed = s.vault.lock(data, sealedAs)
			again = append(again, c)
		}
	}
	return again, nil
}

func (s *Service) resealCredentials(ctx context.Context) (int, error) {
	services, err := s.store.Services(ctx)
	if err != nil {
		return 0, err
	}
	count := 0
	for _, api := range services {
		all, err := s.store.AllCredentials(ctx, api.Name)
		if err != nil {
			return count, err
		}
		for i := range all {
			data, _, err := s.vault.unlock(all[i].Sealed, secretAs)
			if err != nil {
				return count, fmt.Errorf("credentials of %s: %w", all[i].Audience, err)
			}
			all[i].Sealed = s.vault.lock(data, secretAs)
		}
		if err := s.store.ReplaceSecrets(ctx, api.Name, all); err != nil {
			return count, err
		}
		count += len(all)
	}
	return count, nil
}

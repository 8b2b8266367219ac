package service

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
	"inkret/sealing"
	"inkret/store"
)

// vault encrypts what captures hold with AES-256-GCM. Its key lies in a file
// beside the database, so that a copy of the database alone tells nothing. While
// the key is being changed the file has two: the first seals, either opens.
type vault struct {
	*sealing.Box
	packer *zstd.Encoder
	opener *zstd.Decoder
}

const (
	keyName = "inkret.key"
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
	keys, err := sealing.ReadKeys(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && check != "":
		return nil, fmt.Errorf("the key file %s is missing: put it back from its backup; the captures cannot be "+
			"read without it", path)
	case errors.Is(err, fs.ErrNotExist):
		keys = [][]byte{sealing.NewKey()}
		if err := sealing.WriteKeys(path, keys); err != nil {
			return nil, fmt.Errorf("the key file cannot be made: %w", err)
		}
	case err != nil:
		return nil, err
	}
	switch {
	case check == "":
		if err := st.SetSetting(ctx, store.TrailEntry{}, keyCheck, sealing.Proof(keys[0], keyCheck)); err != nil {
			return nil, err
		}
	case !slices.ContainsFunc(keys, func(key []byte) bool { return sealing.Proof(key, keyCheck) == check }):
		return nil, fmt.Errorf("%s is the key of another database: put back the one that belongs to this", path)
	}
	return newVault(keys)
}

func newVault(keys [][]byte) (*vault, error) {
	box, err := sealing.NewBox(keys)
	if err != nil {
		return nil, err
	}
	v := &vault{Box: box}
	if v.packer, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2),
		zstd.WithLowerEncoderMem(true)); err != nil {
		return nil, err
	}
	v.opener, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(2*exchange.MaxBody))
	return v, err
}

// exchanged is what is sealed of a capture.
type exchanged struct {
	URL             string          `json:"url"`
	RequestHeader   exchange.Header `json:"request_header"`
	RequestBody     []byte          `json:"request_body,omitempty"`
	ResponseHeader  exchange.Header `json:"response_header"`
	ResponseBody    []byte          `json:"response_body,omitempty"`
	ResponseMissing string          `json:"response_missing,omitempty"`
	// whom the contracts recognised when the header fields were masked
	Caller string `json:"caller,omitempty"`
	// values in the address are replaced by others: it leads nowhere
	Changed bool `json:"changed,omitempty"`
}

// seal compresses and encrypts what a capture holds: nonce, then ciphertext.
func (v *vault) seal(e exchanged) ([]byte, error) {
	plain, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return v.Seal(v.packer.EncodeAll(plain, nil), sealedAs), nil
}

func (v *vault) open(sealed []byte) (exchanged, error) {
	var e exchanged
	packed, _, err := v.Open(sealed, sealedAs)
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
	keys, err := sealing.ReadKeys(path)
	if err != nil {
		return done, err
	}
	if len(keys) == 1 {
		keys = append([][]byte{sealing.NewKey()}, keys...)
		if err := sealing.WriteKeys(path, keys); err != nil {
			return done, fmt.Errorf("the key file cannot be written: %w", err)
		}
	}
	if s.vault, err = newVault(keys); err != nil {
		return done, err
	}
	if err := s.store.SetSetting(ctx, store.TrailEntry{}, keyCheck, sealing.Proof(keys[0], keyCheck)); err != nil {
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
	if err := errors.Join(s.resealFactors(ctx), s.resealHooks(ctx)); err != nil {
		return done, err
	}
	if done.Credentials, err = s.resealCredentials(ctx); err != nil {
		return done, err
	}
	entry := s.byItself("change key", "data folder", fmt.Sprintf("%d captures and %d credentials were sealed anew",
		done.Captures, done.Credentials))
	entry.Author = "command line"
	if err := s.resealPrintKey(ctx, entry); err != nil {
		return done, err
	}
	return done, sealing.WriteKeys(path, keys[:1])
}

// printKey is the setting of the key that values are hashed with, sealed: whoever has the
// database alone cannot try values out.
const (
	printKey   = "print_key"
	printKeyAs = "inkret print key 1"
)

// printer gives the keyed hash (HMAC-SHA-256, RFC 2104, its first 8 bytes) by which the
// same value is known again without being kept.
func (s *Service) printer(ctx context.Context) (func([]byte) uint64, error) {
	sealed, err := s.store.Setting(ctx, printKey)
	if err != nil {
		return nil, err
	}
	key := sealing.NewKey()
	if sealed == "" {
		if err := s.sealPrintKey(ctx, key, store.TrailEntry{}); err != nil {
			return nil, err
		}
	} else {
		data, err := base64.StdEncoding.DecodeString(sealed)
		if err == nil {
			key, _, err = s.vault.Open(data, printKeyAs)
		}
		if err != nil {
			return nil, fmt.Errorf("the key of prints cannot be read: %w", err)
		}
	}
	macs := sync.Pool{New: func() any { return hmac.New(sha256.New, key) }}
	return func(value []byte) uint64 {
		mac := macs.Get().(hash.Hash)
		defer macs.Put(mac)
		mac.Reset()
		mac.Write(value)
		return binary.BigEndian.Uint64(mac.Sum(nil)) >> 1 // SQLite's integers have a sign
	}, nil
}

func (s *Service) sealPrintKey(ctx context.Context, key []byte, entry store.TrailEntry) error {
	return s.store.SetSetting(ctx, entry, printKey, base64.StdEncoding.EncodeToString(s.vault.Seal(key, printKeyAs)))
}

// resealed gives those of some captures that an older key sealed, sealed anew.
func (s *Service) resealed(some []store.Capture) ([]store.Capture, error) {
	var again []store.Capture
	for _, c := range some {
		data, old, err := s.vault.Open(c.Sealed, sealedAs)
		if err != nil {
			return nil, fmt.Errorf("capture %d: %w", c.ID, err)
		}
		if old {
			c.Sealed = s.vault.Seal(data, sealedAs)
			again = append(again, c)
		}
	}
	return again, nil
}

func (s *Service) resealPrintKey(ctx context.Context, entry store.TrailEntry) error {
	sealed, err := s.store.Setting(ctx, printKey)
	if err != nil {
		return err
	}
	data, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return err
	}
	key, _, err := s.vault.Open(data, printKeyAs)
	if err != nil {
		return fmt.Errorf("the key of prints: %w", err)
	}
	return s.sealPrintKey(ctx, key, entry)
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
			data, _, err := s.vault.Open(all[i].Sealed, secretAs)
			if err != nil {
				return count, fmt.Errorf("credentials of %s: %w", all[i].Audience, err)
			}
			all[i].Sealed = s.vault.Seal(data, secretAs)
		}
		if err := s.store.ReplaceSecrets(ctx, api.Name, all); err != nil {
			return count, err
		}
		count += len(all)
	}
	return count, nil
}

// copyKey copies a key file.
func copyKey(from, to string) error {
	keys, err := sealing.ReadKeys(from)
	if err != nil {
		return err
	}
	return sealing.WriteKeys(to, keys)
}

// Package vault encrypts captures with AES-256-GCM, under a key that is stored beside the database. Its main types
// are [Vault] and [Exchange], the sealed part of one capture.
package vault

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
	"path/filepath"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
	"inkret/sealing"
	"inkret/store"
)

// Settings is where the vault stores the check value of its key.
type Settings interface {
	Setting(ctx context.Context, name string) (string, error)
	SetSetting(ctx context.Context, entry store.TrailEntry, name, value string) error
}

// Vault encrypts captures with AES-256-GCM. The key is in a file beside the database, so a copy of the database
// alone reveals nothing. During a change of key the file holds two keys: the first encrypts, both decrypt.
type Vault struct {
	*sealing.Box
	packer *zstd.Encoder
	opener *zstd.Decoder
}

const (
	// KeyName is the name of the key file in the data folder.
	KeyName = "inkret.key"
	// KeyCheck is the setting that detects a wrong key before anything is encrypted with it.
	KeyCheck = "key_check"
	// SealedAs is the additional authenticated data of captures.
	sealedAs = "inkret capture 1"
	// SecretAs is the additional authenticated data of credentials.
	SecretAs = "inkret credentials 1"
)

// Open reads the key file, and creates it at the first start.
func Open(ctx context.Context, dir string, st Settings) (*Vault, error) {
	path := filepath.Join(dir, KeyName)
	check, err := st.Setting(ctx, KeyCheck)
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
		if err := st.SetSetting(ctx, store.TrailEntry{}, KeyCheck, sealing.Proof(keys[0], KeyCheck)); err != nil {
			return nil, err
		}
	case !slices.ContainsFunc(keys, func(key []byte) bool { return sealing.Proof(key, KeyCheck) == check }):
		return nil, fmt.Errorf("%s is the key of another database: put back the one that belongs to this", path)
	}
	return newVault(keys)
}

// newVault returns a vault that encrypts with the first key and decrypts with any.
func newVault(keys [][]byte) (*Vault, error) {
	box, err := sealing.NewBox(keys)
	if err != nil {
		return nil, err
	}
	v := &Vault{Box: box}
	if v.packer, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2),
		zstd.WithLowerEncoderMem(true)); err != nil {
		return nil, err
	}
	v.opener, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(2*exchange.MaxBody))
	return v, err
}

// Take switches to the given keys: the first encrypts, all decrypt. The vault must not be in use.
func (v *Vault) Take(keys [][]byte) error {
	box, err := sealing.NewBox(keys)
	if err == nil {
		v.Box = box
	}
	return err
}

// Exchange is the sealed part of a capture.
type Exchange struct {
	URL             string          `json:"url"`                        // with what stands behind the ?
	RequestHeader   exchange.Header `json:"request_header"`             // masked
	RequestBody     []byte          `json:"request_body,omitempty"`     // empty where it is not kept
	ResponseHeader  exchange.Header `json:"response_header"`            // masked
	ResponseBody    []byte          `json:"response_body,omitempty"`    // empty where it is not kept
	ResponseMissing string          `json:"response_missing,omitempty"` // why there is no body
	// the audience that was recognised before header fields were masked
	Caller string `json:"caller,omitempty"`
	// who made the request and what it was made with, as keyed hashes, and the records that are somebody else's; kept
	// where header fields are masked and values replaced
	Who    uint64   `json:"who,omitempty"`
	Holder uint64   `json:"holder,omitempty"` // what it was made with
	Theirs []string `json:"theirs,omitempty"` // pointers of records
	// values in the address were replaced, so it cannot be called
	Changed bool `json:"changed,omitempty"`
}

// SealExchange compresses and encrypts the sealed part of a capture. The result is the nonce followed by the
// ciphertext.
func (v *Vault) SealExchange(e Exchange) ([]byte, error) {
	plain, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return v.Seal(v.packer.EncodeAll(plain, nil), sealedAs), nil
}

// OpenExchange decrypts the sealed part of a capture. It fails if the data is damaged or was encrypted with another
// key.
func (v *Vault) OpenExchange(sealed []byte) (Exchange, error) {
	var e Exchange
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

// printKey is the setting of the key for value prints. It is encrypted, so that values cannot be guessed from the
// database alone.
const (
	printKey   = "print_key"
	printKeyAs = "inkret print key 1"
)

// Printer returns the keyed hash (first 8 bytes of HMAC-SHA-256, RFC 2104) that recognises equal values without
// storing them.
func (v *Vault) Printer(ctx context.Context, st Settings) (func([]byte) uint64, error) {
	sealed, err := st.Setting(ctx, printKey)
	if err != nil {
		return nil, err
	}
	key := sealing.NewKey()
	if sealed == "" {
		if err := v.sealPrintKey(ctx, st, key, store.TrailEntry{}); err != nil {
			return nil, err
		}
	} else {
		data, err := base64.StdEncoding.DecodeString(sealed)
		if err == nil {
			key, _, err = v.Open(data, printKeyAs)
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

func (v *Vault) sealPrintKey(ctx context.Context, st Settings, key []byte, entry store.TrailEntry) error {
	return st.SetSetting(ctx, entry, printKey, base64.StdEncoding.EncodeToString(v.Seal(key, printKeyAs)))
}

// Resealed returns those of the captures that an older key encrypted, encrypted with the newest.
func (v *Vault) Resealed(some []store.Capture) ([]store.Capture, error) {
	var again []store.Capture
	for _, c := range some {
		data, old, err := v.Open(c.Sealed, sealedAs)
		if err != nil {
			return nil, fmt.Errorf("capture %d: %w", c.ID, err)
		}
		if old {
			c.Sealed = v.Seal(data, sealedAs)
			again = append(again, c)
		}
	}
	return again, nil
}

// ResealPrintKey encrypts the print key with the newest key. entry is the trail entry about it.
func (v *Vault) ResealPrintKey(ctx context.Context, st Settings, entry store.TrailEntry) error {
	sealed, err := st.Setting(ctx, printKey)
	if err != nil {
		return err
	}
	data, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return err
	}
	key, _, err := v.Open(data, printKeyAs)
	if err != nil {
		return fmt.Errorf("the key of prints: %w", err)
	}
	return v.sealPrintKey(ctx, st, key, entry)
}

// CopyKey copies a key file.
func CopyKey(from, to string) error {
	keys, err := sealing.ReadKeys(from)
	if err != nil {
		return err
	}
	return sealing.WriteKeys(to, keys)
}

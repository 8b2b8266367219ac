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
	"strings"

	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
	"inkret/store"
)

// vault encrypts what captures hold with AES-256-GCM. Its key lies in a file
// beside the database, so that a copy of the database alone tells nothing.
type vault struct {
	aead   cipher.AEAD
	packer *zstd.Encoder
	opener *zstd.Decoder
}

const (
	keyName = "inkret.key"
	keySize = 32
	// keyCheck is the setting by which a wrong key is told before anything is
	// encrypted with it.
	keyCheck = "key_check"
	// sealedAs is authenticated with each sealed capture.
	sealedAs = "inkret capture 1"
)

// openVault reads the key file, and makes it at the first start.
func openVault(ctx context.Context, dir string, st *store.Store) (*vault, error) {
	path := filepath.Join(dir, keyName)
	check, err := st.Setting(ctx, keyCheck)
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && check != "":
		return nil, fmt.Errorf("the key file %s is missing: put it back from its backup; the captures cannot be read without it", path)
	case errors.Is(err, fs.ErrNotExist):
		key := make([]byte, keySize)
		rand.Read(key)
		text = []byte(hex.EncodeToString(key) + "\n")
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return nil, fmt.Errorf("the key file cannot be made: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("the key file cannot be read: %w", err)
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != keySize {
		return nil, fmt.Errorf("%s is no key file: it has %d hexadecimal digits", path, 2*keySize)
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(keyCheck))
	proof := hex.EncodeToString(mac.Sum(nil))
	switch check {
	case "":
		if err := st.SetSetting(ctx, keyCheck, proof); err != nil {
			return nil, err
		}
	case proof:
	default:
		return nil, fmt.Errorf("%s is the key of another database: put back the one that belongs to this", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	v := &vault{}
	if v.aead, err = cipher.NewGCM(block); err != nil {
		return nil, err
	}
	if v.packer, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true)); err != nil {
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
}

// seal compresses and encrypts what a capture holds: nonce, then ciphertext.
func (v *vault) seal(e exchanged) ([]byte, error) {
	plain, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	packed := v.packer.EncodeAll(plain, nil)
	nonce := make([]byte, v.aead.NonceSize(), v.aead.NonceSize()+len(packed)+v.aead.Overhead())
	rand.Read(nonce)
	return v.aead.Seal(nonce, nonce, packed, []byte(sealedAs)), nil
}

func (v *vault) open(sealed []byte) (exchanged, error) {
	var e exchanged
	if len(sealed) < v.aead.NonceSize() {
		return e, errors.New("a sealed capture is too short")
	}
	n := v.aead.NonceSize()
	packed, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(sealedAs))
	if err != nil {
		return e, errors.New("a sealed capture does not open with this key")
	}
	plain, err := v.opener.DecodeAll(packed, nil)
	if err != nil {
		return e, errors.New("a sealed capture is damaged")
	}
	return e, json.Unmarshal(plain, &e)
}

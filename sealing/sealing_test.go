package sealing

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestSealedOpensOnlyWithItsKeyAndPurpose(t *testing.T) {
	old, key := NewKey(), NewKey()
	before, err := NewBox([][]byte{old})
	if err != nil {
		t.Fatal(err)
	}
	box, err := NewBox([][]byte{key, old})
	if err != nil {
		t.Fatal(err)
	}
	secret := []byte("low tide at nine")
	sealed := box.Seal(secret, "note")
	if bytes.Contains(sealed, secret) || bytes.Equal(sealed, box.Seal(secret, "note")) {
		t.Error("what is sealed shows what it is")
	}
	if data, old, err := box.Open(sealed, "note"); err != nil || old || !bytes.Equal(data, secret) {
		t.Errorf("opened: %q, %v, %v", data, old, err)
	}
	if _, old, err := box.Open(before.Seal(secret, "note"), "note"); err != nil || !old {
		t.Errorf("what an older key sealed: old %v, %v", old, err)
	}
	if _, _, err := before.Open(sealed, "note"); err == nil {
		t.Error("another key opens it")
	}
	if _, _, err := box.Open(sealed, "another"); err == nil {
		t.Error("it opens for another purpose")
	}
	sealed[len(sealed)-1] ^= 1
	if _, _, err := box.Open(sealed, "note"); err == nil {
		t.Error("it opens although a bit of it changed")
	}
	if _, _, err := box.Open(sealed[:5], "note"); err == nil {
		t.Error("five bytes open")
	}
}

func TestKeyFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := ReadKeys(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no file: %v", err)
	}
	keys := [][]byte{NewKey(), NewKey()}
	if err := WriteKeys(path, keys); err != nil {
		t.Fatal(err)
	}
	read, err := ReadKeys(path)
	if err != nil || len(read) != 2 || !bytes.Equal(read[0], keys[0]) || !bytes.Equal(read[1], keys[1]) {
		t.Errorf("read %x, %v; wrote %x", read, err, keys)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others may read it: %v, %v", info.Mode(), err)
	}
	if Proof(keys[0], "a") == Proof(keys[1], "a") || Proof(keys[0], "a") == Proof(keys[0], "b") {
		t.Error("proofs are alike")
	}
	for _, text := range []string{"", "zz\n", "00ff\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadKeys(path); err == nil {
			t.Errorf("%q is read as a key file", text)
		}
	}
}

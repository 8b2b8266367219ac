package durable

import (
	"os"
	"path/filepath"
	"testing"
)

func TestAFileIsWrittenWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "key")
	for _, text := range []string{"first", "and a longer second"} {
		if err := WriteFile(path, []byte(text)); err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(path)
		if data, _ := os.ReadFile(path); err != nil || string(data) != text || info.Mode().Perm() != 0o600 {
			t.Errorf("%q, %v, %v", data, info.Mode(), err)
		}
	}
	if err := WriteFile(filepath.Join(dir, "no", "such"), nil); err == nil {
		t.Error("a file is written into a folder that is not there")
	}
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := WriteFile(filepath.Join(dir, "folder"), []byte("x")); err == nil {
		t.Error("a folder is written over")
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*.next")); len(left) > 1 {
		t.Errorf("left behind: %q", left)
	}
}

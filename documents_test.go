package inkret

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestTheTestsThatDocumentsNameExist looks up every test that a document names as its proof.
func TestTheTestsThatDocumentsNameExist(t *testing.T) {
	there := map[string]bool{}
	defined := regexp.MustCompile(`(?m)^func (Test[A-Za-z0-9_]+)`)
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && d.Name() == "node_modules" {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range defined.FindAllStringSubmatch(string(text), -1) {
			there[m[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	documents, _ := filepath.Glob("docs/*.md")
	named := 0
	for _, path := range append(documents, "README.md", "SECURITY.md") {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range regexp.MustCompile(`\bTest[A-Z][A-Za-z0-9]+\b`).FindAllString(string(text), -1) {
			if named++; !there[name] {
				t.Errorf("%s names %s, which is not there", path, name)
			}
		}
	}
	if named < 40 {
		t.Errorf("only %d tests are named", named)
	}
}

// TestThePlacesThatContributingNamesExist looks up every file and folder that it names.
func TestThePlacesThatContributingNamesExist(t *testing.T) {
	text, err := os.ReadFile("CONTRIBUTING.md")
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	place := regexp.MustCompile("`([a-z.][A-Za-z0-9_./-]*/[A-Za-z0-9_./-]+|[a-z_]+\\.go)`")
	for _, m := range place.FindAllStringSubmatch(string(text), -1) {
		named++
		if _, err := os.Stat(m[1]); err != nil {
			t.Errorf("it names %s, which is not there", m[1])
		}
	}
	if named < 30 {
		t.Errorf("only %d places are named", named)
	}
}

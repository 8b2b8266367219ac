package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"unicode/utf8"

	"inkret/core/contract"
	"inkret/core/message"
)

// contractEndings lists the extensions of contract files in a folder.
var contractEndings = map[string]bool{".yaml": true, ".yml": true, ".json": true}

// contractFiles reads a contract file, or those of a folder.
func contractFiles(paths ...string) ([]contract.File, error) {
	var files []contract.File
	seen := map[string]bool{}
	for _, path := range paths {
		some, err := filesAt(path)
		if err != nil {
			return nil, err
		}
		for _, f := range some {
			at, err := filepath.Abs(f.Name)
			if err != nil {
				return nil, err
			}
			if !seen[at] { // the same file once, however often it is named
				files = append(files, f)
			}
			seen[at] = true
		}
	}
	return withSets(files)
}

// withSets adds the descriptor sets and schemas that contract files name, as text.
func withSets(files []contract.File) ([]contract.File, error) {
	for _, name := range contract.Missing(files) {
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // where it is named is told when the contract is read
		}
		if err != nil {
			return nil, fileError(err)
		}
		if !isText(data) {
			data = message.Encode(data)
		}
		files = append(files, contract.File{Name: name, Data: data})
	}
	return files, nil
}

// isText reports whether a file is text, as a schema is and no descriptor set.
func isText(data []byte) bool {
	return utf8.Valid(data) && !bytes.ContainsFunc(data, func(r rune) bool {
		return r < ' ' && r != '\t' && r != '\n' && r != '\r'
	})
}

func filesAt(path string) ([]contract.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fileError(err)
	}
	names := []string{path}
	if info.IsDir() {
		entries, err := os.ReadDir(path)
		if err != nil {
			return nil, fileError(err)
		}
		names = nil
		for _, e := range entries {
			if !e.IsDir() && contractEndings[strings.ToLower(filepath.Ext(e.Name()))] {
				names = append(names, filepath.Join(path, e.Name()))
			}
		}
		if len(names) == 0 {
			return nil, fmt.Errorf("%s: the folder holds no .yaml, .yml or .json file", path)
		}
	}
	sort.Strings(names)
	var files []contract.File
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fileError(err)
		}
		files = append(files, contract.File{Name: name, Data: data})
	}
	return files, nil
}

func readContracts(paths ...string) (*contract.Contracts, error) {
	files, err := contractFiles(paths...)
	if err != nil {
		return nil, err
	}
	return contract.Read(files...)
}

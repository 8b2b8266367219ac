// Package console embeds the web console.
package console

import (
	"bytes"
	"compress/gzip"
	"embed"
	"io"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console. It has no index.html before `make console`.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return packed{files}
}

// packed decompresses files that another file system holds with gzip.
type packed struct{ fs.FS }

// Open implements [fs.FS].
func (p packed) Open(name string) (fs.File, error) {
	f, err := p.FS.Open(name + ".gz")
	if err != nil {
		return p.FS.Open(name) // a folder
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	r, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(r)
	return &file{bytes.NewReader(text), unpacked{info, name, int64(len(text))}}, err
}

// file is a decompressed file.
type file struct {
	*bytes.Reader
	info unpacked
}

// Stat implements [fs.File].
func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }

// Close implements [fs.File].
func (f *file) Close() error { return nil }

// unpacked describes a decompressed file.
type unpacked struct {
	fs.FileInfo
	name string
	size int64
}

// Name implements [fs.FileInfo].
func (u unpacked) Name() string { return u.name }

// Size implements [fs.FileInfo].
func (u unpacked) Size() int64 { return u.size }

package intake

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"unicode"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
)

// maxUnpacked limits the decompressed size of a recording.
const maxUnpacked = 16 << 30

// maxWindow limits the memory for decompressing zstd.
const maxWindow = 64 << 20

// readerAt is a file, or something with the same access.
type readerAt interface {
	io.Reader
	io.ReaderAt
	io.Seeker
}

type unpacker func(in *reading, name string, r io.Reader, packing int) error

// packingOf returns the decompressor for what a file begins with: gzip (RFC 1952), zstd (RFC 8878) or zip.
func packingOf(start []byte) unpacker {
	switch {
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}):
		return stream("gzip", func(r io.Reader) (io.Reader, func(), error) {
			g, err := gzip.NewReader(r)
			return g, func() {}, err
		})
	case bytes.HasPrefix(start, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return stream("zstd", func(r io.Reader) (io.Reader, func(), error) {
			d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
			if err != nil {
				return nil, nil, err
			}
			return d, d.Close, nil
		})
	case bytes.HasPrefix(start, []byte("PK\x03\x04")), bytes.HasPrefix(start, []byte("PK\x05\x06")):
		return (*reading).zip
	}
	return nil
}

// stream decompresses a stream.
func stream(kind string, open func(io.Reader) (io.Reader, func(), error)) unpacker {
	return func(in *reading, name string, r io.Reader, packing int) error {
		if at, ok := r.(readerAt); ok {
			if _, err := at.Seek(0, io.SeekStart); err != nil {
				return err
			}
		}
		unpacked, done, err := open(bufio.NewReaderSize(r, readAhead))
		if err != nil {
			return &Error{File: name, Offset: -1, Reason: "it is not " + kind + ": " + plain(err)}
		}
		defer done()
		return in.unpack(name, &measured{r: unpacked, in: in}, packing, kind)
	}
}

// unpack reads a compressed recording to its end; a damaged one never passes for complete.
func (in *reading) unpack(name string, r *measured, packing int, kind string) error {
	err := in.read(name, r, packing)
	var ended *Error
	if err != nil && !errors.As(err, &ended) {
		return err
	}
	if r.fault == nil {
		io.CopyN(io.Discard, r, mostBehind) // the end of the packing, and its checksum
	}
	if r.fault != nil && (ended == nil || ended.Unknown) {
		reason := "is damaged: " + plain(r.fault)
		if errors.Is(r.fault, io.ErrUnexpectedEOF) {
			reason = "ends in the middle"
		}
		return &Error{File: name, Offset: -1, Reason: "what " + kind + " packed " + reason +
			"; captures that stand before that were read, those behind it are lost"}
	}
	return err
}

// mostBehind limits what is read after the last capture.
const mostBehind = 64 << 20

// measured counts decompressed bytes over the whole recording, and keeps the final error.
type measured struct {
	r     io.Reader
	in    *reading
	fault error // other than that the end was reached
}

var errBomb = fmt.Errorf("it unpacks to more than %d GiB", maxUnpacked>>30)

func (m *measured) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	if err != nil && err != io.EOF {
		m.fault = err
	}
	if m.in.unpacked += int64(n); m.in.unpacked > maxUnpacked {
		return n, errBomb
	}
	return n, err
}

// zip reads the recordings in a zip file in directory order. Other files are listed as skipped.
func (in *reading) zip(name string, r io.Reader, packing int) error {
	at, size, done, err := seekable(r)
	if err != nil {
		return err
	}
	defer done()
	z, err := zip.NewReader(at, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // paths are looked at below
		return &Error{File: name, Offset: -1, Reason: "the zip file cannot be read: " + plain(err)}
	}
	z.RegisterDecompressor(zip.Deflate, func(r io.Reader) io.ReadCloser { return flate.NewReader(r) })
	var broken error
	beside := &zipFiles{in: in, files: map[string]*zip.File{}, used: map[*zip.File]bool{}}
	var all []*zip.File
	for _, f := range z.File {
		f.Name = strings.ReplaceAll(f.Name, `\`, "/") // as some write it
		if !strings.HasSuffix(f.Name, "/") && !strings.HasPrefix(path.Base(f.Name), ".") {
			all = append(all, f)
			beside.files[path.Clean(f.Name)] = f
		}
	}
	har := func(f *zip.File) bool { return strings.EqualFold(path.Ext(f.Name), ".har") }
	slices.SortStableFunc(all, func(a, b *zip.File) int { // these tell which of the others are bodies of theirs
		return cmp.Compare(order(har(a)), order(har(b)))
	})
	for _, f := range all {
		if beside.used[f] {
			continue
		}
		err := in.zipped(name, f, packing, beside.from(path.Dir(f.Name)))
		var unread *Error
		switch {
		case errors.As(err, &unread) && unread.Unknown:
			err = in.hand(unread.File, 0, &exchange.Capture{Response: exchange.Response{Missing: unread.Reason}})
		case errors.As(err, &unread):
			if broken == nil {
				broken = err
			}
			err = nil
		}
		if err != nil {
			return err
		}
	}
	return broken
}

func order(first bool) int {
	if first {
		return 0
	}
	return 1
}

// zipFiles are the files of a zip file that its recordings may refer to.
type zipFiles struct {
	in    *reading
	dir   string // that names are told from
	files map[string]*zip.File
	used  map[*zip.File]bool
}

func (z *zipFiles) from(dir string) *zipFiles { return &zipFiles{z.in, dir, z.files, z.used} }

// Open implements [fs.FS].
func (z *zipFiles) Open(name string) (fs.File, error) {
	f := z.files[path.Join(z.dir, name)]
	if f == nil || f.Flags&1 != 0 {
		return nil, fs.ErrNotExist
	}
	z.used[f] = true
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	return &zipFile{r, f, &measured{r: r, in: z.in}}, nil
}

// zipFile is an open file of a zip file.
type zipFile struct {
	io.ReadCloser
	file     *zip.File
	measured *measured
}

// Stat implements [fs.File].
func (z *zipFile) Stat() (fs.FileInfo, error) { return z.file.FileInfo(), nil }

// Read implements [fs.File]; the bytes count for the whole recording.
func (z *zipFile) Read(p []byte) (int, error) { return z.measured.Read(p) }

// longestName limits file names in a zip file.
const longestName = 4096

// shownName makes an untrusted name printable on one line.
func shownName(name string) string {
	name = name[:min(len(name), longestName)]
	return strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, name), "\uFFFD")
}

func (in *reading) zipped(name string, f *zip.File, packing int, beside *zipFiles) error {
	inner := name + "/" + shownName(f.Name)
	before := in.Beside
	in.Beside = beside
	defer func() { in.Beside = before }()
	if strings.HasPrefix(f.Name, "/") || strings.Contains("/"+f.Name+"/", "/../") || len(f.Name) > 1 &&
		f.Name[1] == ':' {
		return &Error{File: name + "/" + clip(path.Base(f.Name)), Offset: -1, Unknown: true,
			Reason: "its path leads outside of the zip file; it is not read"}
	}
	if f.Flags&1 != 0 {
		return &Error{File: inner, Offset: -1, Reason: "it is encrypted in the zip file: unpack it first"}
	}
	r, err := f.Open()
	if err != nil {
		return &Error{File: inner, Offset: -1, Reason: "cannot be unpacked: " + plain(err)}
	}
	defer r.Close()
	return in.unpack(inner, &measured{r: r, in: in}, packing, "zip")
}

// seekable returns the reader's bytes with random access: the file itself, or an encrypted temporary copy without a
// name, whose key exists only in memory, so that nothing remains.
func seekable(r io.Reader) (at io.ReaderAt, size int64, done func(), err error) {
	if f, ok := r.(readerAt); ok {
		size, err := f.Seek(0, io.SeekEnd)
		return f, size, func() {}, err
	}
	f, err := os.CreateTemp("", "inkret-*")
	if err != nil {
		return nil, 0, nil, err
	}
	os.Remove(f.Name())
	s, err := newScrambled(f)
	if err == nil {
		size, err = io.Copy(s, io.LimitReader(r, maxUnpacked))
	}
	if err != nil {
		f.Close()
		return nil, 0, nil, err
	}
	return s, size, func() { f.Close() }, nil
}

// scrambled is a file encrypted with AES in counter mode (NIST SP 800-38A), readable at any position.
type scrambled struct {
	f     *os.File
	block cipher.Block
	nonce [aes.BlockSize]byte
	end   int64
}

func newScrambled(f *os.File) (*scrambled, error) {
	key := make([]byte, 32)
	rand.Read(key)
	block, err := aes.NewCipher(key)
	s := &scrambled{f: f, block: block}
	rand.Read(s.nonce[:8])
	return s, err
}

// at returns the key stream from byte offset on.
func (s *scrambled) at(offset int64) cipher.Stream {
	counter := s.nonce
	for i, n := 15, uint64(offset/aes.BlockSize); i >= 8; i-- {
		counter[i] = byte(n)
		n >>= 8
	}
	stream := cipher.NewCTR(s.block, counter[:])
	skip := make([]byte, offset%aes.BlockSize)
	stream.XORKeyStream(skip, skip)
	return stream
}

func (s *scrambled) Write(p []byte) (int, error) {
	hidden := make([]byte, len(p))
	s.at(s.end).XORKeyStream(hidden, p)
	n, err := s.f.Write(hidden)
	s.end += int64(n)
	return n, err
}

func (s *scrambled) ReadAt(p []byte, offset int64) (int, error) {
	n, err := s.f.ReadAt(p, offset)
	s.at(offset).XORKeyStream(p[:n], p[:n])
	return n, err
}

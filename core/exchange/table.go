package exchange

import (
	"bytes"
	"encoding/csv"
	"errors"
	"strconv"
	"strings"
)

// Tables of text are read as the list of their rows, each an object whose members are named by the first row.

// maxTable and tableGrowth limit how long the JSON of a table gets, as names stand in it once a row: bytes at the
// most, and bytes for each of the body.
const (
	maxTable    = 256 << 20
	tableGrowth = 32
)

// errTable is given for a table that stands for more than is read.
var errTable = errors.New("the table has more cells, or longer names, than are read")

// cell is one field of a row.
type cell struct {
	text    string
	at, end int // in the body
}

// rows hands over the rows of a table, one after the other; the cells are valid until the next.
type rows func(yield func([]cell) bool)

// table writes the rows of a table. Without a first row that names the columns, each row is a list.
func table(contentType string, body []byte, split func([]byte) rows) (Part, error) {
	w := &writer{}
	w.from(0)
	w.put("[")
	named := !strings.EqualFold(parameter(contentType, "header"), "absent")
	var names []string
	cells, first := 0, true
	most := min(maxTable, 1<<20+tableGrowth*len(body))
	for row := range split(body) {
		if cells += len(row); cells > maxElements || len(w.text) > most {
			return Part{}, errTable
		}
		if named && names == nil {
			names = make([]string, len(row))
			for i, c := range row {
				names[i] = strings.TrimSpace(c.text)
			}
			continue
		}
		if !first {
			w.put(",")
		}
		first = false
		w.row(names, row)
	}
	w.from(w.last())
	w.put("]")
	return w.part(), nil
}

// row writes one row: an object, or a list where no names are known. A cell beyond the last name is named by its
// number, from 0.
func (w *writer) row(names []string, row []cell) {
	open, end := "{", "}"
	if names == nil {
		open, end = "[", "]"
	}
	for i, c := range row {
		if i > 0 {
			w.put(",")
		}
		w.from(c.at)
		if i == 0 {
			w.put(open)
		}
		if names != nil {
			name := strconv.Itoa(i)
			if i < len(names) {
				name = names[i]
			}
			w.quote(name)
			w.put(":")
		}
		w.quote(c.text)
		w.from(c.end)
	}
	w.put(end)
}

// commaSeparated reads CSV (RFC 4180). Where the first line has semicolons and no comma, these separate.
func commaSeparated(body []byte) rows {
	if bytes.IndexByte(body, '\n') < 0 { // as old programs end lines
		body = bytes.ReplaceAll(body, []byte("\r"), []byte("\n"))
	}
	return func(yield func([]cell) bool) {
		r := csv.NewReader(bytes.NewReader(body))
		r.FieldsPerRecord, r.LazyQuotes, r.ReuseRecord = -1, true, true
		line, _, _ := bytes.Cut(body, []byte("\n"))
		if bytes.IndexByte(line, ',') < 0 && bytes.IndexByte(line, ';') >= 0 {
			r.Comma = ';'
		}
		lines := lineStarts(body)
		var row []cell
		for {
			record, err := r.Read()
			if err != nil { // the end: with lazy quotes nothing else is an error
				return
			}
			end := len(bytes.TrimRight(body[:r.InputOffset()], "\r\n"))
			row = row[:0]
			for i, text := range record {
				line, column := r.FieldPos(i)
				at := lines[line-1] + column - 1
				if i > 0 {
					row[i-1].end = max(row[i-1].at, at-1)
				}
				row = append(row, cell{text, at, max(at, end)})
			}
			if !yield(row) {
				return
			}
		}
	}
}

// lineStarts returns where each line begins.
func lineStarts(body []byte) []int {
	starts := []int{0}
	for i, c := range body {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// tabSeparated reads text/tab-separated-values (IANA, 1993): no cell holds a tab or a line end, and nothing is quoted.
func tabSeparated(body []byte) rows {
	return func(yield func([]cell) bool) {
		var row []cell
		for at := 0; at < len(body); {
			stop, next := lineEnd(body, at)
			row = row[:0]
			for from := at; stop > at; {
				end := stop
				if i := bytes.IndexByte(body[from:stop], '\t'); i >= 0 {
					end = from + i
				}
				row = append(row, cell{string(body[from:end]), from, end})
				if from = end + 1; end == stop {
					break
				}
			}
			if at = next; len(row) > 0 && !yield(row) {
				return
			}
		}
	}
}

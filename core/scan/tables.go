package scan

import (
	"bytes"
	"strconv"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// Tables write the names of their columns once: {"columns": ["id", "email"], "rows": [[1, "x"]]}. The cells of a row
// are judged as if they stood under these names, at $.rows[*][1].

// header is the names of columns that were read in an object, as JSON; nil for none.
type header struct{ names []byte }

// longestHeader limits the lists of names that are read.
const longestHeader = 64 << 10

// header reads names, if they are in a list or an object that is no longer than such lists are.
func (w *walk) header() (h header) {
	t := w.peek()
	if c := t.space(); c != '[' && c != '{' {
		return h
	}
	from := t.pos
	if len(t.data)-from > longestHeader {
		t.data, t.follows = t.data[:from+longestHeader], false
	}
	if t.pass(0) {
		h.names = w.lasting(t.data[from:t.pos])
	}
	w.peeked(&t)
	return h
}

// sweepTable sweeps the value of a member that may be part of a table. Tables in tables are not looked for, so that
// each byte is read ahead once at most.
func (w *walk) sweepTable(z zone, v *verdict, names *header, start int) bool {
	inner := zone{cover: z.cover}
	if w.tabled {
		return w.sweep(inner, v, z.entity, start)
	}
	w.tabled = true
	if v.part == detect.ColumnNames {
		*names = w.header()
	} else {
		inner.table = w.columns(*names)
	}
	ok := w.sweep(inner, v, z.entity, start)
	w.tabled = false
	return ok
}

// columns returns what the names of columns tell of the rows that begin here: a verdict for each column, nil where its
// name tells nothing; nil where none does or these are no rows. Where no names were read yet, they are looked for
// behind the rows.
func (w *walk) columns(said header) []*verdict {
	t := w.peek()
	rows := t.space() == '['
	t.pos++
	rows = rows && t.space() == '['
	if w.peeked(&t); !rows {
		return nil
	}
	if said.names == nil {
		said = w.namesBehind()
	}
	if said.names == nil {
		return nil
	}
	var all []*verdict
	tells := false
	for _, name := range columnNames(said.names) {
		told := detect.TellKey(name)
		if told.Class == catalog.Unclassed || w.judge.isValue(name) {
			all = append(all, nil)
			continue
		}
		tells = true
		all = append(all, &verdict{nameInfo: nameInfo{telling: told.Class, tells: told, beside: besideColumn}})
	}
	if !tells {
		return nil
	}
	return all
}

// namesBehind looks for the names of columns behind the rows.
func (w *walk) namesBehind() (said header) {
	t := w.peek()
	defer w.peeked(&t)
	if !t.pass(0) {
		return said
	}
	t.behind(func(name []byte, first byte, value []byte) bool {
		if !detect.NamesColumns(name) || first != '[' && first != '{' || len(value) > longestHeader {
			return true
		}
		said.names = value
		return false
	})
	return said
}

// columnNames returns the names in a list of texts, or of objects that have a name each; an object may have that list
// under a name that says so.
func columnNames(list []byte) (names [][]byte) {
	t := tokens{data: list}
	if t.space() == '{' {
		t.members(func(name []byte) bool {
			from := t.pos
			if ok := t.pass(1); !ok {
				return false
			}
			if inner := bytes.TrimLeft(list[from:t.pos], " \t\r\n"); names == nil && detect.NamesColumns(name) &&
				len(inner) > 0 && inner[0] == '[' {
				names = columnNames(inner)
			}
			return true
		})
		return names
	}
	t.pos++
	for t.space() != ']' {
		var name []byte
		switch t.space() {
		case '"':
			s, ok := t.string()
			if !ok {
				return names
			}
			name = unquote(nil, s.raw)
		case '{':
			t.members(func(member []byte) bool {
				isText := t.space() == '"'
				from := t.pos
				if !t.pass(1) {
					return false
				}
				if isText && name == nil && detect.PartOf(member) == detect.PairKey {
					name = unquote(nil, t.data[from+1:t.pos-1])
				}
				return true
			})
		default:
			if !t.pass(1) {
				return names
			}
		}
		names = append(names, name)
		if more, ok := t.more(']'); !ok || !more {
			return names
		}
	}
	return names
}

// members calls f behind the name of each member of the object that begins here; f reads the value.
func (t *tokens) members(f func(name []byte) bool) {
	t.pos++
	for first := true; ; first = false {
		if c := t.space(); c == '}' && first {
			t.pos++
			return
		} else if c != '"' {
			return
		}
		s, ok := t.string()
		if !ok || !t.colon() || !f(unquote(nil, s.raw)) {
			return
		}
		if more, ok := t.more('}'); !ok || !more {
			return
		}
	}
}

// cell returns the verdict on a cell of a row, or nil.
func (z *zone) cell(i int) *verdict {
	if i < len(z.row) {
		return z.row[i]
	}
	return nil
}

// nth returns the path of an element of which the number counts.
func (j *Judge) nth(n *pathNode, index int) *pathNode {
	if p := n.nths[index]; p != nil {
		return p
	}
	next := &pathNode{path: n.path + "[" + strconv.Itoa(index) + "]"}
	if j.nodes < maxPaths {
		j.nodes++
		if n.nths == nil {
			n.nths = map[int]*pathNode{}
		}
		n.nths[index] = next
	}
	return next
}

package document

import (
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"inkret/core/place"
)

// Op is one operation of a JSON Patch (RFC 6902): add, remove, replace, test, or a move that renames a key within
// its mapping.
type Op struct {
	Op    string
	Path  string // JSON Pointer (RFC 6901)
	From  string // of a move
	Value *Value // of add, replace and test
}

// errText is returned for a place whose text cannot be edited automatically.
var errText = errors.New("this place can be changed in the text only")

// Apply applies operations to a document's text. Everything else stays byte for byte, including comments and order.
// Either all operations are applied, or none and an error names the one that failed.
//
// JSON stays JSON, and if all lines end in CR LF, new ones do too.
func Apply(text string, ops []Op) (string, error) { return ApplyTo("", text, ops) }

// ApplyTo is Apply for a named file; its parse results are cached under that name.
func ApplyTo(file, text string, ops []Op) (string, error) {
	if n := strings.Count(text, "\n"); n > 0 && strings.Count(text, "\r\n") == n {
		done, err := ApplyTo(file, strings.ReplaceAll(text, "\r\n", "\n"), ops)
		return strings.ReplaceAll(done, "\n", "\r\n"), err
	}
	if text != "" && !strings.HasSuffix(text, "\n") { // it is read with a last line end, and given back without
		done, err := ApplyTo(file, text+"\n", ops)
		return strings.TrimSuffix(done, "\n"), err
	}
	for done := 0; done < len(ops); {
		p, err := newPatch(file, text)
		if err != nil {
			return "", err
		}
		from := done
		for ; done < len(ops); done++ {
			again, err := p.op(ops[done])
			if err != nil {
				return "", fmt.Errorf("%s %s: %w", ops[done].Op, ops[done].Path, err)
			}
			if again {
				break // it depends on what comes before: read the text anew first
			}
		}
		if text, err = p.finish(ops[from:done]); err != nil {
			return "", err
		}
	}
	return text, nil
}

// patch collects the changes of one parsed text.
type patch struct {
	file    string
	text    string
	starts  []int // byte at which each line starts
	root    *Node
	want    *Value // what the document is to become
	splices []splice
	fenced  []string // containers whose other places may have moved
	json    bool     // the text is JSON, which is written otherwise
}

type splice struct {
	from, to int
	text     string
}

func newPatch(file, text string) (*patch, error) {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	p := &patch{file: file, text: text, json: json.Valid([]byte(text))}
	var fault error
	p.root = Parse(file, []byte(text), func(at *Node, expected, found string) {
		if fault == nil {
			fault = fmt.Errorf("line %d: %s", at.Line, found)
		}
	})
	if fault != nil || p.root == nil {
		return nil, fmt.Errorf("the text has to be readable before it can be changed here: %w", fault)
	}
	p.want = ValueOf(p.root)
	for at := 0; at >= 0; {
		p.starts = append(p.starts, at)
		next := strings.IndexByte(text[at:], '\n')
		if next < 0 {
			break
		}
		at += next + 1
	}
	return p, nil
}

// op adds one operation; again means that the text must be parsed again first.
func (p *patch) op(o Op) (again bool, err error) {
	tokens, ok := place.SplitPointer(o.Path)
	if !ok || len(tokens) == 0 {
		return false, fmt.Errorf("%q is no JSON Pointer below the document", o.Path)
	}
	for _, f := range p.fenced {
		if o.Path == f || strings.HasPrefix(o.Path, f+"/") || strings.HasPrefix(f, o.Path+"/") {
			return true, nil
		}
	}
	parent, last := p.root.Find(tokens[:len(tokens)-1]), tokens[len(tokens)-1]
	if parent == nil {
		if len(p.splices) > 0 {
			return true, nil
		}
		return false, fmt.Errorf("there is no %s", o.Path[:strings.LastIndexByte(o.Path, '/')])
	}
	there := parent.Find(tokens[len(tokens)-1:])
	if parent.Aliased || there != nil && there.Aliased {
		return false, errText
	}
	before := len(p.splices)
	switch o.Op {
	case "add":
		if there != nil && parent.Kind == Map {
			p.replace(there, o.Value)
		} else if err = p.add(parent, last, o.Value); err == nil && parent.Kind != Map {
			p.fenced = append(p.fenced, parent.Pointer())
		}
	case "replace", "remove", "test", "move":
		target := there
		if o.Op == "move" {
			target = p.root.Find(split(o.From))
		}
		done, again, err := p.onto(o, target, parent, there, last)
		if done || again || err != nil {
			return again, err
		}
	default:
		return false, fmt.Errorf("%q is none of add, remove, replace, move, test", o.Op)
	}
	if err != nil {
		return false, err
	}
	for _, new := range p.splices[before:] {
		for _, old := range p.splices[:before] {
			if new.from <= old.to && old.from <= new.to {
				p.splices = p.splices[:before]
				return true, nil
			}
		}
	}
	return false, change(p.want, o, tokens)
}

// onto applies an operation to an existing node. done means that nothing changes, again that the text must be
// parsed again first. parent contains there, under the name last.
func (p *patch) onto(o Op, target, parent, there *Node, last string) (done, again bool, err error) {
	if target == nil {
		if len(p.splices) > 0 {
			return false, true, nil
		}
		return false, false, errors.New("nothing stands there")
	}
	switch o.Op {
	case "replace":
		p.replace(target, o.Value)
	case "remove":
		p.remove(target)
		p.fenced = append(p.fenced, parent.Pointer())
	case "test":
		if len(p.splices) > 0 {
			return false, true, nil
		}
		if !ValueOf(target).equal(o.Value) {
			return false, false, errors.New("something else stands there by now")
		}
		return true, false, nil
	case "move":
		if target.Parent != parent || target.Name == nil || target.Aliased {
			return false, false, errors.New("a move can rename a key within its mapping only")
		}
		if there != nil && there != target {
			return false, false, fmt.Errorf("%q is there already", last)
		}
		at := p.offset(target.Name)
		p.cut(at, at+p.keyLength(at), p.key(last, parent.inFlow()))
		p.fenced = append(p.fenced, parent.Pointer())
	}
	return false, false, nil
}

// key writes a name.
func (p *patch) key(name string, flow bool) string {
	if p.json {
		return quoted(name)
	}
	return plainOrQuoted(name, flow)
}

// inBraces writes a value as it stands in braces.
func (p *patch) inBraces(v *Value) string {
	if p.json {
		return v.JSON()
	}
	return v.line(true)
}

func split(pointer string) []string {
	tokens, _ := place.SplitPointer(pointer)
	return tokens
}

// finish applies the changes and checks the result against the expected values.
func (p *patch) finish(ops []Op) (string, error) {
	sort.SliceStable(p.splices, func(i, k int) bool { return p.splices[i].from < p.splices[k].from })
	var b strings.Builder
	at := 0
	for _, s := range p.splices {
		b.WriteString(p.text[at:s.from])
		b.WriteString(s.text)
		at = s.to
	}
	b.WriteString(p.text[at:])
	done, err := newPatch(p.file, b.String())
	if err != nil || !done.want.equal(p.want) || p.json && !done.json {
		path := ""
		if len(ops) > 0 {
			path = ops[0].Path
		}
		return "", fmt.Errorf("%s: %w", path, errText)
	}
	return b.String(), nil
}

// change applies an operation to values (RFC 6902).
func change(root *Value, o Op, tokens []string) error {
	v := root
	for _, t := range tokens[:len(tokens)-1] {
		if v = v.below(t); v == nil {
			return errText
		}
	}
	last := tokens[len(tokens)-1]
	if v.Kind == Null && o.Op == "add" { // nothing becomes a mapping, or with "-" a list, with the first that is added
		v.Kind = Map
		if last == "-" {
			v.Kind = List
		}
	}
	index := len(v.Items)
	if v.Kind == Map {
		for i, k := range v.Keys {
			if k == last || o.Op == "move" && k == split(o.From)[len(tokens)-1] {
				index = i
			}
		}
	} else if last != "-" {
		index, _ = strconv.Atoi(last)
	}
	switch {
	case o.Op == "move":
		v.Keys[index] = last
	case o.Op == "remove":
		v.Items = append(v.Items[:index:index], v.Items[index+1:]...)
		if v.Kind == Map {
			v.Keys = append(v.Keys[:index:index], v.Keys[index+1:]...)
		}
	case o.Op == "replace" || v.Kind == Map && index < len(v.Items):
		v.Items[index] = o.Value
	case v.Kind == Map:
		v.Set(last, o.Value)
	default:
		v.Items = append(v.Items[:index:index], append([]*Value{o.Value}, v.Items[index:]...)...)
	}
	return nil
}

func (v *Value) below(token string) *Value {
	if v.Kind == Map {
		return v.Get(token)
	}
	i, err := strconv.Atoi(token)
	if err != nil || i < 0 || i >= len(v.Items) {
		return nil
	}
	return v.Items[i]
}

func (p *patch) cut(from, to int, text string) { p.splices = append(p.splices, splice{from, to, text}) }

// offset returns the byte at which a node starts.
func (p *patch) offset(n *Node) int {
	at := p.starts[n.Line-1]
	for i := 1; i < n.Column; i++ {
		_, size := utf8.DecodeRuneInString(p.text[at:])
		at += size
	}
	return at
}

func (n *Node) inFlow() bool {
	for ; n != nil; n = n.Parent {
		if n.Flow {
			return true
		}
	}
	return false
}

// keyLength returns the length of the key at a byte, including quotes.
func (p *patch) keyLength(at int) int {
	if q := p.text[at]; q == '"' || q == '\'' {
		return quotedEnd(p.text, at) - at
	}
	end := at
	for end < len(p.text) && p.text[end] != '\n' && !(p.text[end] == ':' && (end+1 == len(p.text) ||
		strings.IndexByte(" \n\t,}", p.text[end+1]) >= 0)) {
		end++
	}
	return end - at
}

func quotedEnd(text string, at int) int {
	quote := text[at]
	for i := at + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quote == '"':
			i++
		case text[i] == quote && quote == '\'' && i+1 < len(text) && text[i+1] == quote:
			i++
		case text[i] == quote:
			return i + 1
		}
	}
	return len(text)
}

// part is one entry of a mapping or list in braces, without surrounding space and comments.
type part struct{ from, to int }

// flowParts returns the entries of the mapping or list that opens at a byte, and its closing byte.
func (p *patch) flowParts(at int) (parts []part, end int) {
	depth, from, to := 0, -1, -1
	close := func() {
		if from >= 0 {
			parts = append(parts, part{from, to})
		}
		from = -1
	}
	for i := at; i < len(p.text); i++ {
		c := p.text[i]
		if c == '#' && i > 0 && strings.IndexByte(" \n\t\r", p.text[i-1]) >= 0 {
			for i+1 < len(p.text) && p.text[i+1] != '\n' {
				i++
			}
			continue
		}
		first := i
		switch {
		case strings.IndexByte(" \n\t\r", c) >= 0:
			continue
		case (c == '"' || c == '\'') && strings.IndexByte(" ,{[:\n\t\r", p.text[max(i-1, 0)]) >= 0:
			i = quotedEnd(p.text, i) - 1
		case c == '{' || c == '[':
			if depth++; depth == 1 {
				continue
			}
		case c == '}' || c == ']':
			if depth--; depth == 0 {
				close()
				return parts, i
			}
		case c == ',' && depth == 1:
			close()
			continue
		}
		if from < 0 {
			from = first
		}
		to = i + 1
	}
	return parts, len(p.text)
}

// comma returns the comma after a part.
func (p *patch) comma(from, to int) int {
	for i := from; i < to; i++ {
		switch c := p.text[i]; {
		case c == ',':
			return i
		case c == '#':
			for i+1 < to && p.text[i+1] != '\n' {
				i++
			}
		}
	}
	return to
}

// indentation counts the leading blanks of line i (from 0); -1 for blank lines and comments.
func (p *patch) indentation(i int) int {
	line := p.line(i)
	trimmed := strings.TrimLeft(line, " ")
	if strings.TrimSpace(trimmed) == "" || trimmed[0] == '#' {
		return -1
	}
	return len(line) - len(trimmed)
}

func (p *patch) line(i int) string {
	end := len(p.text)
	if i+1 < len(p.starts) {
		end = p.starts[i+1] - 1
	}
	return p.text[p.starts[i]:max(end, p.starts[i])]
}

// blockEnd returns the line after a block that begins in line first with the given indentation. dashes means that a
// list in it is not indented deeper.
func (p *patch) blockEnd(first, indent int, dashes bool) int {
	end := first + 1
	for i := first + 1; i < len(p.starts); i++ {
		in := p.indentation(i)
		if in < 0 {
			if trimmed := strings.TrimLeft(p.line(i), " "); trimmed != "" && len(p.line(i))-len(trimmed) > indent &&
				end == i {
				end = i + 1 // a comment further in belongs here
			}
			continue
		}
		if in < indent || in == indent && !(dashes && strings.HasPrefix(p.line(i)[in:], "-")) {
			break
		}
		end = i + 1
	}
	return end
}

// pairLines returns the lines of a pair in a block mapping.
func (p *patch) pairLines(n *Node) (first, end, indent int) {
	first, indent = n.Name.Line-1, n.Name.Column-1
	return first, p.blockEnd(first, indent, n.Kind == List && !n.Flow), indent
}

// itemDash returns the line of a list item and the column of its dash, from 0.
func (p *patch) itemDash(n *Node) (line, column int) {
	line = n.Line - 1
	if n.Kind == Map && !n.Flow && len(n.Pairs) > 0 {
		line = n.Pairs[0].Name.Line - 1
	}
	for ; line >= 0; line-- {
		text := p.line(line)
		limit := len(text)
		if line == n.Line-1 && n.Column-1 < limit {
			limit = n.Column
		}
		if i := strings.LastIndex(text[:limit], "- "); i >= 0 && strings.Trim(text[:i], " -") == "" {
			return line, i
		}
		if strings.TrimSpace(text) == "-" {
			return line, strings.IndexByte(text, '-')
		}
	}
	return 0, 0
}

func (p *patch) lineStart(i int) int {
	if i < len(p.starts) {
		return p.starts[i]
	}
	return len(p.text)
}

// replace replaces n by v.
func (p *patch) replace(n *Node, v *Value) {
	switch {
	case n.Parent.Flow:
		from, to := p.flowValue(n)
		text := p.inBraces(v)
		if v.Kind == Null && n.Parent.Kind == List {
			text = "null"
		}
		if from > 0 && p.text[from-1] == ':' {
			text = " " + text
		}
		p.cut(from, to, text)
	case n.Name != nil:
		first, end, indent := p.pairLines(n)
		at := p.offset(n.Name)
		at += p.keyLength(at) + 1
		comment := p.comment(n, first, at)
		text := string(v.appendBehind(nil, indent, at-p.starts[first]))
		if comment != "" {
			head, rest, _ := strings.Cut(text, "\n")
			text = head + comment + "\n" + rest
		}
		p.cut(at, p.lineStart(end), text)
	default:
		line, dash := p.itemDash(n)
		from := p.starts[line] + dash + 2
		p.cut(from, p.lineStart(p.blockEnd(line, dash, false)), string(v.appendItem(nil, dash)))
	}
}

// comment returns the comment at the end of the line of n's key, including the space before it.
func (p *patch) comment(n *Node, line, at int) string {
	text := p.line(line)
	from := at - p.starts[line]
	switch {
	case n.Flow:
		_, end := p.flowParts(p.offset(n))
		if end -= p.starts[line]; end >= len(text) {
			return ""
		}
		from = end
	case n.Kind == String && n.Line-1 == line && strings.IndexByte("'\"", p.text[p.offset(n)]) >= 0:
		from = min(quotedEnd(p.text, p.offset(n))-p.starts[line], len(text))
	}
	if i := strings.Index(text[min(from, len(text)):], " #"); i >= 0 {
		i += from
		for i > from && text[i-1] == ' ' {
			i--
		}
		return text[i:]
	}
	return ""
}

// flowValue returns the range of a value in braces.
func (p *patch) flowValue(n *Node) (from, to int) {
	parts, _ := p.flowParts(p.offset(n.Parent))
	index := n.Index
	if n.Name != nil {
		index = n.Parent.indexOf(n)
	}
	if index >= len(parts) {
		return 0, 0 // finish tells that this did not work
	}
	one := parts[index]
	if n.Name == nil {
		return one.from, one.to
	}
	at := one.from + p.keyLength(one.from)
	for at < one.to && p.text[at] != ':' { // space may stand before the colon
		at++
	}
	if at++; at < one.to && p.text[at] == ' ' {
		for at < one.to && p.text[at] == ' ' {
			at++
		}
	}
	return min(at, one.to), one.to
}

func (n *Node) indexOf(child *Node) int {
	for i, p := range n.Pairs {
		if p == child {
			return i
		}
	}
	return len(n.Pairs)
}

// add adds v under a new key, or before a list item.
func (p *patch) add(parent *Node, key string, v *Value) error {
	index := len(parent.Items)
	if parent.Kind == List && key != "-" {
		i, err := strconv.Atoi(key)
		if err != nil || i < 0 || i > index {
			return fmt.Errorf("%q is no place in a list of %d", key, index)
		}
		index = i
	}
	entry := &Value{Kind: List, Items: []*Value{v}}
	if parent.Kind == Map || parent.Kind == Null && key != "-" {
		entry = Mapping().Set(key, v)
	}
	switch {
	case parent.Kind != Map && parent.Kind != List && parent.Kind != Null:
		return fmt.Errorf("%s can hold nothing", parent.Describe())
	case parent.Parent == nil && parent.Kind == Null:
		return errText
	case parent.Kind == Null:
		entry.Block = !parent.Parent.inFlow()
		p.replace(parent, entry)
	case parent.Flow:
		p.addInBraces(parent, index, entry)
	case parent.Kind == Map && len(parent.Pairs) > 0:
		last := parent.Pairs[len(parent.Pairs)-1]
		if last.Aliased {
			return errText
		}
		_, end, indent := p.pairLines(last)
		p.cut(p.lineStart(end), p.lineStart(end), string(entry.Append(nil, indent)))
	case parent.Kind == List && len(parent.Items) > 0:
		at := parent.Items[min(index, len(parent.Items)-1)]
		line, dash := p.itemDash(at)
		if index == len(parent.Items) {
			line = p.blockEnd(line, dash, false)
		}
		p.cut(p.lineStart(line), p.lineStart(line), string(entry.Append(nil, dash)))
	default:
		return errText
	}
	return nil
}

func (p *patch) addInBraces(parent *Node, index int, entry *Value) {
	parts, end := p.flowParts(p.offset(parent))
	text := p.inBraces(entry)
	text = text[1 : len(text)-1]
	line := p.line(parent.Line - 1)
	alone := parent.Name != nil && !parent.Parent.inFlow() && !strings.Contains(p.text[p.offset(parent):end], "\n")
	// too long for one line: from now on written in several
	if alone && !p.json && utf8.RuneCountInString(line)+len(text) > widest {
		whole := ValueOf(parent)
		if parent.Kind == Map {
			whole.Set(entry.Keys[0], entry.Items[0])
		} else {
			whole.Items = append(whole.Items[:index:index], append([]*Value{entry.Items[0]}, whole.Items[index:]...)...)
		}
		whole.Block = true
		p.replace(parent, whole)
		return
	}
	if open := p.offset(parent) + 1; len(parts) == 0 && strings.Contains(p.text[open:end], "#") { // comments stay
		p.cut(open, open, text)
		return
	} else if len(parts) == 0 {
		p.cut(open, end, text)
		return
	}
	between := ", "
	if blank := p.blankBefore(parts[len(parts)-1].from); blank >= 0 { // each entry has a line of its own
		between = ",\n" + strings.Repeat(" ", blank)
	}
	if parent.Kind == List && index < len(parts) {
		p.cut(parts[index].from, parts[index].from, text+between)
		return
	}
	last := parts[len(parts)-1].to
	if p.text[last-1] == ':' && p.text[last] == ' ' { // nothing stands behind the colon: {id: , name: }
		last++
	}
	p.cut(last, last, between+text)
}

// blankBefore counts the blanks between the start of the line and a byte; -1 if there is anything else.
func (p *patch) blankBefore(at int) int {
	n := 0
	for at > 0 && (p.text[at-1] == ' ' || p.text[at-1] == '\t') {
		n, at = n+1, at-1
	}
	if at > 0 && p.text[at-1] == '\n' {
		return n
	}
	return -1
}

// remove removes n.
func (p *patch) remove(n *Node) {
	parent := n.Parent
	siblings := len(parent.Pairs) + len(parent.Items)
	switch {
	case parent.Flow:
		parts, end := p.flowParts(p.offset(parent))
		index := n.Index
		if n.Name != nil {
			index = parent.indexOf(n)
		}
		switch {
		case index >= len(parts):
			p.cut(0, 0, "")
		case len(parts) == 1 && strings.Contains(p.text[p.offset(parent):end], "#"): // comments stay
			p.cut(parts[0].from, p.comma(parts[0].to, end-1)+1, "")
		case len(parts) == 1:
			p.cut(p.offset(parent)+1, end, "")
		case index == 0:
			p.cutEntry(parts[0].from, parts[1].from)
		case !strings.Contains(p.text[parts[index-1].to:parts[index].from], "#"):
			p.cut(parts[index-1].to, parts[index].to, "")
		case index+1 < len(parts):
			p.cutEntry(parts[index].from, parts[index+1].from)
		default: // the comma before the last goes by itself
			comma := p.comma(parts[index-1].to, parts[index].from)
			p.cut(comma, comma+1, "")
			p.cut(parts[index].from, parts[index].to, "")
		}
	case siblings == 1 && parent.Parent != nil: // an empty mapping or list stays
		p.replace(parent, &Value{Kind: parent.Kind})
	case n.Name != nil:
		first, end, indent := p.pairLines(n)
		// after a dash: the next key moves there
		if from := p.starts[first] + indent; strings.TrimSpace(p.text[p.starts[first]:from]) != "" {
			next := parent.Pairs[1].Name
			p.cut(from, p.offset(next), "")
			return
		}
		p.cut(p.starts[first], p.lineStart(end), "")
	default:
		line, dash := p.itemDash(n)
		p.cut(p.starts[line], p.lineStart(p.blockEnd(line, dash, false)), "")
	}
}

// cutEntry removes an entry in braces and what separates it from the next, except comments.
func (p *patch) cutEntry(from, next int) {
	if strings.Contains(p.text[from:next], "#") {
		for depth, i := 0, from; i < len(p.text); i++ { // the comma behind it, and none in it
			switch c := p.text[i]; {
			case c == '"' || c == '\'' && strings.IndexByte(" ,{[:\n", p.text[i-1]) >= 0:
				i = quotedEnd(p.text, i) - 1
			case c == '{' || c == '[':
				depth++
			case c == '}' || c == ']':
				depth--
			case c == ',' && depth == 0:
				p.cut(from, i+1, "")
				return
			}
		}
	}
	p.cut(from, next, "")
}

package exchange

import (
	"bytes"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/net/html"
)

// pages finds JSON embedded in a page.
type pages struct {
	found []Part
	count map[string]int // parts of a place
}

// page finds the JSON texts in an HTML document (HTML standard, sections 4.12 and 13.2.5) and appends them to dst.
func page(dst []Part, body []byte) []Part {
	p := &pages{found: dst, count: map[string]int{}}
	z := html.NewTokenizer(bytes.NewReader(body))
	z.SetMaxBuf(0)
	at := 0
	var script []html.Attribute
	inScript := false
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			return p.found
		}
		from := at
		at += len(z.Raw())
		switch kind {
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			for _, a := range t.Attr {
				if value := []byte(strings.TrimSpace(a.Val)); looksLikeJSON(value) && filledJSON(value) {
					p.add(named(t.Data, t.Attr)+"["+a.Key+"]", value, from, false)
				}
			}
			inScript, script = t.Data == "script" && kind == html.StartTagToken, t.Attr
		case html.TextToken:
			if inScript {
				p.script(script, body[from:at], from)
			}
			inScript = false
		default:
			inScript = false
		}
	}
}

// named returns an element as a selector: its name, and its id if it has one.
func named(name string, attributes []html.Attribute) string {
	if id := attribute(attributes, "id"); id != "" && strings.IndexFunc(id, notPlain) < 0 {
		return name + "#" + id
	}
	return name
}

func notPlain(r rune) bool {
	return r != '-' && r != '_' && (r < '0' || r > '9') && (r|0x20 < 'a' || r|0x20 > 'z')
}

func attribute(all []html.Attribute, name string) string {
	for _, a := range all {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// add adds a text found at a place. runs means that it occurs in the body byte by byte from at on.
func (p *pages) add(place string, text []byte, at int, runs bool) {
	p.count[place]++
	pointer := place
	if n := p.count[place]; n > 1 {
		pointer += "(" + strconv.Itoa(n) + ")"
	}
	p.found = append(p.found, Part{Place: place, Pointer: pointer, Text: text, anchors: []anchor{{0, at, runs}}})
}

// script reads a script element: JSON, or a program that assigns it.
func (p *pages) script(attributes []html.Attribute, text []byte, at int) {
	kind, name := mediaOf(attribute(attributes, "type"))
	switch {
	case kind == isJSON:
		lead := len(text) - len(bytes.TrimLeft(text, " \t\r\n"))
		if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 {
			p.add(named("script", attributes), trimmed, at+lead, true)
		}
	case name == "" || name == "module" || strings.HasSuffix(name, "javascript") ||
		strings.HasSuffix(name, "ecmascript"):
		p.program(text, at)
	}
}

const (
	parseCall = "JSON.parse("
	// tries limits the work on one script, in bytes read while looking for JSON, by the script's length.
	tries = 16
)

// program finds the JSON values that a program assigns or passes: `name = {…}`, `name = JSON.parse("…")`,
// `name({…})`.
func (p *pages) program(text []byte, at int) {
	left := tries * len(text)
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '"' || c == '\'' || c == '`' { // strings hold no assignments
			i = stringEnd(text, i)
			continue
		}
		if c != '=' && c != '(' && c != ':' {
			continue
		}
		k := skipSpace(text, i+1)
		target := targetBefore(text, i)
		if k >= len(text) || target == "" || left <= 0 {
			continue
		}
		switch rest := text[k:]; {
		case bytes.HasPrefix(rest, []byte(parseCall)):
			from := skipSpace(text, k+len(parseCall))
			if from >= len(text) || text[from] != '\'' && text[from] != '"' && text[from] != '`' {
				continue
			}
			end := stringEnd(text, from)
			if end < len(text) {
				if value := bytes.TrimSpace(scriptString(text[from+1 : end])); looksLikeJSON(value) &&
					filledJSON(value) {
					p.add("script "+target, value, at+from, false)
				}
			}
			i = end
		case c != ':' && (rest[0] == '{' || rest[0] == '['):
			n, read := valueAt(rest)
			left -= read
			if n > 0 && skipSpace(rest, 1) < n-1 {
				p.add("script "+target, rest[:n], at+k, true)
				i = k + n - 1
			}
		}
	}
}

// valueAt returns the length of the JSON value at the start of text (0 for none), and how many bytes were read to
// find out.
func valueAt(text []byte) (length, read int) {
	d := jsontext.NewDecoder(bytes.NewBuffer(text), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	if _, err := d.ReadValue(); err != nil {
		return 0, int(d.InputOffset()) + 64 // it says no more than where the last whole token ended
	}
	return int(d.InputOffset()), int(d.InputOffset())
}

func filledJSON(text []byte) bool {
	n, _ := valueAt(text)
	return n == len(text) && skipSpace(text, 1) < n-1
}

func skipSpace(text []byte, i int) int {
	for i < len(text) && (text[i] == ' ' || text[i] == '\t' || text[i] == '\r' || text[i] == '\n') {
		i++
	}
	return i
}

// stringEnd returns the closing quote of the string that begins at i, or the end of the line or text.
func stringEnd(text []byte, i int) int {
	quote := text[i]
	for k := i + 1; k < len(text); k++ {
		switch {
		case text[k] == '\\':
			k++
		case text[k] == quote, text[k] == '\n' && quote != '`':
			return k
		}
	}
	return len(text)
}

// longestTarget limits the name that a value is assigned to.
const longestTarget = 100

// targetBefore returns the name before byte i: `window.state`, also written as window["state"]. It is empty if
// there is none, as before a comparison.
func targetBefore(text []byte, i int) string {
	end := i
	for end > 0 && (text[end-1] == ' ' || text[end-1] == '\t' || text[end-1] == '\n' || text[end-1] == '\r') {
		end--
	}
	from := end
	for from > 0 && end-from < longestTarget {
		if c := text[from-1]; notPlain(rune(c)) && c != '.' && c != '$' && c != '[' && c != ']' && c != '"' &&
			c != '\'' || c == '-' {
			break
		}
		from--
	}
	target := strings.NewReplacer(`["`, ".", `"]`, "", `['`, ".", `']`, "").Replace(string(text[from:end]))
	if strings.ContainsAny(target, `"'[]`) || strings.Trim(target, ".") != target || target == "" || target[0] >= '0' &&
		target[0] <= '9' {
		return ""
	}
	switch target {
	case "return", "if", "for", "while", "switch", "typeof", "in", "of", "new":
		return ""
	}
	return target
}

// scriptString decodes an ECMAScript string (ECMA-262 section 12.9.4).
func scriptString(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			out = append(out, raw[i])
			continue
		}
		i++
		switch c := raw[i]; c {
		case 'n':
			out = append(out, '\n')
		case 't':
			out = append(out, '\t')
		case 'r':
			out = append(out, '\r')
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case '\n':
		case 'x', 'u':
			digits := 2
			if c == 'u' {
				digits = 4
			}
			if i+digits < len(raw) {
				if n, err := strconv.ParseUint(string(raw[i+1:i+1+digits]), 16, 32); err == nil {
					// half of a surrogate pair: JSON has the same escape
					if out = append(out, string(rune(n))...); n >= 0xd800 && n < 0xe000 {
						out = append(out[:len(out)-3], raw[i-1:i+1+digits]...)
					}
					i += digits
					continue
				}
			}
			out = append(out, c)
		default:
			out = append(out, c)
		}
	}
	return out
}

// PageText is a text that people read in a page.
type PageText struct {
	At   int    // its first byte in the body
	Text []byte // its escapes undone
}

// PageTexts returns the texts of a page that are not blank, those of scripts and styles left out.
func PageTexts(body []byte) (all []PageText) {
	z := html.NewTokenizer(bytes.NewReader(body))
	z.SetMaxBuf(0)
	at, quiet := 0, false
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			return all
		}
		from := at
		at += len(z.Raw())
		switch kind {
		case html.StartTagToken:
			name, _ := z.TagName()
			quiet = string(name) == "script" || string(name) == "style"
		case html.TextToken:
			if text := bytes.TrimSpace(z.Text()); len(text) > 0 && !quiet {
				lead := bytes.Index(body[from:at], text[:1])
				all = append(all, PageText{from + max(0, lead), bytes.Clone(text)})
			}
			quiet = false
		default:
			quiet = false
		}
	}
}

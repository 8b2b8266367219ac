package exchange

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// element is an XML element or attribute.
type element struct {
	name    string
	text    strings.Builder
	at, end int
	below   []*element
}

// maxElements and maxNesting limit how much of one document is read.
const (
	maxElements = 1_000_000
	maxNesting  = 10_000
)

// xmlPart parses an XML document. Only the five entities of XML 1.0 section 4.6 and character references are
// expanded; declared entities are an error.
func xmlPart(body []byte) (Part, error) {
	d := xml.NewDecoder(bytes.NewReader(body))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // [Text] has undone it
	root := &element{}
	open, count := []*element{root}, 0
	for {
		at := int(d.InputOffset())
		token, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Part{}, fmt.Errorf("the body is not XML: %s", strings.TrimPrefix(err.Error(), "XML syntax error "))
		}
		top := open[len(open)-1]
		switch t := token.(type) {
		case xml.StartElement:
			if count += 1 + len(t.Attr); count > maxElements || len(open) > maxNesting {
				return Part{}, errors.New("the XML of the body has more elements or levels than are read")
			}
			e := &element{name: t.Name.Local, at: at}
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" || a.Name.Local == "xmlns" {
					continue
				}
				b := &element{name: a.Name.Local, at: at, end: int(d.InputOffset())}
				b.text.WriteString(a.Value)
				e.below = append(e.below, b)
			}
			top.below, open = append(top.below, e), append(open, e)
		case xml.EndElement:
			if len(open) == 1 || top.name != t.Name.Local {
				return Part{}, fmt.Errorf("the body is not XML: </%s> at byte %d closes nothing", t.Name.Local, at)
			}
			top.end = int(d.InputOffset())
			open = open[:len(open)-1]
		case xml.CharData:
			top.text.Write(t)
		}
	}
	if len(open) > 1 {
		return Part{}, errors.New("the body is not XML: it ends inside <" + open[len(open)-1].name + ">")
	}
	if len(root.below) == 0 {
		return Part{}, errors.New("the body is not XML: it has no element")
	}
	root.end = len(body)
	root.text.Reset()
	w := &writer{}
	w.element(root)
	return w.part(), nil
}

// textMember is the name of text beside elements or attributes, as in XPath.
const textMember = "text()"

func (w *writer) element(e *element) {
	text := strings.TrimSpace(e.text.String())
	if len(e.below) == 0 {
		w.quote(text)
		return
	}
	if text != "" {
		b := &element{name: textMember, at: e.at, end: e.end}
		b.text.WriteString(text)
		e.below = append(e.below, b)
	}
	same := map[string][]*element{}
	var order []string
	for _, b := range e.below {
		if same[b.name] == nil {
			order = append(order, b.name)
		}
		same[b.name] = append(same[b.name], b)
	}
	w.put("{")
	for i, name := range order {
		if i > 0 {
			w.put(",")
		}
		all := same[name]
		w.from(all[0].at)
		w.quote(name)
		w.put(":")
		if len(all) == 1 {
			w.element(all[0])
		} else {
			w.put("[")
			for k, b := range all {
				if k > 0 {
					w.put(",")
				}
				w.from(b.at)
				w.element(b)
				w.from(b.end)
			}
			w.put("]")
		}
		w.from(all[len(all)-1].end)
	}
	w.put("}")
}

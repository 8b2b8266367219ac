package contract

import (
	"bytes"
	"cmp"
	"path"
	"slices"
	"strings"

	"inkret/core/document"
	"inkret/core/exchange"
	"inkret/core/graph"
	"inkret/core/message"
)

// Descriptor sets are files of a contract, in base64. `protobuf: FILE` names one by its place beside the file that
// says so.

// setsOf returns the names of the files that are named as descriptor sets or schemas, be they there or not.
func setsOf(files []File) (names []string) {
	silent := func(*document.Node, string, string) {}
	for _, f := range files {
		// most are read once
		if !bytes.Contains(f.Data, []byte("protobuf")) && !bytes.Contains(f.Data, []byte("graphql")) {
			continue
		}
		root := document.Parse(f.Name, f.Data, silent)
		if root == nil {
			continue
		}
		add := func(n *document.Node) {
			if n != nil && n.Kind == document.String && n.Text != "" && !strings.ContainsAny(n.Text, `/\`) {
				if name := besideFile(f.Name, n.Text); !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
		add(root.Get("protobuf"))
		if list := root.Get("endpoints"); list != nil {
			for _, e := range list.Items {
				add(e.Get("protobuf"))
				if g := e.Get("graphql"); g != nil {
					add(g.Get("schema"))
				}
			}
		}
	}
	return names
}

// isDocument reports whether a file is one of a contract by the end of its name.
func isDocument(name string) bool {
	switch path.Ext(name) {
	case ".yaml", ".yml", ".json":
		return true
	}
	return false
}

// isSchema reports whether a file is a schema by the end of its name.
func isSchema(name string) bool {
	switch path.Ext(name) {
	case ".graphql", ".graphqls", ".gql":
		return true
	}
	return false
}

// besideFile returns the name of a file that another names.
func besideFile(file, named string) string { return path.Join(path.Dir(file), named) }

// Missing lists the names of descriptor sets and schemas that files name and that are not among them.
func Missing(files []File) (names []string) {
	for _, name := range setsOf(files) {
		if !slices.ContainsFunc(files, func(f File) bool { return f.Name == name }) {
			names = append(names, name)
		}
	}
	return names
}

// documents returns the files that are neither descriptor sets nor schemas, and remembers all.
func (r *reader) documents(files []File) (all []File) {
	r.files = map[string]File{}
	for _, f := range files {
		r.files[f.Name] = f
	}
	sets := setsOf(files)
	for _, f := range files {
		named := slices.Contains(sets, f.Name)
		if !message.Is(f.Data) && !isSchema(f.Name) && (!named || isDocument(f.Name) && !graph.Is(f.Data)) {
			all = append(all, f)
		}
	}
	return all
}

// messages reads the descriptor set of all endpoints.
func (r *reader) messages(nodes []*document.Node) {
	for i, n := range nodes {
		if i > 0 {
			r.report(n, "one descriptor set at the top", "`protobuf` stands at %s already", nodes[0].Pos())
			continue
		}
		r.c.messages = r.messagesIn(n)
	}
}

// readBeside reads the file that n names, which stands beside the one that says so; each file once. what is
// expected there is said of one that is missing or cannot be read; ok is false then.
func readBeside[T any](r *reader, n *document.Node, known map[string]T, what, more string,
	read func([]byte) (T, error)) (of T, ok bool) {
	named := r.text(n)
	if named == "" {
		return of, false
	}
	if strings.ContainsAny(named, `/\`) {
		r.report(n, "the name of a file beside this one", "%q is in another folder", named)
		return of, false
	}
	name := besideFile(n.File, named)
	if of, ok = known[name]; ok {
		return of, true
	}
	f, is := r.files[name]
	if !is {
		r.report(n, what+" beside this file"+more, "there is no file %q", named)
		return of, false
	}
	of, err := read(f.Data)
	if err != nil {
		r.report(n, what+more, "%q: %v", named, err)
		return of, false
	}
	known[name] = of
	return of, true
}

// messagesIn reads the descriptor set that n names; nil if n is nil.
func (r *reader) messagesIn(n *document.Node) *message.Set {
	if n == nil {
		return nil
	}
	set, _ := readBeside(r, n, r.sets, "a descriptor set",
		", as protoc --include_imports --descriptor_set_out writes it", message.Read)
	return set
}

// messageOf finds the message that a response names, in the sets that apply, its own first.
func (r *reader) messageOf(resp *Response, sets ...*message.Set) {
	n := resp.where.Get("message")
	if n == nil {
		return
	}
	name, any := r.text(n), false
	for _, set := range sets {
		if any = any || set != nil; resp.message == nil {
			resp.message = set.Type(name)
		}
	}
	switch {
	case name == "" || resp.message != nil:
	case !any:
		r.report(n, "`protobuf: FILE` at the endpoint or at the top", "nothing says where the message %q is described",
			name)
	default:
		for _, set := range sets {
			if set != nil {
				r.report(n, cmp.Or(Nearest(name, set.Types()), "the full name of a message, as in quay.v1.Booking"),
					"the descriptor set has no message %q", name)
				return
			}
		}
	}
}

// MessageOf returns what the body of a response consists of, if its media type says that it is messages of Protocol
// Buffers; ok is false if nothing tells that. e and of may be nil.
func (c *Contracts) MessageOf(e *Endpoint, of *Response, contentType, path string) (m exchange.Message, ok bool) {
	if c == nil {
		return m, false
	}
	if exchange.ByMethod(contentType) {
		if e != nil {
			m.Type, m.Stream = e.messages.Answer(path)
		}
		if m.Type == nil {
			m.Type, m.Stream = c.messages.Answer(path)
		}
	}
	if m.Type == nil && of != nil && of.message != nil {
		m.Type = of.message
	}
	return m, m.Type != nil
}

// ReadsMessagesOf reports whether everything that other contracts read as messages is read as the same ones.
func (c *Contracts) ReadsMessagesOf(other *Contracts) bool {
	if !c.messages.Has(other.messages) {
		return false
	}
	for _, was := range other.Endpoints {
		i := slices.IndexFunc(c.Endpoints, func(e *Endpoint) bool { return e.Text == was.Text })
		if i < 0 {
			continue // it is compared as an endpoint
		}
		is := c.Endpoints[i]
		own := is.messages
		if own == nil {
			own = c.messages
		}
		if !own.Has(was.messages) || !readsAlike(was.Responses, is.Responses) {
			return false
		}
	}
	return readsAlike(other.Responses, c.Responses)
}

// ReadsGraphsOf returns the first endpoint, by its text, whose queries other contracts read by types that these do not
// know as they were; nothing if there is none.
func (c *Contracts) ReadsGraphsOf(other *Contracts) string {
	for _, was := range other.Endpoints {
		i := slices.IndexFunc(c.Endpoints, func(e *Endpoint) bool { return e.Template() == was.Template() })
		if i >= 0 && !readsGraphsOf(c.Endpoints[i].graph, was.graph) {
			return was.Text
		}
	}
	return ""
}

// readsAlike reports whether every message that responses name is named by others as well.
func readsAlike(was, is []*Response) bool {
	for _, w := range was {
		if w.message != nil && !slices.ContainsFunc(is, func(r *Response) bool {
			return r.message != nil && r.message.FullName() == w.message.FullName()
		}) {
			return false
		}
	}
	return true
}

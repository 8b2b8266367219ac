package schema

import "inkret/core/catalog"

// standardForms tells what members of objects are to them by the forms of JSON:API 1.1 (section 5.2) and HAL
// (draft-kelly-json-hal): what attributes and _embedded hold is of the object; relationships and links are open.
func (s *Sketch) standardForms() {
	for _, o := range s.Objects {
		resource := o.Member("type") != nil && o.Member("id") != nil && (holds(o, "attributes") || holds(o,
			"relationships"))
		for _, m := range o.Members {
			switch {
			case m.Object == nil:
			case (m.Name == "attributes" && resource || m.Name == "_embedded") && !m.Many:
				m.Group, m.Object = m.Object.copied(), nil
			case m.Name == "_links", resource && (m.Name == "relationships" || m.Name == "links" || m.Name == "meta"):
				m.Object, m.Many, m.Open, m.Form.Type = nil, false, true, catalog.Object
			}
		}
	}
}

// holds reports whether an object has a member that is an object.
func holds(o *Object, name string) bool {
	m := o.Member(name)
	return m != nil && m.Object != nil && !m.Many
}

// copied returns an object with members of its own, which hold the same.
func (o *Object) copied() *Object {
	c := *o
	c.Members = nil
	for _, m := range o.Members {
		one := *m
		c.Members = append(c.Members, &one)
	}
	return &c
}

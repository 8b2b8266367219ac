package observe

import (
	"bytes"
	"regexp"

	"github.com/go-json-experiment/json/jsontext"
)

// Forms of bodies that standards give: JSON:API 1.1 (resources with attributes, relationships and what is
// included) and HAL (draft-kelly-json-hal: _links and _embedded). What a resource's attributes hold is of the
// resource; what says how it is linked is no part of it.

const mostTypes = 32 // of resources in one list

// typeWord matches what may be a resource's type: a name, and no value.
var typeWord = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_:.-]{0,60}$`)

// included learns a list of resources of several types, each type apart, and all as one.
func (o *Observer) included(dec *jsontext.Decoder, s *spot) bool {
	raw, err := dec.ReadValue()
	if err != nil {
		return false
	}
	raw = raw.Clone()
	inner := jsontext.NewDecoder(bytes.NewReader(raw), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	if !o.value(inner, s, 1, false) {
		return false
	}
	inner = jsontext.NewDecoder(bytes.NewReader(raw), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	if _, err := inner.ReadToken(); err != nil {
		return false
	}
	for inner.PeekKind() == '{' {
		element, err := inner.ReadValue()
		if err != nil {
			return false
		}
		element = element.Clone()
		of := typeOf(element)
		if s.byType == nil {
			s.byType = map[string]*spot{}
		}
		if !typeWord.MatchString(of) || s.byType[of] == nil && len(s.byType) >= mostTypes {
			of = "" // then none is told by its type
		}
		if s.byType[of] == nil {
			s.byType[of] = newSpot()
		}
		one := jsontext.NewDecoder(bytes.NewReader(element), jsontext.AllowDuplicateNames(true),
			jsontext.AllowInvalidUTF8(true))
		if !o.value(one, s.byType[of], 2, true) {
			return false
		}
	}
	return true
}

// typeOf returns what the member type of an object says, if that is a text.
func typeOf(object jsontext.Value) string {
	dec := jsontext.NewDecoder(bytes.NewReader(object), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true))
	if _, err := dec.ReadToken(); err != nil {
		return ""
	}
	for dec.PeekKind() == '"' {
		name, err := dec.ReadToken()
		if err != nil {
			return ""
		}
		if name.String() != "type" {
			if dec.SkipValue() != nil {
				return ""
			}
			continue
		}
		if dec.PeekKind() != '"' {
			return ""
		}
		if value, err := dec.ReadToken(); err == nil {
			return value.String()
		}
		return ""
	}
	return ""
}

// isResource reports whether an object is a resource of JSON:API.
func (s *spot) isResource() bool {
	if !s.isObject() || s.members["type"] == nil || s.members["id"] == nil {
		return false
	}
	attributes, relationships := s.members["attributes"], s.members["relationships"]
	return attributes != nil && attributes.isGroup() || relationships != nil && relationships.isGroup()
}

func (s *spot) isGroup() bool { return s.isObject() && !s.many }

// role is what a member of an object is to it.
type role int

const (
	part   role = iota // a field or relation
	group              // what it holds is of the object
	beside             // it says how the object is linked
)

// roleOf tells what a member of an object is to it, by the forms of standards.
func (s *spot) roleOf(name string) role {
	m := s.members[name]
	switch {
	case name == "attributes" && s.isResource() && m.isGroup(), name == "_embedded" && m.isGroup():
		return group
	case name == "_links" && m.isObject(), (name == "relationships" || name == "links" || name == "meta") &&
		s.isResource() && m.isObject():
		return beside
	}
	return part
}

// tellingNames lists the members that tell what an object is: those of groups in place of the group, and none that say
// how it is linked.
func (s *spot) tellingNames() (all []string) {
	for _, name := range s.names {
		switch s.roleOf(name) {
		case group:
			all = append(all, s.members[name].tellingNames()...)
		case part:
			all = append(all, name)
		}
	}
	return all
}

// typed reports whether all elements of a list are told apart by their types.
func (s *spot) typed() bool { return len(s.byType) > 0 && s.byType[""] == nil }

// Package made generates random contracts, changes and exchanges, for tests that compare two ways to the same
// result. It does not know how contracts are evaluated or compared.
//
// A [Tree] is a contract as plain values. [Maker.Contract] generates one, [Maker.Change] a slightly different one,
// [Maker.Exchange] an exchange that both may apply to.
package made

import (
	"maps"
	"math/rand/v2"
	"slices"
)

// Tree is a contract as decoded JSON.
type Tree = map[string]any

// Maker generates random things.
type Maker struct{ *rand.Rand }

// New returns a maker; equal seeds generate equal things.
func New(seed uint64) *Maker { return &Maker{rand.New(rand.NewPCG(seed, 20261127))} }

func (m *Maker) chance(of int) bool { return m.IntN(of) == 0 }

func one[T any](m *Maker, of ...T) T { return of[m.IntN(len(of))] }

var (
	fieldNames    = []string{"id", "name", "email", "pin", "note", "hull", "rate", "born_on", "token", "phone"}
	relationNames = []string{"owner", "parts", "next"}
	entityNames   = []string{"Boat", "Person", "Berth"}
	audienceNames = []string{"visitor", "skipper", "office"}
	classes       = []any{"public", "internal", "personal", "secret"}
)

// Contract generates a contract, which may be invalid.
func (m *Maker) Contract() Tree {
	t := Tree{"inkret": 1, "service": "quay"}
	if !m.chance(4) {
		t["servers"] = []any{"https://api.quay.example"}
	}
	recognised := []any{Tree{"credentials": "none"}, Tree{"claim": Tree{"name": "role", "value": "skipper"}},
		Tree{"header": Tree{"name": "X-Desk", "value": "*"}}}
	var audiences []any
	for i := range 1 + m.IntN(3) {
		audiences = append(audiences, Tree{"name": audienceNames[i], "recognise": recognised[i]})
	}
	t["audiences"] = audiences
	entities := Tree{}
	for _, name := range entityNames {
		fields := Tree{}
		for range 3 + m.IntN(4) {
			fields[one(m, fieldNames...)] = m.field()
		}
		e := Tree{"fields": fields}
		relations := Tree{}
		for range m.IntN(3) {
			relations[one(m, relationNames...)] = Tree{"entity": one(m, entityNames...), "many": m.chance(2)}
		}
		if len(relations) > 0 {
			e["relations"] = relations
		}
		if m.chance(2) {
			names := slices.Sorted(maps.Keys(fields))
			e["owner"] = one(m, append(names, slices.Sorted(maps.Keys(relations))...)...)
		}
		entities[name] = e
	}
	if m.chance(2) {
		t["callers"] = []any{Tree{"claim": "sub"}, Tree{"header": "X-Person"}}[:1+m.IntN(2)]
	}
	t["entities"] = entities
	if m.chance(2) {
		entity := one(m, entityNames...)
		t["shapes"] = Tree{"card": Tree{"entity": entity, "grants": m.grants(t, entity, 1)}}
		if m.chance(2) {
			t["shapes"].(Tree)["line"] = Tree{"entity": entity, "grants": m.grants(t, entity, 0)}
		}
	}
	if m.chance(2) {
		t["responses"] = []any{Tree{"statuses": []any{"4XX", "5XX"}, "grants": Tree{"title": Tree{"type": "string"}}}}
	}
	if m.chance(4) {
		t["detectors"] = []any{Tree{"name": "hull-mark", "class": "personal", "pattern": "^FQ-[0-9]{4}$",
			"match": []any{"FQ-1234"}}}
	}
	if m.chance(4) {
		t["countries"] = []any{"GB"}
	}
	var endpoints []any
	for i, text := range []string{"GET /boats/{id}", "GET /people", "POST /boats", "GET /boats/mine"} {
		if i > 0 && m.chance(2) {
			continue
		}
		endpoints = append(endpoints, m.endpoint(t, text))
	}
	t["endpoints"] = endpoints
	if m.chance(5) {
		t["exceptions"] = []any{Tree{"endpoint": "GET /people", "path": "$[*].email", "kind": "sensitive-field",
			"reason": "known"}}
	}
	return t
}

func (m *Maker) field() Tree {
	f := Tree{"type": one(m, "string", "string", "string", "integer", "number", "boolean")}
	if !m.chance(6) {
		f["class"] = one(m, classes...)
	}
	if f["type"] == "string" {
		switch m.IntN(6) {
		case 0:
			f["format"] = one(m, "date", "email", "uuid")
		case 1:
			f["max"] = 3 + m.IntN(8)
		case 2:
			f["values"] = []any{"red", "green"}
		}
	}
	if m.chance(5) {
		f["nullable"] = true
	}
	return f
}

func (m *Maker) audiences(t Tree) []any {
	all := t["audiences"].([]any)
	var some []any
	for _, a := range all {
		if m.chance(2) {
			some = append(some, a.(Tree)["name"])
		}
	}
	return some
}

func (m *Maker) endpoint(t Tree, text string) Tree {
	e := Tree{"endpoint": text}
	var responses []any
	for range 1 + m.IntN(2) {
		entity := one(m, entityNames...)
		r := Tree{"entity": entity}
		if t["shapes"] != nil && m.chance(4) && entity == t["shapes"].(Tree)["card"].(Tree)["entity"] {
			r["shape"] = "card"
		} else {
			r["grants"] = m.grants(t, entity, 2)
		}
		if some := m.audiences(t); len(some) > 0 {
			r["audiences"] = some
		}
		if m.chance(2) {
			r["statuses"] = []any{one[any](m, "2XX", 200, "default", 404)}
		}
		if m.chance(4) {
			r["at"] = one(m, "/data", "/data/*")
			r["beside"] = Tree{"meta": one[any](m, Tree{"open": true}, Tree{"type": "integer"})}
		}
		if m.chance(4) {
			r["many"] = true
		}
		if m.chance(5) {
			r["when"] = one(m, Tree{"query": Tree{"view": "full"}}, Tree{"header": Tree{"X-View": "*"}})
		}
		if m.chance(6) {
			r["name"] = one(m, "Full", "Short")
		}
		if t["entities"].(Tree)[entity].(Tree)["owner"] != nil && m.chance(4) {
			r["own"] = true
		}
		responses = append(responses, r)
	}
	e["responses"] = responses
	if text == "POST /boats" && m.chance(2) {
		e["accepts"] = []any{Tree{"entity": "Boat", "grants": m.grants(t, "Boat", 0)}}
	}
	if m.chance(8) {
		e["selection"] = Tree{"query": "only"}
	}
	return e
}

func (m *Maker) grants(t Tree, entity string, depth int) Tree {
	e := t["entities"].(Tree)[entity].(Tree)
	g := Tree{}
	for _, name := range slices.Sorted(maps.Keys(e["fields"].(Tree))) {
		if m.chance(2) {
			continue
		}
		field := e["fields"].(Tree)[name].(Tree)
		secret := field["class"] == "secret"
		long := Tree{}
		as := name
		switch m.IntN(8) {
		case 0:
			as, long["field"] = name+"_shown", name
		case 1:
			long["optional"] = true
		case 2:
			long["derived"] = []any{name}
			long["type"] = "string"
			as = name + "_made"
		case 3:
			if some := m.audiences(t); len(some) > 0 {
				long["audiences"] = some
			}
		case 4:
			long["class"], long["reason"] = one(m, classes...), "said so"
		}
		if e["owner"] != nil && m.chance(8) {
			long["own"] = true
		}
		if secret {
			long["reason"] = "they need it"
		}
		if len(long) == 0 {
			g[as] = nil
		} else {
			g[as] = long
		}
	}
	if relations, _ := e["relations"].(Tree); depth > 0 {
		for _, name := range slices.Sorted(maps.Keys(relations)) {
			to := relations[name].(Tree)["entity"].(string)
			card, _ := t["shapes"].(Tree)
			switch {
			case m.chance(3):
			case card != nil && card["line"] != nil && card["card"].(Tree)["entity"] == to && m.chance(2):
				g[name] = Tree{"one_of": []any{Tree{"when": Tree{"kind": "a"}, "shape": "card"},
					Tree{"when": Tree{"kind": one[any](m, "b", 1)}, "shape": "line"},
					Tree{"shape": one(m, "card", "line")}}[:2+m.IntN(2)], "optional": true}
			case card != nil && card["card"].(Tree)["entity"] == to && m.chance(2):
				g[name] = Tree{"shape": "card", "optional": true}
			case t["entities"].(Tree)[to].(Tree)["fields"].(Tree)["id"] != nil && m.chance(3):
				g[name] = Tree{"reference": "id", "reason": "to link"}
			case m.chance(6):
				g[name] = Tree{"open": true}
			default:
				g[name] = Tree{"grants": m.grants(t, to, depth-1)}
			}
		}
	}
	switch m.IntN(8) {
	case 0:
		g["more"] = Tree{"open": true}
	case 1:
		g["weather"] = Tree{"external": "coast-weather", "type": "string"}
	case 2:
		g["by_day"] = Tree{"keys": "any", "type": "integer"}
	case 3:
		g["tags"] = Tree{"type": "string", "many": true}
	case 4:
		if inside := m.grants(t, entity, 0); len(inside) > 0 {
			g["group"] = Tree{"grants": inside}
		}
	}
	return g
}

// Change returns a contract that differs in some places. more is a contract to take parts from.
func (m *Maker) Change(t, more Tree, changes int) Tree {
	out := clone(t).(Tree)
	for range changes {
		m.change(out, more)
	}
	return out
}

// slot is a place in a tree.
type slot struct {
	of  any // a Tree, or the *[]any that holds it
	key string
	in  Tree // that holds the list
	nth int
}

func (m *Maker) slots(t Tree, all []slot) []slot {
	for _, key := range slices.Sorted(maps.Keys(t)) {
		all = append(all, slot{of: t, key: key})
		switch v := t[key].(type) {
		case Tree:
			all = m.slots(v, all)
		case []any:
			for i, one := range v {
				all = append(all, slot{of: v, in: t, key: key, nth: i})
				if inside, ok := one.(Tree); ok {
					all = m.slots(inside, all)
				}
			}
		}
	}
	return all
}

func (m *Maker) change(t, more Tree) {
	all := m.slots(t, nil)
	s := all[m.IntN(len(all))]
	if list, ok := s.of.([]any); ok {
		switch m.IntN(3) {
		case 0:
			s.in[s.key] = slices.Delete(slices.Clone(list), s.nth, s.nth+1)
		case 1:
			k := m.IntN(len(list))
			list[s.nth], list[k] = list[k], list[s.nth]
		case 2:
			if other, _ := find(m, more, s.key).([]any); len(other) > 0 {
				s.in[s.key] = slices.Insert(slices.Clone(list), s.nth, clone(other[m.IntN(len(other))]))
			}
		}
		return
	}
	in := s.of.(Tree)
	switch m.IntN(6) {
	case 0:
		delete(in, s.key)
	case 1, 2: // what another place has under the same key
		if other := find(m, one(m, t, more), s.key); other != nil {
			in[s.key] = clone(other)
		}
	case 3: // something that a place like it has and this has not
		if other, ok := find(m, one(m, t, more), s.key).(Tree); ok && len(other) > 0 {
			if here, ok := in[s.key].(Tree); ok {
				key := one(m, slices.Sorted(maps.Keys(other))...)
				here[key] = clone(other[key])
			}
		}
	case 4:
		switch v := in[s.key].(type) {
		case bool:
			in[s.key] = !v
		case nil:
			in[s.key] = one(m, Tree{"optional": true}, Tree{"open": true}, Tree{"class": "secret", "reason": "r"},
				Tree{"audiences": []any{"office"}}, Tree{"type": "string"}, Tree{"nullable": true})
		case Tree:
			one(m,
				func() { v["class"], v["reason"] = one(m, classes...), "r" },
				func() { v["open"] = true },
				func() { v["nullable"] = true },
				func() { v["optional"] = true },
				func() { v["own"] = true },
				func() { v["many"] = true },
				func() { v["keys"] = "any" },
				func() { v["audiences"] = []any{one(m, audienceNames...)} },
				func() { v["format"] = one(m, "date", "email", "uuid") },
				func() { v["type"] = one(m, "string", "integer", "object") },
			)()
		}
	case 5: // renamed
		if _, plain := in[s.key].(string); !plain {
			other := one(m, one(m, fieldNames...), one(m, relationNames...), s.key+"_2")
			if _, there := in[other]; !there {
				in[other] = in[s.key]
				delete(in, s.key)
			}
		}
	}
}

// find returns the value of a key somewhere in a tree.
func find(m *Maker, t Tree, key string) any {
	var found []any
	for _, s := range m.slots(t, nil) {
		if in, ok := s.of.(Tree); ok && s.key == key {
			found = append(found, in[key])
		}
	}
	if len(found) == 0 {
		return nil
	}
	return found[m.IntN(len(found))]
}

func clone(v any) any {
	switch v := v.(type) {
	case Tree:
		out := Tree{}
		for key, one := range v {
			out[key] = clone(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = clone(v[i])
		}
		return out
	}
	return v
}

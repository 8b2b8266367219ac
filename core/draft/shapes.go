package draft

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/document"
	"inkret/core/schema"
)

// bodiesOf lists what bodies have: entities and variants, in the order of entities.
func bodiesOf(s *schema.Sketch) []*schema.Object {
	used := map[*schema.Object]bool{}
	var all []*schema.Object
	var work []*schema.Object
	reach := func(o *schema.Object) {
		if o != nil && !used[o] {
			used[o], all, work = true, append(all, o), append(work, o)
		}
	}
	for _, op := range s.Operations {
		for _, a := range op.Answers {
			if !a.IsError() {
				reach(a.Object)
				for _, t := range a.Included {
					reach(t.Object)
				}
			}
		}
	}
	for len(work) > 0 {
		o := work[len(work)-1]
		work = work[:len(work)-1]
		for _, m := range o.Flat() {
			if !m.WriteOnly {
				reach(m.Object)
			}
		}
	}
	place := map[*schema.Object]int{}
	for i, o := range s.Objects {
		place[o] = i
	}
	slices.SortStableFunc(all, func(a, b *schema.Object) int { return place[a.Entity()] - place[b.Entity()] })
	return all
}

// allShapes writes a shape for everything that bodies have; what grants the same of the same entity has one.
func (w *writer) allShapes() *document.Value {
	all := &document.Value{Kind: document.Map, Block: true}
	taken := map[string]bool{}
	first := w.alikeInFull()
	for _, o := range w.bodies {
		if first[o] != o {
			continue
		}
		title := o.Name
		if o.Kind != nil && !o.Named() {
			title = o.Kind.Name
		}
		name := strings.Join(detect.Words(nil, []byte(title)), "-")
		for i := 2; taken[name] || name == ""; i++ {
			name = fmt.Sprintf("%s-%d", strings.TrimRight(name, "-0123456789"), i)
		}
		taken[name] = true
		w.shapes[o] = name
	}
	for _, o := range w.bodies {
		w.shapes[o] = w.shapes[first[o]]
	}
	for _, o := range w.bodies {
		if first[o] == o {
			all.Set(w.shapes[o], document.Mapping().Set("entity", document.Text(o.Entity().Name)).Set("grants",
				w.grants(o)))
		}
	}
	return all
}

// alikeInFull returns for everything that bodies have the first that grants the same, and holds what grants the same,
// and so on: the coarsest such partition (Moore, Automata Studies 1956).
func (w *writer) alikeInFull() map[*schema.Object]*schema.Object {
	number := map[*schema.Object]int{}
	for kinds := 0; ; {
		known, next := map[string]int{}, map[*schema.Object]int{}
		for _, o := range w.bodies {
			for _, below := range o.Below() {
				w.shapes[below] = fmt.Sprint(number[below])
			}
			text := fmt.Sprintf("%d %s %s", number[o], o.Entity().Name, w.grants(o).Append(nil, 0))
			if _, ok := known[text]; !ok {
				known[text] = len(known)
			}
			next[o] = known[text]
		}
		if number = next; len(known) == kinds {
			break
		}
		kinds = len(known)
	}
	clear(w.shapes)
	first, of := map[int]*schema.Object{}, map[*schema.Object]*schema.Object{}
	for _, o := range w.bodies {
		if first[number[o]] == nil {
			first[number[o]] = o
		}
		of[o] = first[number[o]]
	}
	return of
}

// grants writes the grants of a response for an object.
func (w *writer) grants(o *schema.Object) *document.Value {
	all := &document.Value{Kind: document.Map, Block: true}
	for _, m := range o.Members {
		if m.WriteOnly {
			continue
		}
		g, optional := document.Mapping(), m.Optional
		switch {
		case m.Group != nil:
			g.Set("grants", w.grants(m.Group))
		case m.Object != nil:
			g.Set("shape", document.Text(w.shapes[m.Object]))
			if w.component[m.Object] == w.component[o] && !m.Many && !m.Form.Nullable {
				optional = true // a shape may contain itself where it may end
			}
			if m.Form.Nullable {
				g.Set("nullable", document.Truth(true))
			}
		case !w.decided[m.Of()].granted:
			continue
		case m.Many && !m.Open:
			g.Set("many", document.Truth(true))
		case m.Open || m.Form.Type == catalog.Object || m.Form.Type == catalog.Array:
			g.Set("open", document.Truth(true))
		}
		if w.under(g, m); m.Group != nil && m.Form.Nullable {
			g.Set("nullable", document.Truth(true))
		}
		if optional {
			g.Set("optional", document.Truth(true))
		}
		all.Set(m.Name, nothingOr(g))
	}
	return all
}

// under writes which field or relation of the entity a member shows, where the two have different names or types.
func (w *writer) under(g *document.Value, m *schema.Member) {
	if m.Group != nil {
		return
	}
	f := m.Of()
	if f.Name != m.Name && m.Object != nil {
		g.Set("relation", document.Text(f.Name))
	} else if f.Name != m.Name {
		g.Set("field", document.Text(f.Name))
	}
	if m.Object == nil && !m.Many && !m.Open && m.Form.Type != f.Form.Type && m.Form.Type != "" {
		g.Set("type", document.Text(string(m.Form.Type)))
	}
}

// components numbers the objects so that objects in a cycle share a number (Tarjan's algorithm, SIAM J. Comput.
// 1972, without recursion).
func components(objects []*schema.Object) map[*schema.Object]int {
	index, low := map[*schema.Object]int{}, map[*schema.Object]int{}
	on, of := map[*schema.Object]bool{}, map[*schema.Object]int{}
	var stack []*schema.Object
	type frame struct {
		o    *schema.Object
		next int
	}
	for _, start := range objects {
		if index[start] != 0 {
			continue
		}
		work := []frame{{start, 0}}
		for len(work) > 0 {
			f := &work[len(work)-1]
			if f.next == 0 {
				index[f.o] = len(index) + 1
				low[f.o] = index[f.o]
				stack = append(stack, f.o)
				on[f.o] = true
			}
			down := false
			for f.next < len(f.o.Members) && !down {
				to := f.o.Members[f.next].Object
				if to == nil {
					to = f.o.Members[f.next].Group
				}
				f.next++
				switch {
				case to == nil:
				case index[to] == 0:
					work, down = append(work, frame{to, 0}), true
				case on[to]:
					low[f.o] = min(low[f.o], index[to])
				}
			}
			if down {
				continue
			}
			if len(f.o.Members) == 0 {
				f.next = 1
			}
			if low[f.o] == index[f.o] {
				for {
					top := stack[len(stack)-1]
					stack, on[top] = stack[:len(stack)-1], false
					of[top] = index[f.o]
					if top == f.o {
						break
					}
				}
			}
			done := *f
			work = work[:len(work)-1]
			if len(work) > 0 {
				up := work[len(work)-1].o
				low[up] = min(low[up], low[done.o])
			}
		}
	}
	return of
}

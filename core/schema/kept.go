package schema

import (
	"encoding/json"
	"fmt"
	"slices"
)

// keptSketch is a sketch as it is kept: objects refer to each other by number.
type keptSketch struct {
	Title              string
	Servers            []string
	Entities           []int
	Objects            []keptObject
	Operations         []keptOperation
	Tellers            []Teller
	Errors, ErrorParts []string
	Notes              []string
	Graphs             []Graph `json:",omitempty"`
}

type keptObject struct {
	Object
	Kind    int // 1 more than the number of its entity; 0 for none
	Unnamed bool
	Hint    string
	Members []keptMember
}

type keptMember struct {
	Member
	Object int // 1 more than its number; 0 for none
	Field  int // 1 more than its place in the entity; 0 for none
	Group  int // 1 more than its number; 0 for none
}

type keptOperation struct {
	Operation
	Answers []keptAnswer
	Takes   []keptContent
}

type keptAnswer struct {
	Answer
	Object   int
	Included []keptTyped
}

type keptContent struct {
	Content
	Object int
}

type keptTyped struct {
	Type   string
	Object int
}

// MarshalJSON writes a sketch so that [Sketch.UnmarshalJSON] reads it again.
func (s *Sketch) MarshalJSON() ([]byte, error) {
	number := map[*Object]int{}
	var all []*Object
	var reach func(o *Object)
	reach = func(o *Object) {
		if o == nil || number[o] > 0 {
			return
		}
		all = append(all, o)
		number[o] = len(all)
		reach(o.Kind)
		for _, m := range o.Members {
			reach(m.Object)
			reach(m.Group)
		}
	}
	for _, o := range s.Objects {
		reach(o)
	}
	k := keptSketch{Title: s.Title, Servers: s.Servers, Tellers: s.Tellers, Errors: s.Errors,
		ErrorParts: s.ErrorParts, Notes: s.Notes, Graphs: s.Graphs}
	for _, op := range s.Operations {
		one := keptOperation{Operation: *op}
		one.Operation.Answers, one.Operation.Takes = nil, nil
		for _, a := range op.Answers {
			reach(a.Object)
			kept := keptAnswer{Answer: a, Object: number[a.Object]}
			kept.Answer.Object, kept.Answer.Included = nil, nil
			for _, t := range a.Included {
				reach(t.Object)
				kept.Included = append(kept.Included, keptTyped{t.Type, number[t.Object]})
			}
			one.Answers = append(one.Answers, kept)
		}
		for _, t := range op.Takes {
			reach(t.Object)
			kept := keptContent{t, number[t.Object]}
			kept.Content.Object = nil
			one.Takes = append(one.Takes, kept)
		}
		k.Operations = append(k.Operations, one)
	}
	for _, o := range s.Objects {
		k.Entities = append(k.Entities, number[o]-1)
	}
	for _, o := range all {
		one := keptObject{Object: *o, Kind: number[o.Kind], Unnamed: o.unnamed, Hint: o.hint}
		one.Object.Members, one.Object.Kind = nil, nil
		for _, m := range o.Members {
			kept := keptMember{Member: *m, Object: number[m.Object], Group: number[m.Group]}
			if m.Field != nil {
				kept.Field = 1 + slices.Index(o.Kind.Members, m.Field)
			}
			kept.Member.Object, kept.Member.Field, kept.Member.Group = nil, nil, nil
			one.Members = append(one.Members, kept)
		}
		k.Objects = append(k.Objects, one)
	}
	return json.Marshal(k)
}

// UnmarshalJSON reads what [Sketch.MarshalJSON] wrote.
func (s *Sketch) UnmarshalJSON(data []byte) error {
	var k keptSketch
	if err := json.Unmarshal(data, &k); err != nil {
		return err
	}
	all := make([]*Object, len(k.Objects))
	for i := range k.Objects {
		o := k.Objects[i].Object
		o.unnamed, o.hint = k.Objects[i].Unnamed, k.Objects[i].Hint
		for j := range k.Objects[i].Members {
			m := k.Objects[i].Members[j].Member
			o.Members = append(o.Members, &m)
		}
		all[i] = &o
	}
	var bad error
	at := func(number int) *Object {
		switch {
		case number == 0:
			return nil
		case number < 0 || number > len(all):
			bad = fmt.Errorf("there is no object %d", number)
			return nil
		}
		return all[number-1]
	}
	for i, o := range all {
		o.Kind = at(k.Objects[i].Kind)
		for j, m := range o.Members {
			kept := k.Objects[i].Members[j]
			m.Object, m.Group = at(kept.Object), at(kept.Group)
			if kept.Field == 0 || o.Kind == nil {
				continue
			}
			if kept.Field < 0 || kept.Field > len(o.Kind.Members) {
				return fmt.Errorf("%s has no member %d", o.Kind.Name, kept.Field)
			}
			m.Field = o.Kind.Members[kept.Field-1]
		}
	}
	*s = Sketch{Title: k.Title, Servers: k.Servers, Tellers: k.Tellers, Errors: k.Errors, ErrorParts: k.ErrorParts,
		Notes: k.Notes}
	for _, number := range k.Entities {
		s.Objects = append(s.Objects, at(number+1))
	}
	for _, kept := range k.Operations {
		op := kept.Operation
		for _, a := range kept.Answers {
			a.Answer.Object = at(a.Object)
			for _, t := range a.Included {
				a.Answer.Included = append(a.Answer.Included, Typed{t.Type, at(t.Object)})
			}
			op.Answers = append(op.Answers, a.Answer)
		}
		for _, t := range kept.Takes {
			t.Content.Object = at(t.Object)
			op.Takes = append(op.Takes, t.Content)
		}
		s.Operations = append(s.Operations, &op)
	}
	return bad
}

package export

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/made"
	"inkret/core/scan"
)

// TestTheSchemaAndTheJudgeAgree makes random contracts, and bodies from their JSON Schemas, some of them spoilt.
// The schema accepts a body exactly if the judge reports nothing, apart from values that it recognises.
func TestTheSchemaAndTheJudgeAgree(t *testing.T) {
	clean, faulty := 0, 0
	for seed := uint64(1); seed < 500; seed++ {
		m := made.New(seed)
		tree := m.Contract()
		delete(tree, "exceptions")
		c, err := contract.Read(contract.File{Name: "c.yaml", Data: made.JSON(tree)})
		if err != nil {
			continue
		}
		judge := scan.NewJudge(c)
		files := JSONSchemas(c)
		next := 0
		for _, e := range c.Endpoints {
			for _, k := range e.Cases() {
				if k.Choice.Response == nil {
					continue
				}
				file := files[next]
				next++
				if len(k.Choice.Response.When) > 0 {
					continue
				}
				schema := compile(t, file)
				var doc map[string]any
				json.Unmarshal(file.Data, &doc)
				for range 12 {
					w := &writer{m.Rand, doc, m.IntN(3) == 0}
					body := w.value(doc, 6)
					text := made.JSON(body)
					one := &exchange.Capture{Audience: k.Audience.Name, Request: requestTo(e),
						Response: exchange.Response{Status: codeOf(k.Status),
							Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}, Body: text}}
					out := judge.Capture(one)
					if out.Skipped != "" || out.Response != k.Choice.Response {
						continue
					}
					spots := slices.DeleteFunc(slices.Clone(out.Spots), func(s scan.Spot) bool {
						switch s.Kind { // what values tell, and what is about more than the body's form
						case kind.SecretValue, kind.PersonalValue, kind.UnevenExposure, kind.HeavyExcess,
							kind.CacheablePrivate, kind.SensitiveInURL, kind.RevealingError, kind.HiddenDuplicate:
							return true
						}
						return s.Request
					})
					var v any
					json.Unmarshal(text, &v)
					verdict := schema.Validate(v)
					if len(out.Spots) == 0 {
						clean++
					} else {
						faulty++
					}
					if (len(spots) == 0) != (verdict == nil) && !(len(spots) == 0 && len(out.Spots) > 0) {
						said := "nothing"
						if len(spots) > 0 {
							said = fmt.Sprintf("%v at %s: %s", spots[0].Kind, spots[0].Pointer, spots[0].Why())
						}
						t.Fatalf("seed %d, %s: the judge says %s, the schema %v of\n%s\n%s\n%s", seed, file.File, said,
							verdict, text, file.Data, made.JSON(tree))
					}
				}
			}
		}
	}
	if clean < 1000 || faulty < 1000 {
		t.Errorf("only %d clean and %d faulty bodies", clean, faulty)
	}
	t.Log(clean, "clean,", faulty, "faulty")
}

func requestTo(e *contract.Endpoint) exchange.Request {
	base := e.Contracts().Servers
	if len(base) > 0 {
		return e.Requests(base[0].Base())[0]
	}
	s := contract.Server{Scheme: "https", Host: "api.quay.example", Port: "443"}
	return e.Requests(s.Base())[0]
}

func codeOf(status string) int {
	if n, err := strconv.Atoi(status); err == nil {
		return n
	}
	if status == "default" {
		return 202
	}
	return int(status[0]-'0')*100 + 5
}

// writer writes bodies that a schema may take.
type writer struct {
	*rand.Rand
	root  map[string]any
	spoil bool
}

func (w *writer) value(schema map[string]any, depth int) any {
	if w.spoil && w.IntN(12) == 0 {
		return []any{nil, "word", 7, 0.5, true, []any{}, map[string]any{}, []any{nil}, map[string]any{"zz": 1},
			[]any{"a"}, "", []any{map[string]any{}}}[w.IntN(12)]
	}
	if ref, ok := schema["$ref"].(string); ok {
		defs, _ := w.root["$defs"].(map[string]any)
		inside, _ := defs[ref[len("#/$defs/"):]].(map[string]any)
		return w.value(inside, depth-1)
	}
	if some, ok := schema["anyOf"].([]any); ok {
		one, _ := some[w.IntN(len(some))].(map[string]any)
		return w.value(one, depth)
	}
	if is, ok := schema["if"].(map[string]any); ok && schema["type"] == nil {
		if other, ok := schema["else"].(map[string]any); ok && w.IntN(2) == 0 {
			return w.value(other, depth)
		}
		then, _ := schema["then"].(map[string]any)
		v := w.value(then, depth)
		members, ok := v.(map[string]any)
		if told, _ := is["properties"].(map[string]any); ok && w.IntN(4) > 0 {
			for name, one := range told {
				members[name], _ = one.(map[string]any)["const"]
			}
		}
		return v
	}
	if all, ok := schema["enum"].([]any); ok {
		return all[w.IntN(len(all))]
	}
	if one, ok := schema["const"]; ok {
		return one
	}
	kind, _ := schema["type"].(string)
	if list, ok := schema["type"].([]any); ok {
		kind, _ = list[w.IntN(len(list))].(string)
	}
	switch kind {
	case "object":
		out := map[string]any{}
		if more, ok := schema["additionalProperties"].(map[string]any); ok {
			for range w.IntN(3) {
				out[[]string{"a", "b", "7"}[w.IntN(3)]] = w.value(more, depth-1)
			}
			return out
		}
		if w.IntN(8) == 0 {
			return out
		}
		properties, _ := schema["properties"].(map[string]any)
		required, _ := schema["required"].([]any)
		for _, name := range slices.Sorted(maps.Keys(properties)) {
			p := properties[name]
			if !slices.Contains(required, any(name)) && (w.IntN(2) == 0 || depth < 0) {
				continue
			}
			inside, _ := p.(map[string]any)
			out[name] = w.value(inside, depth-1)
		}
		if w.spoil && w.IntN(6) == 0 {
			out["zz"] = 1
		}
		return out
	case "array":
		out := []any{}
		items, _ := schema["items"].(map[string]any)
		for range w.IntN(3) {
			if w.IntN(8) == 0 {
				out = append(out, nil)
			} else {
				out = append(out, w.value(items, depth-1))
			}
		}
		return out
	case "integer":
		return []any{7, 0, 12}[w.IntN(3)]
	case "number":
		return []any{7, 0.5}[w.IntN(2)]
	case "boolean":
		return w.IntN(2) == 0
	case "null":
		return nil
	}
	switch schema["format"] {
	case "date":
		return "2026-05-01"
	case "email":
		return "ada.moor@sails.example"
	case "uuid":
		return "6ba7b810-9dad-11d1-80b4-00c04fd430c8"
	}
	return []any{"word", "ab", "a longer text"}[w.IntN(3)]
}

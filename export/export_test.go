package export

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"inkret/core/contract"
)

func read(t *testing.T, files ...contract.File) *contract.Contracts {
	t.Helper()
	c, err := contract.Read(files...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func harbour(t *testing.T) *contract.Contracts {
	t.Helper()
	var files []contract.File
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		data, err := os.ReadFile("../demo/contracts/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, contract.File{Name: name, Data: data})
	}
	return read(t, files...)
}

// odd contains what is difficult for writers: names that need quotes, cycles, maps, alternatives, constants,
// enumerations, nullable values everywhere.
func odd(t *testing.T) *contract.Contracts {
	t.Helper()
	return read(t, contract.File{Name: "odd.yaml", Data: []byte(`inkret: 1
service: odd
servers: ["https://[::1]:8443/v2"]
audiences: [{name: anyone, recognise: {credentials: none}}, {name: staff}]
entities:
  Node:
    fields:
      id: {type: integer, class: public}
      "na me*/": {type: string, class: public, nullable: true}
      größe: {type: number, class: public}
      state: {type: string, class: public, values: [on, "o\"ff", null], nullable: true}
      tags: {type: array, class: public}
    relations: {next: {entity: Node}, all: {entity: Node, many: true}}
shapes:
  node: {entity: Node, grants: {id: , "na me*/": , größe: {optional: true}, next: {shape: node, nullable: true}, all: {shape: node}}}
  leaf: {entity: Node, grants: {id: , state: , tags: {many: true, type: string}}}
endpoints:
  - endpoint: GET /nodes/{id}
    responses:
      - {entity: Node, shape: node}
      - {statuses: [404], grants: {kind: {constant: 7}, any: {}}}
  - endpoint: GET /nodes/{id}/files/{path+}
    responses:
      - {statuses: [default], entity: Node, many: true, nullable: true, grants: {id: {audiences: [staff]}, by_key: {keys: any, entity: Node, shape: leaf}, some: {one_of: [{when: {id: 1}, shape: leaf}, {shape: node}]}, more: {open: true}}}
  - endpoint: QUERY /nodes
    responses: [{statuses: [200], grants: {}}]
`)})
}

// crowded has names that become equal, or no names at all, when written plainly.
func crowded(t *testing.T) *contract.Contracts {
	t.Helper()
	text := `inkret: 1
service: crowded
audiences: [{name: a b}, {name: a-b}]
entities: {Node: {fields: {id: {type: integer, class: public}}, relations: {next: {entity: Node}}}}
shapes:
`
	var grants []string
	for i, name := range []string{"my shape", "my-shape", "a/b", "a~b", "→", "←", "array", "record", "string", "1st",
		"größe", "per%20cent", "Node"} {
		text += fmt.Sprintf("  %q: {entity: Node, grants: {id: }}\n", name)
		grants = append(grants, fmt.Sprintf("m%d: {entity: Node, shape: %q}", i, name))
	}
	text += "endpoints:\n"
	for _, endpoint := range []string{"GET /a/b", "GET /a-b", "GET /a/{b}", "GET /A/b", "GET /c/{x}/d", "POST /c/{y}/d",
		"PUT /c/{z}/d", "GET /c/{x}/{d+}", "GET /→", "GET /←"} {
		text += fmt.Sprintf("  - {endpoint: %q, responses: [{when: {query: {q: a b}}, grants: {%s}}, {when: {query: "+
			"{q: a-b}}, grants: {}}, {grants: {}}]}\n", endpoint, strings.Join(grants, ", "))
	}
	return read(t, contract.File{Name: "crowded.yaml", Data: []byte(text)})
}

// TestSchemasAreJSONSchema reads each written schema by an independent validator and
// holds documents against it that a contract takes and refuses.
func TestSchemasAreJSONSchema(t *testing.T) {
	for name, c := range map[string]*contract.Contracts{"harbour": harbour(t), "odd": odd(t), "crowded": crowded(t)} {
		files := JSONSchemas(c)
		if len(files) < 4 {
			t.Fatalf("%s: %d schemas", name, len(files))
		}
		met := map[string]bool{}
		for _, f := range files {
			if low := strings.ToLower(f.File); met[low] || strings.ContainsAny(f.File, "/\\ ") {
				t.Errorf("%s: two schemas are called %s, or it is no name of a file", name, f.File)
			} else {
				met[low] = true
			}
			compile(t, f)
		}
	}
	find := func(c *contract.Contracts, file string) *jsonschema.Schema {
		for _, f := range JSONSchemas(c) {
			if f.File == file {
				return compile(t, f)
			}
		}
		t.Fatalf("there is no %s", file)
		return nil
	}
	node := find(odd(t), "get-nodes-id.2XX.anyone.schema.json")
	list := find(odd(t), "get-nodes-id-files-path.default.staff.schema.json")
	stranger := find(odd(t), "get-nodes-id-files-path.default.anyone.schema.json")
	for _, one := range []struct {
		schema *jsonschema.Schema
		body   string
		fits   bool
	}{
		{node, `{"id":1,"na me*/":null,"next":{"id":2,"na me*/":"x","next":null,"all":[]},"all":[]}`, true},
		{node, `{"id":1,"na me*/":null,"next":null,"all":[],"extra":1}`, false},
		{node, `{"id":1,"na me*/":null,"next":null}`, false},
		{node, `{"id":"1","na me*/":null,"next":null,"all":[]}`, false},
		{list, `null`, true},
		{list, `[{"id":1,"by_key":{"k":{"id":1,"state":null,"tags":["a"]}},"some":{"id":1,"state":"on","tags":[]},"more":{"x":[1]}}]`, true},
		{list, `[{"id":1,"by_key":{"k":{"id":1,"state":"off","tags":["a"]}},"some":{"id":1,"state":"on","tags":[]},"more":1}]`, false},
		{stranger, `[{"by_key":{},"some":{"id":1,"state":"on","tags":[]},"more":1}]`, true},
		// the other shape judges it
		{stranger, `[{"by_key":{},"some":{"id":2,"state":"on","tags":[]},"more":1}]`, false},
		{stranger, `[{"id":1,"by_key":{},"some":{"id":1,"state":"on","tags":[]},"more":1}]`, false},
	} {
		var v any
		if err := json.Unmarshal([]byte(one.body), &v); err != nil {
			t.Fatal(err)
		}
		if err := one.schema.Validate(v); (err == nil) != one.fits {
			t.Errorf("%s: %v", one.body, err)
		}
	}
}

func compile(t *testing.T, f JSONSchema) *jsonschema.Schema {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(f.Data))
	if err != nil {
		t.Fatalf("%s: %v", f.File, err)
	}
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	if err := compiler.AddResource(f.File, v); err != nil {
		t.Fatalf("%s: %v", f.File, err)
	}
	s, err := compiler.Compile(f.File)
	if err != nil {
		t.Fatalf("%s: %v in\n%s", f.File, err, f.Data)
	}
	return s
}

func TestTheDescriptionIsOpenAPI(t *testing.T) {
	for name, c := range map[string]*contract.Contracts{"harbour": harbour(t), "odd": odd(t), "crowded": crowded(t)} {
		data := OpenAPI(c)
		doc, err := openapi3.NewLoader().LoadFromData(data)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if err := doc.Validate(t.Context()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		for _, e := range c.Endpoints {
			if item := doc.Paths.Find(e.Path()); e.Method != "QUERY" &&
				(item == nil || item.GetOperation(e.Method) == nil) {
				t.Errorf("%s: %s is not in it", name, e.Text)
			}
		}
		if !bytes.Equal(data, OpenAPI(c)) {
			t.Errorf("%s: written twice, it differs", name)
		}
	}
}

// TestDeclarationsAreTypeScript lets the TypeScript compiler of the console judge them.
func TestDeclarationsAreTypeScript(t *testing.T) {
	compiler, err := filepath.Abs("../console/node_modules/.bin/tsc")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(compiler); err != nil {
		t.Fatalf("the console's packages are not installed; make console does that: %v", err)
	}
	dir := t.TempDir()
	for name, c := range map[string]*contract.Contracts{"harbour": harbour(t), "odd": odd(t), "crowded": crowded(t)} {
		if err := os.WriteFile(filepath.Join(dir, name+".ts"), TypeScript(c), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	uses := `import type { GetV1Berths2XX, BerthCard } from "./harbour";
import type { Node as Kind, GetNodesIdFilesPathDefault } from "./odd";
const card: BerthCard = { id: 1, label: "A", length: 3, price: 1.5 };
export const body: GetV1Berths2XX = { data: [card] };
export const node: Kind = { id: 1, "na me*/": null, next: null, all: [] };
export const none: GetNodesIdFilesPathDefault = null;
// @ts-expect-error a member that is not granted
export const wrong: BerthCard = { ...card, id: 1, label: "A", length: 3, price: 1, repair_note: "x" };
// @ts-expect-error a number where a text is granted
export const other: BerthCard = { id: 1, label: 1, length: 3, price: 1 };
`
	if err := os.WriteFile(filepath.Join(dir, "uses.ts"), []byte(uses), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(compiler, "--noEmit", "--strict", "--target", "es2022", "--module", "es2022",
		"--moduleResolution", "bundler", filepath.Join(dir, "uses.ts"),
		filepath.Join(dir, "crowded.ts")).CombinedOutput(); err != nil {
		t.Errorf("%v: %s\n%s", err, out, TypeScript(odd(t)))
	}
}

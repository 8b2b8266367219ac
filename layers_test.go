// Package inkret holds no code; its test holds the layers against the imports.
package inkret

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// mayImport says, for each layer, which others it may import: arrows point one
// way. Within core, any package may import any.
var mayImport = map[string][]string{
	"core":     {},
	"outbound": {"core"},
	"intake":   {"core"},
	"report":   {"core"},
	"export":   {"core"},
	"tables":   {"core"},
	"durable":  {},
	"store":    {"core", "durable"},
	"sealing":  {"durable"},
	"mailing":  {},
	"openid":   {},
	"record":   {"core", "durable", "intake", "sealing"},
	"service":  {"core", "intake", "store", "export", "outbound", "sealing", "mailing", "openid", "report"},
	"api":      {},
	"docs":     {},
	"httpapi":  {"api", "service", "core", "docs", "report"},
	"client":   {"api"},
	"console":  {},
	"demo":     {},
	"cli": {"api", "client", "core", "durable", "intake", "report", "record", "tables", "export", "service", "httpapi",
		"console", "demo", "docs", "sealing", "mailing", "openid"},
	"cmd":    {"cli"},
	"bench":  {"core", "intake", "record", "service", "store", "httpapi", "demo", "report"},
	"e2e":    {"api", "client", "core"},
	"inkret": {},
}

// forbiddenInCore are parts of the standard library that would bring the
// outside into the computation: files, network servers, SQL, processes.
var forbiddenInCore = []string{"net/http", "database/sql", "os", "os/exec", "io/ioutil", "log", "log/slog", "flag"}

func TestArrowsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	packages := 0
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); packages++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); err != nil {
			t.Fatal(err)
		}
		layer := layerOf(p.ImportPath)
		allowed, known := mayImport[layer]
		if !known {
			t.Errorf("%s is in no layer of this test", p.ImportPath)
		}
		for _, i := range p.Imports {
			if target := layerOf(i); strings.HasPrefix(i, "inkret/") && target != layer &&
				!slices.Contains(allowed, target) {
				t.Errorf("%s imports %s: %s may import %v", p.ImportPath, i, layer, allowed)
			}
			if layer == "core" && slices.Contains(forbiddenInCore, i) {
				t.Errorf("%s imports %s", p.ImportPath, i)
			}
		}
	}
	const fewest = 15
	if packages < fewest {
		t.Errorf("only %d packages were looked at", packages)
	}
}

func layerOf(path string) string {
	rest := strings.TrimPrefix(path, "inkret/")
	layer, _, _ := strings.Cut(rest, "/")
	return layer
}

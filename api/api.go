// Package api holds the description of the service's interface, openapi.yaml,
// from which server, Go client and console types are generated.
package api

import (
	_ "embed"
	"fmt"

	"github.com/goccy/go-yaml"
)

//go:embed openapi.yaml
var document []byte

// Operation is what the description says of one operation.
type Operation struct {
	ID     string
	Method string
	Path   string
	Role   string // the least that is needed; "none" for strangers
}

// Operations lists all operations of the description.
func Operations() ([]Operation, error) {
	var doc struct {
		Paths map[string]map[string]any `yaml:"paths"`
	}
	if err := yaml.Unmarshal(document, &doc); err != nil {
		return nil, err
	}
	var all []Operation
	for path, methods := range doc.Paths {
		for method, value := range methods {
			operation, ok := value.(map[string]any)
			if !ok {
				continue // parameters of the path
			}
			o := Operation{Method: method, Path: path}
			o.ID, _ = operation["operationId"].(string)
			o.Role, _ = operation["x-role"].(string)
			if o.ID == "" || o.Role == "" {
				return nil, fmt.Errorf("%s %s names no operationId or x-role", method, path)
			}
			all = append(all, o)
		}
	}
	return all, nil
}

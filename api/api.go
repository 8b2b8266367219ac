// Package api embeds the description of the HTTP API, openapi.yaml. The server, the Go client and the console's
// types are generated from it.
package api

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
)

//go:embed openapi.yaml
var document []byte

// Operation is one operation of the description.
type Operation struct {
	ID     string
	Method string // in lower case
	Path   string
	Role   string                // the least that is needed; "none" for strangers
	Scope  string                // the least that a token needs
	Each   bool                  // it may be about several services, and the role is held at each
	Any    bool                  // its address may have parameters that are not described
	New    bool                  // the service that it names need not be there yet
	Names  []string              // the parameters of its path
	Query  []*openapi3.Parameter // that its address may have
	Route  *routers.Route        // by which a request is validated
}

// HasQuery reports whether the operation has a query parameter of this name.
func (o *Operation) HasQuery(name string) bool {
	return slices.ContainsFunc(o.Query, func(p *openapi3.Parameter) bool { return p.Name == name })
}

// Operations lists all operations of the description.
func Operations() ([]Operation, error) {
	doc, err := openapi3.NewLoader().LoadFromData(document)
	if err != nil {
		return nil, err
	}
	var all []Operation
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			o := Operation{ID: operation.OperationID, Method: strings.ToLower(method), Path: path}
			o.Role, _ = operation.Extensions["x-role"].(string)
			o.Each, _ = operation.Extensions["x-each"].(bool)
			if o.Scope, _ = operation.Extensions["x-scope"].(string); o.Scope == "" {
				if o.Scope = "everything"; o.Method == "get" {
					o.Scope = "read"
				}
			}
			if o.ID == "" || o.Role == "" {
				return nil, fmt.Errorf("%s %s names no operationId or x-role", method, path)
			}
			o.Any, _ = operation.Extensions["x-any-query"].(bool)
			o.New, _ = operation.Extensions["x-new"].(bool)
			for _, p := range slices.Concat(item.Parameters, operation.Parameters) {
				switch p.Value.In {
				case openapi3.ParameterInQuery:
					o.Query = append(o.Query, p.Value)
				case openapi3.ParameterInPath:
					o.Names = append(o.Names, p.Value.Name)
				}
			}
			o.Route = &routers.Route{Spec: doc, Path: path, PathItem: item, Method: method, Operation: operation}
			all = append(all, o)
		}
	}
	return all, nil
}

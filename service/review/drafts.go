package review

import (
	"context"
	"strings"

	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/draft"
	"inkret/core/revise"
	"inkret/core/schema"
	"inkret/export"
	"inkret/service/base"
	"inkret/store"
)

// DraftOf says what to draft a contract from.
type DraftOf struct {
	From     string               // captures, description, entity or endpoint
	Endpoint string               // the one to draft; empty drafts all that have no contract yet
	Entity   string               // to draft from
	Like     string               // an endpoint to draft as
	Many     bool                 // a list of the entity
	Source   string               // what it is read from
	Text     []byte               // of a description
	Files    []store.ContractFile // to add to; those in force where there are none
}

// Drafted holds drafted endpoints, and the contract files with them added.
type Drafted struct {
	Endpoints []string             // that were drafted
	Text      string               // of the endpoints alone
	Questions []draft.Question     // what a person must answer
	Files     []store.ContractFile // with the draft in them
	Notes     []string             // what else there is to say
}

// Draft drafts endpoints based on the catalogue in force. It puts nothing in force.
func (s *Review) Draft(ctx context.Context, service string, d DraftOf) (*Drafted, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	files, c := f.Revision.Files, f.Contracts
	if len(d.Files) > 0 {
		files = d.Files
		if c, err = contract.Read(base.ContractFiles(files)...); err != nil {
			return nil, base.NewProblem(base.Invalid, "", "the files have problems; mend these first")
		}
	}
	out := &Drafted{Questions: []draft.Question{}, Notes: []string{}}
	var entries []*document.Value
	switch d.From {
	case "entity":
		entry, questions, err := draft.FromEntity(c, d.Endpoint, d.Entity, d.Many)
		if err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%v", err)
		}
		entries, out.Questions = append(entries, entry), append(out.Questions, questions...)
	case "endpoint":
		var like *contract.Endpoint
		for _, e := range c.Endpoints {
			if e.Text == d.Like {
				like = e
			}
		}
		if like == nil {
			return nil, base.NewProblem(base.NotFound, "", "no contract has the endpoint %q", d.Like)
		}
		entries = append(entries, draft.FromEndpoint(c.Node(like), d.Endpoint))
	case "captures", "description":
		if entries, err = s.described(ctx, service, c, d, out); err != nil {
			return nil, err
		}
	default:
		return nil, base.NewProblem(base.Invalid, "expected captures, description, entity or endpoint",
			"%q is nothing to draft from", d.From)
	}
	if len(entries) == 0 {
		return nil, base.NewProblem(base.NotFound, "", "there is nothing to draft from")
	}
	last := files[len(files)-1].Name
	for _, e := range c.Endpoints {
		last = e.Pos.File
	}
	for _, entry := range entries {
		out.Endpoints = append(out.Endpoints, entry.Get("endpoint").Text)
		out.Text += string((&document.Value{Kind: document.List, Block: true,
			Items: []*document.Value{entry}}).Append(nil, 0))
		edited, err := revise.Apply(base.ContractFiles(files), revise.AddEndpoint(c, last, entry))
		if err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%v", err)
		}
		files = storedFiles(edited)
		if c, err = contract.Read(edited...); err != nil {
			p := base.NewProblem(base.Invalid, "", "%s cannot be added: %v", entry.Get("endpoint").Text, err)
			p.Cause = err
			return nil, p
		}
	}
	out.Files = files
	return out, nil
}

// described drafts operations from recorded traffic or from an API description.
func (s *Review) described(ctx context.Context, service string, c *contract.Contracts, d DraftOf,
	out *Drafted) (entries []*document.Value, err error) {
	var sketch *schema.Sketch
	if d.From == "captures" {
		sketch, err = s.sketch(ctx, service, c)
	} else if sketch, err = schema.Describe(d.Source, d.Text); err != nil {
		err = base.NewProblem(base.Invalid, "", "%v", err)
	}
	if err != nil {
		return nil, err
	}
	out.Notes = append(out.Notes, sketch.Notes...)
	known := map[string]bool{}
	for _, e := range c.Endpoints {
		known[e.Template()] = true
	}
	for _, op := range sketch.Operations {
		text := op.Method + " " + op.Path
		if d.Endpoint != "" && !sameEndpoint(text, d.Endpoint) || d.Endpoint == "" && known[template(text)] {
			continue
		}
		if d.Endpoint != "" {
			op.Method, op.Path, _ = strings.Cut(d.Endpoint, " ")
		}
		entry, questions := draft.FromOperation(c, op)
		entries, out.Questions = append(entries, entry), append(out.Questions, questions...)
	}
	return entries, nil
}

// template replaces the parameter names of an endpoint.
func template(endpoint string) string {
	parts := strings.Split(endpoint, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") && strings.HasSuffix(p, "}") {
			parts[i] = "{}"
		}
	}
	return strings.Replace(strings.Join(parts, "/"), " ", "", 1)
}

func sameEndpoint(a, b string) bool { return template(a) == template(b) }

// Exported holds contracts in an open format, in one file or several.
type Exported struct {
	Media string               // the media type
	Files []store.ContractFile // by name
}

// ExportAs exports the contracts in force in an open format.
func (s *Review) ExportAs(ctx context.Context, who base.Caller, service, form string) (*Exported, error) {
	s.base.NoteRead(ctx, who, "export contracts", service, form)
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	switch form {
	case "openapi":
		return &Exported{"application/json", []store.ContractFile{{Name: service + ".openapi.json",
			Text: string(export.OpenAPI(f.Contracts))}}}, nil
	case "typescript":
		return &Exported{"text/plain",
			[]store.ContractFile{{Name: service + ".d.ts", Text: string(export.TypeScript(f.Contracts))}}}, nil
	case "json-schema":
		out := &Exported{Media: "application/schema+json"}
		for _, file := range export.JSONSchemas(f.Contracts) {
			out.Files = append(out.Files, store.ContractFile{Name: file.File, Text: string(file.Data)})
		}
		return out, nil
	}
	return nil, base.NewProblem(base.Invalid, "expected json-schema, openapi or typescript",
		"%q is no form that contracts are written in", form)
}

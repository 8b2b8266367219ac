package service

import (
	"context"
	"errors"
	"slices"
	"strings"

	"inkret/core/contract"
	"inkret/store"
)

// Services lists the services under review.
func (s *Service) Services(ctx context.Context) ([]store.Service, error) {
	return s.store.Services(ctx)
}

// Audiences lists a service's audiences, from least to most trusted.
func (s *Service) Audiences(ctx context.Context, service string) []string {
	f, err := s.contracts(ctx, service)
	if err != nil {
		return nil
	}
	names := make([]string, len(f.contracts.Audiences))
	for i, a := range f.contracts.Audiences {
		names[i] = a.Name
	}
	return names
}

// Apply puts contract files in force. The same files again change nothing, and
// changed is false then. Faulty files give a [Problem] whose Cause is
// [contract.Problems].
func (s *Service) Apply(ctx context.Context, who Caller, service string, files []store.ContractFile, reason string) (r store.Revision, changed bool, err error) {
	slices.SortFunc(files, func(a, b store.ContractFile) int { return strings.Compare(a.Name, b.Name) })
	for i, f := range files {
		if i > 0 && files[i-1].Name == f.Name {
			return r, false, problem(Invalid, "", "two files are called %q", f.Name)
		}
	}
	read, err := contract.Read(contractFiles(files)...)
	if err != nil {
		p := problem(Invalid, "", "the contract files have problems")
		p.Cause = err
		return r, false, p
	}
	if read.Service != service {
		return r, false, problem(Invalid, "", "the contract is of the service %q, not of %q", read.Service, service)
	}
	old, err := s.store.Revision(ctx, service)
	if err == nil && slices.Equal(old.Files, files) {
		return old, false, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return r, false, err
	}
	var endpoints []store.EndpointInContract
	for _, e := range read.Endpoints {
		for _, name := range e.Names() {
			endpoints = append(endpoints, store.EndpointInContract{Text: name, Team: e.Team})
		}
	}
	r, err = s.store.AddRevision(ctx, store.Revision{Service: service, Files: files, Author: who.Name, Reason: reason, Created: s.now()}, endpoints)
	s.log.Info("contracts applied", "service", service, "revision", r.Number, "endpoints", len(endpoints), "person", who.ID)
	return r, err == nil, err
}

// Export gives the contract files in force as they were applied.
func (s *Service) Export(ctx context.Context, service string) (store.Revision, error) {
	r, err := s.store.Revision(ctx, service)
	return r, found(err, "service %q", service)
}

// Endpoints lists a page of endpoints.
func (s *Service) Endpoints(ctx context.Context, by store.EndpointFilter, page store.Page) ([]store.Endpoint, int, error) {
	return s.store.Endpoints(ctx, by, page)
}

// EndpointContract is an endpoint with the contract it has, if any.
type EndpointContract struct {
	store.Endpoint
	Contracts *contract.Contracts
	Contract  *contract.Endpoint // nil without a contract
	Text      string             // its part of the contract file
}

// Endpoint gives an endpoint with its contract.
func (s *Service) Endpoint(ctx context.Context, id string) (EndpointContract, error) {
	e, err := s.store.Endpoint(ctx, id)
	if err != nil {
		return EndpointContract{}, found(err, "endpoint %q", id)
	}
	out := EndpointContract{Endpoint: e}
	f, err := s.contracts(ctx, e.Service)
	if err != nil {
		return out, err
	}
	out.Contracts = f.contracts
	for _, c := range f.contracts.Endpoints {
		if slices.Contains(c.Names(), e.Text) {
			out.Contract, out.Text = c, excerpt(f.revision, c.Pos)
		}
	}
	return out, nil
}

// fileText gives the text of a file of a revision, by lines.
func fileLines(r store.Revision, name string) []string {
	for _, f := range r.Files {
		if f.Name == name {
			return strings.Split(f.Text, "\n")
		}
	}
	return nil
}

// excerpt gives the lines of the list item that begins at a position: up to the
// next line that is not indented further than its dash.
func excerpt(r store.Revision, at contract.Pos) string {
	lines := fileLines(r, at.File)
	if at.Line < 1 || at.Line > len(lines) {
		return ""
	}
	dash := indentation(lines[at.Line-1])
	end := at.Line
	for end < len(lines) && (strings.TrimSpace(lines[end]) == "" || indentation(lines[end]) > dash) {
		end++
	}
	return strings.TrimRight(strings.Join(lines[at.Line-1:end], "\n"), "\n ")
}

func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// line gives one line of a contract file in force.
func (s *Service) line(ctx context.Context, service, file string, number int) string {
	r, err := s.store.Revision(ctx, service)
	if err != nil {
		return ""
	}
	if lines := fileLines(r, file); number >= 1 && number <= len(lines) {
		return strings.TrimSpace(lines[number-1])
	}
	return ""
}

package finding

import (
	"inkret/core/contract"
	paths "inkret/core/place"
	"inkret/core/scan"
	"strings"
)

// Renaming maps findings to their new names after a revision renamed path parameters, or the only response, of
// endpoints. The endpoints, and their findings, remain the same.
type Renaming struct {
	Endpoints map[string]string            // old name to new
	paths     map[string]map[string]string // by old name: old path of a parameter to new
}

// Renamed returns the endpoints that new contracts only rename.
func Renamed(old, new *contract.Contracts) Renaming {
	r := Renaming{map[string]string{}, map[string]map[string]string{}}
	if old == nil {
		return r
	}
	was := map[string]*contract.Endpoint{}
	for _, e := range old.Endpoints {
		was[e.Template()] = e
	}
	for _, e := range new.Endpoints {
		before := was[e.Template()]
		if before == nil {
			continue
		}
		oldNames, newNames := before.Names(), e.Names()
		// its only response got a name, or another one
		named := len(oldNames) == 1 && len(newNames) == 1 && oldNames[0] != newNames[0]
		if before.Text == e.Text && !named {
			continue
		}
		calls := map[string]string{}
		names := e.ParameterNames()
		for i, name := range before.ParameterNames() {
			calls[parameterPath(name)] = parameterPath(names[i])
		}
		for _, name := range append(before.Names(), before.Text) {
			r.Endpoints[name] = e.Text + name[len(before.Text):]
			if named {
				r.Endpoints[name] = newNames[0]
			}
			r.paths[name] = calls
		}
	}
	return r
}

// Adopt adds endpoints that were seen without a contract, and that new contracts have: what was seen of them goes on
// under the contract's name. Several may become one.
func (r Renaming) Adopt(old, new *contract.Contracts, unknown []string) {
	for _, text := range unknown {
		method, path, _ := strings.Cut(text, " /")
		segments := strings.Split(path, "/")
		if old.Find(method, segments) != nil {
			continue
		}
		if e := new.Find(method, segments); e != nil && len(e.Names()) == 1 && e.Names()[0] != text {
			r.Endpoints[text] = e.Names()[0]
		}
	}
}

func parameterPath(name string) string { return "path >> " + paths.Root + paths.Name(name) }

// Of returns the new identity of a finding.
func (r Renaming) Of(id Identity) Identity {
	if to, ok := r.Endpoints[id.Endpoint]; ok {
		if path, ok := r.paths[id.Endpoint][id.Path]; ok {
			id.Path = path
		}
		id.Endpoint = to
	}
	return id
}

// Outcome renames the outcome of a judge with the old contracts.
func (r Renaming) Outcome(out *scan.Outcome) {
	to, ok := r.Endpoints[out.Endpoint]
	if !ok {
		return
	}
	for i := range out.Spots {
		if path, ok := r.paths[out.Endpoint][out.Spots[i].Path]; ok {
			out.Spots[i].Path = path
		}
	}
	out.Endpoint = to
}

package finding

import (
	"inkret/core/contract"
	paths "inkret/core/place"
	"inkret/core/scan"
)

// Renaming is how findings are called once contracts name the parameters of endpoints otherwise, or their one
// response: the endpoint stays the same one, and so do its findings.
type Renaming struct {
	Endpoints map[string]string            // old name to new
	paths     map[string]map[string]string // by old name: old path of a parameter to new
}

// Renamed tells what endpoints new contracts only call otherwise.
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
		// its one response is named, or otherwise
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

func parameterPath(name string) string { return "path >> " + paths.Root + paths.Name(name) }

// Of gives the identity that a finding has from then on.
func (r Renaming) Of(id Identity) Identity {
	if to, ok := r.Endpoints[id.Endpoint]; ok {
		if path, ok := r.paths[id.Endpoint][id.Path]; ok {
			id.Path = path
		}
		id.Endpoint = to
	}
	return id
}

// Outcome calls what a judge said by the old contracts as it would be by the new ones.
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

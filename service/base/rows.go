package base

import (
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/scan"
	"inkret/store"
)

// Occurrences returns the findings that an outcome shows, each with its first spot.
func Occurrences(service string, out *scan.Outcome) []store.Occurrence {
	var all []store.Occurrence
	index := map[finding.Identity]int{}
	for i := range out.Spots {
		s := &out.Spots[i]
		id := finding.IdentityOf(service, out, s)
		k, known := index[id]
		if !known {
			k = len(all)
			index[id] = k
			all = append(all, store.Occurrence{Finding: id.Fingerprint(), Pointer: s.Pointer, Offset: s.Offset})
		}
		all[k].Bytes += s.Bytes
		all[k].Spots += 1 + s.Folded
	}
	return all
}

// FindingRows converts findings to records.
func FindingRows(service string, findings []*finding.Finding, team func(endpoint string) string) []store.Finding {
	out := make([]store.Finding, len(findings))
	for i, f := range findings {
		out[i] = store.Finding{ID: f.Fingerprint, Service: service, Kind: f.Kind.String(), Severity: int(f.Severity),
			Endpoint: f.Endpoint, EndpointID: store.EndpointID(service, f.Endpoint), Team: team(f.Endpoint),
			Audience: f.Audience, Direction: f.Direction, Status: f.Status, Path: f.Path, Facts: f.Facts,
			Bytes: int64(f.Bytes), GrantFile: f.Grant.File, GrantLine: f.Grant.Line, Prints: f.Prints()}
		if f.Excepted != nil {
			out[i].Excepted = f.Excepted.Reason
		}
	}
	return out
}

// IdentityOf returns the identity of a stored finding.
func IdentityOf(f *store.Finding) finding.Identity {
	kind, _ := kind.Parse(f.Kind)
	return finding.Identity{Service: f.Service, Endpoint: f.Endpoint, Audience: f.Audience, Direction: f.Direction,
		Status: f.Status, Path: f.Path, Kind: kind}
}

package compare

import (
	"fmt"
	"slices"

	"inkret/core/catalog"
	"inkret/core/probe"
	"inkret/core/scan"
)

// maxUnreported is how many places are told of one by one that are no longer reported.
const maxUnreported = 8

// measure adds what the judge no longer reports of what is grave: a class from personal on, or a severity from high on.
// Nothing that the comparison told explains it, so it is told by what is no longer reported.
func (d *Difference) measure(losses []probe.Loss) {
	var told []Sentence
	met, more := map[string]bool{}, 0
	for _, l := range losses {
		if l.Class < catalog.Personal && l.Severity < scan.High {
			continue
		}
		class := max(l.Class, catalog.Personal)
		d.Direction, d.Reaches = Widening, max(d.Reaches, class)
		if !slices.Contains(d.Endpoints, l.Endpoint) && l.Endpoint != "" {
			d.Endpoints = append(d.Endpoints, l.Endpoint)
		}
		where, who := "an address without a contract", l.Audience
		if l.Endpoint != "" {
			where = l.Endpoint
		}
		if who == "" {
			who = "whoever asks"
		}
		text := fmt.Sprintf("no longer reports %s as %s where %s gets it at %s", l.Path, l.Kind, who, where)
		switch {
		case met[text]:
			continue
		case len(told) == maxUnreported:
			more++
			met[text] = true
			continue
		}
		met[text] = true
		d.Changes = append(d.Changes, Change{Direction: Widening, What: "unreported", Class: class, Endpoint: l.Endpoint, Audience: l.Audience, Status: l.Status, Path: l.Path, Detail: l.Kind.String()})
		told = append(told, Sentence{Widening, class, text})
	}
	if more > 0 {
		told = append(told, Sentence{Widening, catalog.Personal, fmt.Sprintf("no longer reports %d places more, or less severely", more)})
	}
	d.Words = append(told, d.Words...)
}

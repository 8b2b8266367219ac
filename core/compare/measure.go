package compare

import (
	"fmt"
	"slices"

	"inkret/core/catalog"
	"inkret/core/probe"
	"inkret/core/severity"
)

// maxUnreported limits the places that are listed one by one as no longer reported.
const maxUnreported = 8

// measure adds what the judge no longer reports and the comparison did not find: everything if nothing widens,
// otherwise what is more severe.
func (d *Difference) measure(losses []probe.Loss) {
	var told []Sentence
	known, widens := d.Reaches, d.Direction == Widening
	met, more := map[string]bool{}, 0
	for _, l := range losses {
		class := l.Class
		if l.Severity >= severity.High {
			class = max(class, catalog.Personal)
		}
		if widens && class <= known {
			continue
		}
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
		d.Changes = append(d.Changes, Change{Direction: Widening, What: "unreported", Class: class,
			Endpoint: l.Endpoint, Audience: l.Audience, Status: l.Status, Path: l.Path, Detail: l.Kind.String()})
		told = append(told, Sentence{Widening, class, text})
	}
	if more > 0 {
		told = append(told, Sentence{Widening, d.Reaches,
			fmt.Sprintf("no longer reports %d places more, or less severely", more)})
	}
	d.Words = append(told, d.Words...)
}

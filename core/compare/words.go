package compare

import (
	"fmt"
	"slices"
	"strings"
)

// group is a set of changes that one sentence describes.
type group struct {
	Change
	endpoints, audiences, paths []string
}

// grouped groups changes that one sentence describes, in their order.
func grouped(changes []Change) []*group {
	var all []*group
	index := map[string]*group{}
	for _, c := range changes {
		key := strings.Join([]string{string(c.Direction), c.What, c.Entity, c.Field, c.Detail}, "\n")
		switch c.What {
		case "granted", "withdrawn", "opened", "accepted", "refused", "loosened", "tightened", "presence", "anybodys",
			"own":
			if c.Field == "" {
				key += "\n" + c.Path
			}
		default:
			key += "\n" + c.Endpoint + "\n" + c.Path
		}
		g := index[key]
		if g == nil {
			g = &group{Change: c}
			index[key] = g
			all = append(all, g)
		}
		g.Class = max(g.Class, c.Class)
		add := func(list *[]string, s string) {
			if s != "" && !slices.Contains(*list, s) {
				*list = append(*list, s)
			}
		}
		add(&g.endpoints, c.Endpoint)
		add(&g.audiences, c.Audience)
		add(&g.paths, c.Path)
	}
	return all
}

// words describes changes in sentences: widening first, most sensitive first.
func words(changes []Change) []Sentence {
	all := grouped(changes)
	rank := map[Direction]int{Widening: 2, Narrowing: 1}
	slices.SortStableFunc(all, func(a, b *group) int {
		if d := rank[b.Direction] - rank[a.Direction]; d != 0 {
			return d
		}
		return int(b.Class) - int(a.Class)
	})
	sentences := make([]Sentence, len(all))
	for i, g := range all {
		sentences[i] = Sentence{g.Direction, g.Class, g.sentence()}
	}
	return sentences
}

// subject returns what changes are about, for whom, and where.
func (g *group) subject() (thing, who, where string) {
	thing, who = g.Field, list(g.audiences)
	if g.Entity != "" && g.Field != "" {
		thing = g.Entity + "." + g.Field
	}
	if thing == "" {
		thing = g.Path
		if g.Detail != "" && (g.What == "granted" || g.What == "withdrawn" || g.What == "opened") {
			thing += " (" + g.Detail + ")"
		}
	}
	if who == "" && g.What != "audience" {
		who = "everybody"
	}
	where = " at " + strings.Join(g.endpoints, "")
	if len(g.endpoints) > 1 {
		where = fmt.Sprintf(" at %d endpoints", len(g.endpoints))
	}
	return thing, who, where
}

func (g *group) sentence() string {
	thing, who, where := g.subject()
	switch g.What {
	case "granted":
		return fmt.Sprintf("lets %s see %s%s", who, thing, where)
	case "opened":
		return fmt.Sprintf("lets %s see anything in %s%s", who, thing, where)
	case "withdrawn":
		return fmt.Sprintf("no longer lets %s see %s%s", who, thing, where)
	case "anybodys":
		return fmt.Sprintf("lets %s see %s of other people's records, too%s", who, thing, where)
	case "own":
		return fmt.Sprintf("lets %s see %s of their own records only%s", who, thing, where)
	case "moved":
		return fmt.Sprintf("shows %s as %s instead of %s%s", thing, g.Path, g.Detail, where)
	case "carries":
		return fmt.Sprintf("%s carries %s%s", g.Path, g.Detail, where)
	case "loosened":
		return fmt.Sprintf("asks less of %s%s: %s", thing, where, g.Detail)
	case "tightened":
		return fmt.Sprintf("asks more of %s%s: %s", thing, where, g.Detail)
	case "presence":
		return fmt.Sprintf("%s %s%s", thing, g.Detail, where)
	case "accepted":
		return fmt.Sprintf("lets %s send %s%s", who, thing, where)
	case "refused":
		return fmt.Sprintf("no longer lets %s send %s%s", who, thing, where)
	case "class":
		return fmt.Sprintf("classes %s as %s", thing, g.Detail)
	case "judged":
		return fmt.Sprintf("%s, status %s, %s", g.Endpoint, g.Status, g.Detail)
	case "country", "detector":
		return g.Detail
	case "field", "relation":
		return fmt.Sprintf("%s %s", thing, g.Detail)
	case "entity":
		return fmt.Sprintf("%s %s", g.Entity, g.Detail)
	case "callers":
		return g.Detail
	case "audience":
		return strings.TrimSpace(who + " " + g.Detail)
	case "exception":
		if g.Direction == Narrowing {
			return fmt.Sprintf("no longer lets findings of %s at %s %s pass", g.Detail, g.Endpoint, g.Path)
		}
		return fmt.Sprintf("lets findings of %s at %s %s pass", g.Detail, g.Endpoint, g.Path)
	}
	return fmt.Sprintf("%s %s", g.Endpoint, g.Detail)
}

func list(names []string) string {
	switch len(names) {
	case 0:
		return ""
	case 1:
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

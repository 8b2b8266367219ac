package compare

import (
	"fmt"
	"slices"
	"strings"
)

// words tells changes in sentences, those of one sort and thing together: widening
// first, then what is gravest.
func words(changes []Change) []Sentence {
	type group struct {
		Change
		endpoints, audiences, paths []string
	}
	var all []*group
	index := map[string]*group{}
	for _, c := range changes {
		key := strings.Join([]string{string(c.Direction), c.What, c.Entity, c.Field, c.Detail}, "\n")
		switch c.What {
		case "granted", "withdrawn", "opened", "accepted", "refused", "loosened", "tightened", "presence":
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
	rank := map[Direction]int{Widening: 2, Narrowing: 1}
	slices.SortStableFunc(all, func(a, b *group) int {
		if d := rank[b.Direction] - rank[a.Direction]; d != 0 {
			return d
		}
		return int(b.Class) - int(a.Class)
	})
	sentences := make([]Sentence, len(all))
	for i, g := range all {
		thing, who := g.Field, list(g.audiences)
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
		where := " at " + strings.Join(g.endpoints, "")
		if len(g.endpoints) > 1 {
			where = fmt.Sprintf(" at %d endpoints", len(g.endpoints))
		}
		var s string
		switch g.What {
		case "granted":
			s = fmt.Sprintf("lets %s see %s%s", who, thing, where)
		case "opened":
			s = fmt.Sprintf("lets %s see anything in %s%s", who, thing, where)
		case "withdrawn":
			s = fmt.Sprintf("no longer lets %s see %s%s", who, thing, where)
		case "moved":
			s = fmt.Sprintf("shows %s as %s instead of %s%s", thing, g.Path, g.Detail, where)
		case "carries":
			s = fmt.Sprintf("%s carries %s%s", g.Path, g.Detail, where)
		case "loosened":
			s = fmt.Sprintf("asks less of %s%s: %s", thing, where, g.Detail)
		case "tightened":
			s = fmt.Sprintf("asks more of %s%s: %s", thing, where, g.Detail)
		case "presence":
			s = fmt.Sprintf("%s %s%s", thing, g.Detail, where)
		case "accepted":
			s = fmt.Sprintf("lets %s send %s%s", who, thing, where)
		case "refused":
			s = fmt.Sprintf("no longer lets %s send %s%s", who, thing, where)
		case "class":
			s = fmt.Sprintf("classes %s as %s", thing, g.Detail)
		case "judged":
			s = fmt.Sprintf("%s, status %s, %s", g.Endpoint, g.Status, g.Detail)
		case "country", "detector":
			s = g.Detail
		case "field", "relation":
			s = fmt.Sprintf("%s %s", thing, g.Detail)
		case "entity":
			s = fmt.Sprintf("%s %s", g.Entity, g.Detail)
		case "audience":
			s = strings.TrimSpace(who + " " + g.Detail)
		case "exception":
			s = fmt.Sprintf("lets findings of %s at %s %s pass", g.Detail, g.Endpoint, g.Path)
			if g.Direction == Narrowing {
				s = fmt.Sprintf("no longer lets findings of %s at %s %s pass", g.Detail, g.Endpoint, g.Path)
			}
		default:
			s = fmt.Sprintf("%s %s", g.Endpoint, g.Detail)
		}
		sentences[i] = Sentence{g.Direction, g.Class, s}
	}
	return sentences
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

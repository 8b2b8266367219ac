package observe

import (
	"hash/maphash"
	"maps"
	"regexp"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/place"
	"inkret/core/schema"
)

// Who makes requests, and whose records there are, as traffic shows it: a claim of a token, or a value of an
// answer about oneself, that equals the identifier of something like a person, or a foreign key to it. Values
// are compared as keyed hashes.

// notWho lists claims that tell nothing of a person (RFC 7519 section 4.1, RFC 9068, and usual ones for rights).
var notWho = []string{"iss", "aud", "exp", "nbf", "iat", "jti", "typ", "azp", "client_id", "scope", "scp", "role",
	"roles",
	"acr", "sid", "tid", "auth_time", "nonce"}

// aboutOneself matches the last segment of addresses that answer with who asks.
var aboutOneself = regexp.MustCompile(`(?i)^(me|self|myself|whoami|who-am-i|userinfo|user-info|profile|current|current[-_]user|session)$`)

// foreignKey matches names of fields that say whose something is, besides those that name the person's entity.
var foreignKey = regexp.MustCompile(`(?i)^(owner|user|account|customer|member|person|holder|author|created[-_]?by|booked[-_]?by)([-_]?(id|uuid|key|no|number|name))?$`)

// claims notes the scalar claims of a request's token.
func (o *Observer) claims(r *exchange.Request) {
	for name, text := range contract.ClaimsOf(r) {
		if slices.Contains(notWho, name) || len(text) > 200 {
			continue
		}
		if o.told[name] == nil {
			if len(o.told) >= maxDistinct {
				continue
			}
			o.told[name] = map[uint64]bool{}
		}
		if len(o.told[name]) <= maxDistinct {
			o.told[name][maphash.String(o.seed, text)] = true
		}
	}
}

// telling is one way to tell who makes a request, with the identities that it told.
type telling struct {
	schema.Teller
	values map[uint64]bool
}

// tellings lists the ways that traffic offers: claims, `sub` first, then answers about oneself.
func (o *Observer) tellings(endpoints []found) []telling {
	var all []telling
	names := slices.Sorted(maps.Keys(o.told))
	slices.SortStableFunc(names, func(a, b string) int { return rank(a) - rank(b) })
	for _, name := range names {
		all = append(all, telling{schema.Teller{Claim: name}, o.told[name]})
	}
	for _, e := range endpoints {
		parts := strings.Split(strings.Trim(e.path, "/"), "/")
		if e.method != "GET" || !aboutOneself.MatchString(parts[len(parts)-1]) {
			continue
		}
		for a, s := range e.answers {
			if a.status[0] == '2' && a.audience != Anyone {
				all = append(all, leaves(s, e.method+" "+endpointOf(e.path), nil)...)
			}
		}
	}
	return all
}

func endpointOf(path string) string { return "/" + strings.Trim(path, "/") }

// rank puts the claim for the subject first.
func rank(claim string) int {
	if claim == "sub" {
		return 0
	}
	return 1
}

// leaves lists the values of an answer about oneself that may identify somebody.
func leaves(s *spot, endpoint string, at []string) (all []telling) {
	const deepest = 3
	if s.many || len(at) > deepest {
		return nil
	}
	for _, name := range s.names {
		m := s.members[name]
		below := append(slices.Clone(at), name)
		if m.isObject() {
			all = append(all, leaves(m, endpoint, below)...)
		} else if !m.many && len(m.distinct) > 0 && identifies(name) {
			pointer := []byte(nil)
			for _, token := range below {
				pointer = place.AppendPointer(pointer, []byte(token))
			}
			all = append(all, telling{schema.Teller{ToldBy: endpoint, At: string(pointer)}, m.distinct})
		}
	}
	return all
}

// identifies reports whether a name is one of an identifier.
func identifies(name string) bool {
	words := detect.Words(nil, []byte(name))
	if len(words) == 0 {
		return false
	}
	return slices.Contains([]string{"id", "uuid", "uid", "guid", "sub", "key", "username", "login", "email"},
		words[len(words)-1])
}

// whose proposes who makes requests, and whose records there are.
func (o *Observer) whose(k *sketcher, endpoints []found) {
	persons := map[*schema.Object]string{} // with the member that identifies one
	var chosen *telling
	tellings := o.tellings(endpoints)
	for i := range tellings {
		for _, c := range k.clusters {
			if !likePerson(c.object) {
				continue
			}
			for _, m := range c.object.Members {
				if m.Object == nil && !m.Many && identifies(m.Name) && meets(k.values[m], tellings[i].values) {
					persons[c.object] = m.Name
					break
				}
			}
		}
		if len(persons) > 0 {
			chosen = &tellings[i]
			break
		}
	}
	if chosen == nil {
		return
	}
	k.sketch.Tellers = append(k.sketch.Tellers, chosen.Teller)
	for _, c := range k.clusters {
		c.object.Owner = persons[c.object]
		for _, m := range c.object.Members {
			if c.object.Owner != "" {
				break
			}
			person := false
			if m.Object != nil {
				_, person = persons[m.Object.Entity()]
			}
			switch {
			case m.Many:
			case m.Object != nil && person:
				c.object.Owner = m.Name
			case m.Object == nil && refersTo(m.Name, persons) && meets(k.values[m], chosen.values):
				c.object.Owner = m.Name
			}
		}
	}
}

// refersTo reports whether a name is one of a foreign key to one of these.
func refersTo(name string, persons map[*schema.Object]string) bool {
	if foreignKey.MatchString(name) {
		return true
	}
	words := detect.Words(nil, []byte(name))
	for p := range persons {
		of := detect.Words(nil, []byte(p.Name))
		if len(of) > 0 && len(words) >= len(of) && slices.Equal(words[:len(of)], of) {
			return true
		}
	}
	return false
}

// likePerson reports whether an object seems to be a person: something of it is personal.
func likePerson(o *schema.Object) bool {
	for _, m := range o.Members {
		if m.Object == nil && (m.Observed.Class == catalog.Personal ||
			detect.Name([]byte(m.Name)) == catalog.Personal) {
			return true
		}
	}
	return false
}

func meets(a, b map[uint64]bool) bool {
	for v := range a {
		if b[v] {
			return true
		}
	}
	return false
}

package labelled

import (
	"embed"
	"fmt"
	"net/url"
	"path"
	"strings"

	"inkret/core/catalog"
	"inkret/core/exchange"
	"inkret/core/scan"
)

// Member is a member as a response has it, and the class that it tells of by name and value together.
type Member struct {
	Domain string // the kind of API
	Class  string // secret, personal or none
	Text   string // "name": value
}

// members are files of one kind of API each, with as many harmless members as sensitive ones. What is in measured was
// written like the rest, before anything was judged, and is for measuring only: nothing is improved after it.
//
//go:embed members
var members embed.FS

// Members returns those that the judge was improved with, or those that only measure it.
func Members(measured bool) ([]Member, error) {
	dir := "members"
	if measured {
		dir = "members/measured"
	}
	files, err := members.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var all []Member
	for _, f := range files {
		if f.IsDir() {
			continue
		}
		data, err := members.ReadFile(path.Join(dir, f.Name()))
		if err != nil {
			return nil, err
		}
		domain := strings.TrimSuffix(f.Name(), ".txt")
		for i, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
			class, text, ok := strings.Cut(line, " ")
			if !ok || class != "secret" && class != "personal" && class != "none" {
				return nil, fmt.Errorf("%s:%d: %q is no class and member", f.Name(), i+1, line)
			}
			all = append(all, Member{domain, class, text})
		}
	}
	return all, nil
}

// MeasureMembers judges every member in a body of its own, without a contract. It returns the quality by class, and
// of both together last. A member that is reported with another class counts as wrong and as lacking.
func MeasureMembers(members []Member) []Quality {
	secret, personal, both := Quality{Detector: "members: secret"}, Quality{Detector: "members: personal"},
		Quality{Detector: "members"}
	of := func(class string) []*Quality {
		switch class {
		case "secret":
			return []*Quality{&secret, &both}
		case "personal":
			return []*Quality{&personal, &both}
		}
		return nil
	}
	judge := scan.NewJudge(nil)
	for _, m := range members {
		got := judged(judge, m.Text)
		if got == m.Class {
			for _, q := range of(got) {
				q.Right++
			}
			continue
		}
		example := fmt.Sprintf("%s: %s is %s, not %s", m.Domain, m.Text, m.Class, got)
		for _, q := range of(got) {
			q.Wrong++
			q.Examples = append(q.Examples, example)
		}
		for _, q := range of(m.Class) {
			q.Lacks++
			q.Examples = append(q.Examples, example)
		}
	}
	return []Quality{secret, personal, both}
}

// judged returns the gravest class that the judge reports for a member.
func judged(judge *scan.Judge, member string) string {
	out := judge.Capture(&exchange.Capture{
		Request: exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "quay.example", Path: "/"}},
		Response: exchange.Response{Status: 200, Body: []byte("{" + member + "}"),
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}})
	if out.Skipped != "" {
		return out.Skipped
	}
	class := catalog.Unclassed
	for _, s := range out.Spots {
		if s.Kind.Exposure() {
			class = max(class, s.Class)
		}
	}
	if class < catalog.Personal {
		return "none"
	}
	return class.String()
}

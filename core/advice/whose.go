package advice

import (
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exposure"
)

// anybodys finds personal fields that an audience which is not the most trusted sees of anybody's records.
func (a *adviser) anybodys(e *contract.Endpoint) {
	most := len(a.c.Audiences) - 1
	who := map[string][]string{}
	at := map[string]exposure.Exposure{}
	var order []string
	for _, c := range e.Cases() {
		if c.Choice.Response == nil || c.Status[0] != '2' || c.Audience.Index >= most || c.Audience.Recognise.None {
			continue
		}
		for path, x := range exposure.Of(e.PlanOf(c)) {
			if x.Class != catalog.Personal || x.Limited || x.Field == "" {
				continue
			}
			if at[path].Grant == nil {
				order = append(order, path)
			}
			if at[path] = x; !slices.Contains(who[path], c.Audience.Name) {
				who[path] = append(who[path], c.Audience.Name)
			}
		}
	}
	slices.Sort(order)
	for _, path := range order {
		x := at[path]
		mend := "limit it by `own: true`, or leave it if they need it of others, too"
		if entity := a.c.Catalog.Entity(x.Entity); entity != nil && entity.Owner == "" {
			mend = "name the `owner` of " + x.Entity +
				", and limit it by `own: true`; or leave it if they need it of others, too"
		}
		a.add(Advice{Pos: x.Grant.Pos, Code: NotOwn, Weight: Worth, Endpoint: e.Text, About: x.Entity + "." + x.Field,
			Text: "this personal field is granted to " + strings.Join(who[path], ", ") +
				", not the most trusted audience: " +
				"should it be limited to the caller's own records?", Mend: mend})
	}
}

// nobodyAsks finds contracts that limit records to the caller's own and do not say how a caller is known.
func (a *adviser) nobodyAsks() {
	if len(a.c.Tellers) > 0 || a.c.OwnerWays() == nil {
		return
	}
	for _, e := range append(slices.Clone(a.c.Endpoints), a.c.Everywhere()) {
		for _, c := range e.Cases() {
			for _, x := range exposure.Of(e.PlanOf(c)) {
				if x.Limited {
					a.add(Advice{Pos: x.Grant.Pos, Code: NobodyAsks, Weight: Serious, Endpoint: e.Text,
						About: "callers",
						Text: "records are limited to the caller's own, and nothing tells who a caller is, so that " +
							"nobody's is " +
							"found to be somebody else's",
						Mend: "say it at the top, such as `callers: [{claim: sub}]`"})
					return
				}
			}
		}
	}
}

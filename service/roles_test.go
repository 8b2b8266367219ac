package service

import (
	"strings"
	"testing"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/people"
	"inkret/service/review"
)

// other adds a second service, with a finding of its own, and gives that.
func (w *world) other() base.Finding {
	w.t.Helper()
	if _, _, err := w.Review.Apply(w.t.Context(), w.who, "till",
		review.Proposed{Files: []base.ContractFile{{Name: "till.yaml", Text: strings.ReplaceAll(harbour,
			"service: quay",
			"service: till")}}}); err != nil {
		w.t.Fatal(err)
	}
	if _, err := w.Evidence.Upload(w.t.Context(), w.who, "till", "till.har", evidence.Said{},
		strings.NewReader(recording(leaky))); err != nil {
		w.t.Fatal(err)
	}
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{Service: "till"},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 {
		w.t.Fatal(all, err)
	}
	return all[0]
}

func TestRolesAtServices(t *testing.T) {
	w := newWorld(t)
	there := w.other()
	here := func() findings.FindingView {
		all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Service: "quay"},
			base.Page{Number: 1, Size: 10})
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		v, err := w.Findings.Finding(t.Context(), w.who, all[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	w.upload("monday.har", recording(leaky))
	marlo, iva := w.person("Marlo", base.Administrator), w.person("Iva", base.Viewer)
	p, err := w.People.ChangePerson(t.Context(), marlo, iva.ID,
		people.PersonWish{Roles: map[string]string{"till": base.Lead}})
	if err != nil || p.Role != base.Viewer || p.Roles["till"] != base.Lead {
		t.Fatalf("%+v, %v", p, err)
	}
	_, secret, err := w.People.NewToken(t.Context(), base.Caller{}, p, base.Key{Name: "t"}, 0)
	if err != nil {
		t.Fatal(err)
	}
	if iva, err = w.People.Authenticate(t.Context(), secret); err != nil {
		t.Fatal(err)
	}
	for role, want := range map[string]bool{base.Viewer: true, base.Reviewer: true, base.Lead: true,
		base.Administrator: false} {
		if iva.MayIn("till", role) != want || iva.MayIn("quay", role) != (role == base.Viewer) ||
			iva.MaySomewhere(role) != want {
			t.Errorf("as %s: at the till %v, at the quay %v, somewhere %v", role, iva.MayIn("till", role),
				iva.MayIn("quay", role), iva.MaySomewhere(role))
		}
	}
	// of two findings that she changes at once she may change one
	both := []string{there.ID, here().ID}
	c, err := w.Findings.ChangeFindings(t.Context(), iva, both, nil, findings.Wish{Add: []string{"hers"}})
	if err != nil || c.Findings != 1 || c.Left != 1 ||
		c.Refused[0].Why != "this needs the role reviewer at quay; yours is viewer" {
		t.Errorf("%+v, %v", c, err)
	}
	// nor undo what others changed elsewhere
	byNoor, err := w.Findings.ChangeFindings(t.Context(), w.who, both, nil, findings.Wish{Add: []string{"ours"}})
	if err != nil || byNoor.Findings != 2 {
		t.Fatal(byNoor, err)
	}
	if n, left, err := w.Findings.UndoChange(t.Context(), iva, byNoor.ID); err != nil || n != 1 || len(left) != 1 ||
		!strings.Contains(left[0].Why, "at quay") {
		t.Errorf("undone %d, left %+v, %v", n, left, err)
	}
	// she decides on waivers at her service alone
	for _, id := range both {
		w.waive(w.who, id, "2026-05-10")
	}
	if n := w.unread(iva); len(n) != 1 || n[0].FindingID != there.ID {
		t.Errorf("told %+v", n)
	}
	if v, err := w.Findings.Move(t.Context(), iva, there.ID, finding.Move{To: finding.Waived}); err != nil ||
		v.Approver != "Iva" {
		t.Errorf("%+v, %v", v.Finding, err)
	}
	if _, err := w.Findings.Move(t.Context(), iva, here().ID, finding.Move{To: finding.Waived, Comment: "x",
		Until: "2026-05-10"}); code(err) != base.Conflict {
		t.Errorf("at the quay: %v", err)
	}
	if _, err := w.Evidence.Repeat(t.Context(), iva,
		evidence.Again{Capture: here().Evidence[0].CaptureID}); code(err) != base.Forbidden {
		t.Errorf("a call of the quay made again: %v", err)
	}

	for name, c := range map[string]struct {
		roles map[string]string
		code  base.Code
	}{"an administrator at one": {map[string]string{"till": base.Administrator}, base.Invalid},
		"no such role":    {map[string]string{"till": "captain"}, base.Invalid},
		"no such service": {map[string]string{"none": base.Lead}, base.NotFound}} {
		if _, err := w.People.ChangePerson(t.Context(), marlo, iva.ID,
			people.PersonWish{Roles: c.roles}); code(err) != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	if p, err = w.People.ChangePerson(t.Context(), marlo, iva.ID,
		people.PersonWish{Roles: map[string]string{"till": ""}}); err != nil || len(p.Roles) != 0 {
		t.Errorf("taken back: %+v, %v", p, err)
	}
	if p, _ := w.People.ChangePerson(t.Context(), marlo, marlo.ID,
		people.PersonWish{Roles: map[string]string{"till": base.Viewer}}); !(&base.Caller{Person: p}).MayIn("till",
		base.Administrator) {
		t.Error("an administrator is none at a service")
	}
}

// TestWhoIsAdmitted goes through roles, scopes, services and what paths name.
func TestWhoIsAdmitted(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	id := w.theHash().ID
	w.other()
	caller := func(role, scope, only string, roles map[string]string) *base.Caller {
		p := w.who.Person
		p.Role, p.Roles = role, roles
		return &base.Caller{Person: p, Key: base.Key{Scope: scope, Service: only}}
	}
	lead := map[string]string{"quay": base.Lead}
	for _, c := range []struct {
		name        string
		who         *base.Caller
		role, scope string
		each        bool
		path        map[string]string
		why         string // empty: admitted
	}{
		{"a viewer reads", caller(base.Viewer, base.ScopeRead, "till", nil), base.Viewer, base.ScopeRead, false,
			map[string]string{"finding_id": id}, ""},
		{"a viewer comments", caller(base.Viewer, base.ScopeEverything, "", nil), base.Viewer, base.ScopeEverything,
			false,
			map[string]string{"finding_id": id}, ""},
		{"with a token that reads", caller(base.Viewer, base.ScopeRead, "", nil), base.Viewer, base.ScopeEverything,
			false,
			map[string]string{"finding_id": id}, "this token's scope is read"},
		{"an unknown scope", caller(base.Administrator, "sing", "", nil), base.Viewer, base.ScopeRead, false, nil,
			"this token's scope is sing"},
		{"a recorder records", caller(base.Reviewer, base.ScopeRecord, "", nil), base.Reviewer, base.ScopeRecord, false,
			map[string]string{"service": "quay"}, ""},
		{"a recorder moves", caller(base.Reviewer, base.ScopeRecord, "", nil), base.Reviewer, base.ScopeEverything,
			false,
			map[string]string{"finding_id": id}, "this needs everything"},
		{"a recorder of another service", caller(base.Reviewer, base.ScopeRecord, "till", nil), base.Reviewer,
			base.ScopeRecord, false,
			map[string]string{"service": "quay"}, "this token is for the service till"},
		{"a token of one service in general", caller(base.Administrator, base.ScopeEverything, "till", nil),
			base.Administrator,
			base.ScopeEverything, false, map[string]string{"person_id": "1"},
			"this token is for the service till alone"},
		{"a token of one service comments at another", caller(base.Viewer, base.ScopeEverything, "till", nil),
			base.Viewer,
			base.ScopeEverything, false, map[string]string{"finding_id": id}, "this token is for the service till"},
		{"and at its own", caller(base.Viewer, base.ScopeEverything, "quay", nil), base.Viewer, base.ScopeEverything,
			false,
			map[string]string{"finding_id": id}, ""},
		{"a reviewer reviews", caller(base.Reviewer, base.ScopeEverything, "", nil), base.Reviewer,
			base.ScopeEverything, false,
			map[string]string{"finding_id": id}, ""},
		{"a viewer reviews", caller(base.Viewer, base.ScopeEverything, "", nil), base.Reviewer, base.ScopeEverything,
			false,
			map[string]string{"finding_id": id}, "this needs the role reviewer; yours is viewer"},
		{"lead at the service", caller(base.Viewer, base.ScopeEverything, "", lead), base.Lead, base.ScopeEverything,
			false,
			map[string]string{"service": "quay"}, ""},
		{"lead at another", caller(base.Viewer, base.ScopeEverything, "", lead), base.Lead, base.ScopeEverything, false,
			map[string]string{"service": "till"}, "yours is viewer"},
		{"less at one service", caller(base.Lead, base.ScopeEverything, "", map[string]string{"quay": base.Viewer}),
			base.Reviewer,
			base.ScopeEverything, false, map[string]string{"batch_id": "1"}, "this needs the role reviewer at quay"},
		{"lead at one, in general", caller(base.Viewer, base.ScopeEverything, "", lead), base.Lead,
			base.ScopeEverything, false, nil,
			"this needs the role lead; yours is viewer"},
		{"lead at one, where each is looked at", caller(base.Viewer, base.ScopeEverything, "", lead), base.Lead,
			base.ScopeEverything, true,
			nil, ""},
		{"a viewer, where each is looked at", caller(base.Viewer, base.ScopeEverything, "", nil), base.Reviewer,
			base.ScopeEverything, true,
			nil, "needs the role reviewer"},
		{"what is not there", caller(base.Administrator, base.ScopeEverything, "", nil), base.Reviewer,
			base.ScopeEverything, false,
			map[string]string{"finding_id": "none"}, "there is no finding none"},
		{"a service that is not there", caller(base.Administrator, base.ScopeEverything, "", nil), base.Reviewer,
			base.ScopeEverything,
			false, map[string]string{"service": "none"}, "there is no service"},
	} {
		err := w.Base.Admit(t.Context(), c.who, base.Need{Role: c.role, Scope: c.scope, Each: c.each}, c.path)
		want := base.Forbidden
		if strings.HasPrefix(c.why, "there is no") {
			want = base.NotFound
		}
		if c.why == "" && err != nil || c.why != "" && (code(err) != want || !strings.Contains(err.Error(), c.why)) {
			t.Errorf("%s: %v, want %q", c.name, err, c.why)
		}
	}
}

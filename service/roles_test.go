package service

import (
	"strings"
	"testing"

	"inkret/core/finding"
)

// other adds a second service, with a finding of its own, and gives that.
func (w *world) other() Finding {
	w.t.Helper()
	if _, _, err := w.Apply(w.t.Context(), w.who, "till",
		Proposed{Files: []ContractFile{{Name: "till.yaml", Text: strings.ReplaceAll(harbour, "service: quay",
			"service: till")}}}); err != nil {
		w.t.Fatal(err)
	}
	if _, err := w.Upload(w.t.Context(), w.who, "till", "till.har", Said{},
		strings.NewReader(recording(leaky))); err != nil {
		w.t.Fatal(err)
	}
	all, _, err := w.Findings(w.t.Context(), FindingFilter{Service: "till"}, Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 {
		w.t.Fatal(all, err)
	}
	return all[0]
}

func TestRolesAtServices(t *testing.T) {
	w := newWorld(t)
	there := w.other()
	here := func() FindingView {
		all, _, err := w.Findings(t.Context(), FindingFilter{Service: "quay"}, Page{Number: 1, Size: 10})
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		v, err := w.Finding(t.Context(), w.who, all[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	w.upload("monday.har", recording(leaky))
	marlo, iva := w.person("Marlo", Administrator), w.person("Iva", Viewer)
	p, err := w.ChangePerson(t.Context(), marlo, iva.ID, PersonWish{Roles: map[string]string{"till": Lead}})
	if err != nil || p.Role != Viewer || p.Roles["till"] != Lead {
		t.Fatalf("%+v, %v", p, err)
	}
	_, secret, err := w.NewToken(t.Context(), Caller{}, p, Key{Name: "t"}, 0)
	if err != nil {
		t.Fatal(err)
	}
	if iva, err = w.Authenticate(t.Context(), secret); err != nil {
		t.Fatal(err)
	}
	for role, want := range map[string]bool{Viewer: true, Reviewer: true, Lead: true, Administrator: false} {
		if iva.MayIn("till", role) != want || iva.MayIn("quay", role) != (role == Viewer) ||
			iva.MaySomewhere(role) != want {
			t.Errorf("as %s: at the till %v, at the quay %v, somewhere %v", role, iva.MayIn("till", role),
				iva.MayIn("quay", role), iva.MaySomewhere(role))
		}
	}
	// of two findings that she changes at once she may change one
	both := []string{there.ID, here().ID}
	c, err := w.ChangeFindings(t.Context(), iva, both, nil, Wish{Add: []string{"hers"}}, false)
	if err != nil || c.Findings != 1 || c.Left != 1 ||
		c.Refused[0].Why != "this needs the role reviewer at quay; yours is viewer" {
		t.Errorf("%+v, %v", c, err)
	}
	// nor undo what others changed elsewhere
	byNoor, err := w.ChangeFindings(t.Context(), w.who, both, nil, Wish{Add: []string{"ours"}}, false)
	if err != nil || byNoor.Findings != 2 {
		t.Fatal(byNoor, err)
	}
	if n, left, err := w.UndoChange(t.Context(), iva, byNoor.ID); err != nil || n != 1 || len(left) != 1 ||
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
	if v, err := w.Move(t.Context(), iva, there.ID, finding.Move{To: finding.Waived}); err != nil ||
		v.Approver != "Iva" {
		t.Errorf("%+v, %v", v.Finding, err)
	}
	if _, err := w.Move(t.Context(), iva, here().ID, finding.Move{To: finding.Waived, Comment: "x",
		Until: "2026-05-10"}); code(err) != Conflict {
		t.Errorf("at the quay: %v", err)
	}
	if _, err := w.Repeat(t.Context(), iva, Again{Capture: here().Evidence[0].CaptureID}); code(err) != Forbidden {
		t.Errorf("a call of the quay made again: %v", err)
	}

	for name, c := range map[string]struct {
		roles map[string]string
		code  Code
	}{"an administrator at one": {map[string]string{"till": Administrator}, Invalid},
		"no such role":    {map[string]string{"till": "captain"}, Invalid},
		"no such service": {map[string]string{"none": Lead}, NotFound}} {
		if _, err := w.ChangePerson(t.Context(), marlo, iva.ID, PersonWish{Roles: c.roles}); code(err) != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	if p, err = w.ChangePerson(t.Context(), marlo, iva.ID,
		PersonWish{Roles: map[string]string{"till": ""}}); err != nil || len(p.Roles) != 0 {
		t.Errorf("taken back: %+v, %v", p, err)
	}
	if p, _ := w.ChangePerson(t.Context(), marlo, marlo.ID,
		PersonWish{Roles: map[string]string{"till": Viewer}}); !(&Caller{Person: p}).MayIn("till", Administrator) {
		t.Error("an administrator is none at a service")
	}
}

// TestWhoIsAdmitted goes through roles, scopes, services and what paths name.
func TestWhoIsAdmitted(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	id := w.theHash().ID
	w.other()
	caller := func(role, scope, only string, roles map[string]string) *Caller {
		p := w.who.Person
		p.Role, p.Roles = role, roles
		return &Caller{p, Key{Scope: scope, Service: only}}
	}
	lead := map[string]string{"quay": Lead}
	for _, c := range []struct {
		name        string
		who         *Caller
		role, scope string
		each        bool
		path        map[string]string
		why         string // empty: admitted
	}{
		{"a viewer reads", caller(Viewer, ScopeRead, "till", nil), Viewer, ScopeRead, false,
			map[string]string{"finding_id": id}, ""},
		{"a viewer comments", caller(Viewer, ScopeEverything, "", nil), Viewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, ""},
		{"with a token that reads", caller(Viewer, ScopeRead, "", nil), Viewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, "this token's scope is read"},
		{"an unknown scope", caller(Administrator, "sing", "", nil), Viewer, ScopeRead, false, nil,
			"this token's scope is sing"},
		{"a recorder records", caller(Reviewer, ScopeRecord, "", nil), Reviewer, ScopeRecord, false,
			map[string]string{"service": "quay"}, ""},
		{"a recorder moves", caller(Reviewer, ScopeRecord, "", nil), Reviewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, "this needs everything"},
		{"a recorder of another service", caller(Reviewer, ScopeRecord, "till", nil), Reviewer, ScopeRecord, false,
			map[string]string{"service": "quay"}, "this token is for the service till"},
		{"a token of one service in general", caller(Administrator, ScopeEverything, "till", nil), Administrator,
			ScopeEverything, false, map[string]string{"person_id": "1"}, "this token is for the service till alone"},
		{"a token of one service comments at another", caller(Viewer, ScopeEverything, "till", nil), Viewer,
			ScopeEverything, false, map[string]string{"finding_id": id}, "this token is for the service till"},
		{"and at its own", caller(Viewer, ScopeEverything, "quay", nil), Viewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, ""},
		{"a reviewer reviews", caller(Reviewer, ScopeEverything, "", nil), Reviewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, ""},
		{"a viewer reviews", caller(Viewer, ScopeEverything, "", nil), Reviewer, ScopeEverything, false,
			map[string]string{"finding_id": id}, "this needs the role reviewer; yours is viewer"},
		{"lead at the service", caller(Viewer, ScopeEverything, "", lead), Lead, ScopeEverything, false,
			map[string]string{"service": "quay"}, ""},
		{"lead at another", caller(Viewer, ScopeEverything, "", lead), Lead, ScopeEverything, false,
			map[string]string{"service": "till"}, "yours is viewer"},
		{"less at one service", caller(Lead, ScopeEverything, "", map[string]string{"quay": Viewer}), Reviewer,
			ScopeEverything, false, map[string]string{"batch_id": "1"}, "this needs the role reviewer at quay"},
		{"lead at one, in general", caller(Viewer, ScopeEverything, "", lead), Lead, ScopeEverything, false, nil,
			"this needs the role lead; yours is viewer"},
		{"lead at one, where each is looked at", caller(Viewer, ScopeEverything, "", lead), Lead, ScopeEverything, true,
			nil, ""},
		{"a viewer, where each is looked at", caller(Viewer, ScopeEverything, "", nil), Reviewer, ScopeEverything, true,
			nil, "needs the role reviewer"},
		{"what is not there", caller(Administrator, ScopeEverything, "", nil), Reviewer, ScopeEverything, false,
			map[string]string{"finding_id": "none"}, "there is no finding none"},
		{"a service that is not there", caller(Administrator, ScopeEverything, "", nil), Reviewer, ScopeEverything,
			false, map[string]string{"service": "none"}, "there is no service"},
	} {
		err := w.Admit(t.Context(), c.who, Need{Role: c.role, Scope: c.scope, Each: c.each}, c.path)
		want := Forbidden
		if strings.HasPrefix(c.why, "there is no") {
			want = NotFound
		}
		if c.why == "" && err != nil || c.why != "" && (code(err) != want || !strings.Contains(err.Error(), c.why)) {
			t.Errorf("%s: %v, want %q", c.name, err, c.why)
		}
	}
}

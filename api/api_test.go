package api

import (
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// TestTheDescriptionNamesWhatIsNeeded checks what the code relies on in the description: unique ids, known roles,
// and a schema for each query parameter.
func TestTheDescriptionNamesWhatIsNeeded(t *testing.T) {
	all, err := Operations()
	if err != nil {
		t.Fatal(err)
	}
	roles := []string{"none", "viewer", "reviewer", "lead", "administrator"}
	ids := map[string]bool{}
	queries := 0
	for _, o := range all {
		if ids[o.ID] {
			t.Errorf("%s is there twice", o.ID)
		}
		ids[o.ID] = true
		if !slices.Contains(roles, o.Role) {
			t.Errorf("%s needs the role %q, which nobody has", o.ID, o.Role)
		}
		if !slices.Contains([]string{"get", "put", "post", "patch", "delete"}, o.Method) || o.Path == "" ||
			o.Path[0] != '/' {
			t.Errorf("%s is %s %s", o.ID, o.Method, o.Path)
		}
		for _, q := range o.Query {
			if queries++; q.Schema == nil {
				t.Errorf("%s has the parameter %s without a schema", o.ID, q.Name)
			}
		}
	}
	for _, id := range []string{"getHealth", "listCaptures", "watchLive", "compareCaptures", "revealValue"} {
		if !ids[id] {
			t.Errorf("there is no operation %s", id)
		}
	}
	if queries < 30 {
		t.Errorf("only %d parameters of queries were looked at", queries)
	}
}

// TestWritesNeedMoreThanLooking checks that viewers can change nothing except what is their own: session, password,
// tokens, comments, views, mail, requests and trials.
func TestWritesNeedMoreThanLooking(t *testing.T) {
	theirs := []string{"readLink", "signIn", "signOut", "setUp", "createToken", "endToken", "commentFinding",
		"tryContracts", "mergeContracts", "draftContracts", "readEntities",
		"changePassword", "endSession", "beginSecondFactor", "confirmSecondFactor", "endSecondFactor", "followFinding",
		"unfollowFinding", "readNotices", "addView", "dropView", "askForField", "withdrawRequest",
		"setMailing", "testMail", "followView", "unfollowView"}
	all, err := Operations()
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range all {
		if o.Method != "get" && (o.Role == "viewer" || o.Role == "none") && !slices.Contains(theirs, o.ID) {
			t.Errorf("%s %s is open to %s", o.Method, o.Path, o.Role)
		}
	}
}

// TestEveryTextHasABound checks that requests are closed: no unknown members, and a limit for every text and list.
func TestEveryTextHasABound(t *testing.T) {
	all, err := Operations()
	if err != nil {
		t.Fatal(err)
	}
	looked := 0
	var hold func(at string, ref *openapi3.SchemaRef, depth int)
	hold = func(at string, ref *openapi3.SchemaRef, depth int) {
		s := ref.Value
		if looked++; depth > 12 {
			return
		}
		for _, one := range s.AllOf {
			hold(at, one, depth+1)
		}
		switch {
		case s.Type.Is("string"):
			if s.MaxLength == nil && len(s.Enum) == 0 && s.Format != "date" && s.Format != "date-time" &&
				s.Format != "binary" {
				t.Errorf("%s is a text without a bound", at)
			}
		case s.Type.Is("array"):
			if s.MaxItems == nil {
				t.Errorf("%s is a list without a bound", at)
			}
			hold(at+"[]", s.Items, depth+1)
		case s.Type.Is("object"):
			// what other versions of check print
			lenient := strings.HasSuffix(ref.Ref, "/CheckResult") || strings.HasSuffix(ref.Ref, "/CheckSummary") ||
				strings.HasSuffix(ref.Ref, "/CheckedFinding")
			if closed := s.AdditionalProperties.Has != nil && !*s.AdditionalProperties.Has; !closed && !lenient &&
				s.AdditionalProperties.Schema == nil {
				t.Errorf("%s takes members that it does not name", at)
			}
			for name, p := range s.Properties {
				hold(at+"."+name, p, depth+1)
			}
		}
	}
	for _, o := range all {
		for _, q := range o.Query {
			hold(o.ID+"?"+q.Name, q.Schema, 0)
		}
		if b := o.Route.Operation.RequestBody; b != nil {
			for _, c := range b.Value.Content {
				hold(o.ID, c.Schema, 0)
			}
		}
	}
	if looked < 250 {
		t.Errorf("only %d schemas were looked at", looked)
	}
}

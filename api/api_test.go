package api

import (
	"slices"
	"testing"
)

// TestTheDescriptionNamesWhatIsNeeded holds the description against what the surface is
// built of: ids that are each there once, roles that are known, queries with a schema.
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
		if !slices.Contains([]string{"get", "put", "post", "patch", "delete"}, o.Method) || o.Path == "" || o.Path[0] != '/' {
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

// TestWritesNeedMoreThanLooking holds that nothing that changes something is open to
// viewers, but for what is theirs: their session, password, tokens, comments, views, mail and requests, and trials.
func TestWritesNeedMoreThanLooking(t *testing.T) {
	theirs := []string{"readLink", "signIn", "signOut", "setUp", "createToken", "endToken", "commentFinding", "tryContracts", "mergeContracts", "draftContracts", "readEntities",
		"changePassword", "endSession", "beginSecondFactor", "confirmSecondFactor", "endSecondFactor", "followFinding", "unfollowFinding", "readNotices", "addView", "dropView", "askForField", "withdrawRequest",
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

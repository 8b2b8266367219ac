package detect

import (
	"testing"

	"inkret/core/catalog"
)

// TestWhatIsKeptInside checks names of what is for those who run a service, and of what belongs to its works.
func TestWhatIsKeptInside(t *testing.T) {
	for name, want := range map[string]bool{"private_note": true, "internalMargin": true, "purchase_price": true,
		"staff_remark": true, "tokenKey": true, "risk-score": true, "id": false, "ownerId": false, "created_at": false,
		"sort": false, "notify": false, "annotation": false} {
		if Kept(name) != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
}

func TestSuggestedClasses(t *testing.T) {
	for _, c := range []struct {
		entity, field string
		evidence      Evidence
		class         catalog.Class
		sure          Sureness
	}{
		{"Boat", "label", Evidence{Detector: "bcrypt hash", Class: catalog.Secret}, catalog.Secret, Sure},
		{"Skipper", "password_hash", Evidence{}, catalog.Secret, Sure},
		{"Skipper", "contact", Evidence{Form: catalog.Form{Format: "email"}}, catalog.Personal, Sure},
		{"Boat", "misc", Evidence{Note: "holds the owner's phone number"}, catalog.Personal, Likely},
		{"Boat", "misc", Evidence{Note: "whether a phone is known; has no phone"}, catalog.Unclassed, Guess},
		{"Boat", "misc", Evidence{Note: "E-mail used to sign in"}, catalog.Personal, Likely},
		{"Boat", "misc", Evidence{Note: "The skipper's (mobile) phone"}, catalog.Personal, Likely},
		{"Boat", "misc", Evidence{Note: "name and email"}, catalog.Personal, Likely},
		{"Boat", "misc", Evidence{Note: "an access token, for calls"}, catalog.Secret, Likely},
		{"Boat", "misc", Evidence{Note: "The password of the account"}, catalog.Secret, Likely},
		{"Boat", "misc", Evidence{Note: "Pass one or more topics"}, catalog.Unclassed, Guess},
		{"Boat", "misc", Evidence{Note: "access token permissions"}, catalog.Unclassed, Guess},
		{"Boat", "misc", Evidence{Note: "Address all of them, or pass none"}, catalog.Unclassed, Guess},
		{"Boat", "misc", Evidence{Note: "where to mail, or how to pass"}, catalog.Unclassed, Guess},
		{"Skipper", "name", Evidence{}, catalog.Personal, Likely},
		{"Boat", "name", Evidence{}, catalog.Public, Guess},
		{"Boat", "owner_id", Evidence{}, catalog.Internal, Likely},
		{"Skipper", "bornOn", Evidence{}, catalog.Personal, Sure},
		{"Skipper", "tier", Evidence{}, catalog.Unclassed, Guess},
		{"Boat", "ready", Evidence{Form: catalog.Form{Type: catalog.Boolean}}, catalog.Internal, Guess},
		{"Boat", "xyzzy", Evidence{Form: catalog.Form{Type: catalog.String}}, catalog.Unclassed, Guess},
		{"User", "has_phone", Evidence{Form: catalog.Form{Type: catalog.Boolean}}, catalog.Unclassed, Guess},
	} {
		s := Suggest(c.entity, c.field, c.evidence)
		if s.Class != c.class || s.Sure != c.sure || s.Reason == "" {
			t.Errorf("%s.%s %+v: %v, %s, %q; want %v, %s", c.entity, c.field, c.evidence, s.Class, s.Sure, s.Reason,
				c.class, c.sure)
		}
	}
}

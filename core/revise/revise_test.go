package revise

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/compare"
	"inkret/core/contract"
)

func demo(t *testing.T) ([]contract.File, *contract.Contracts) {
	t.Helper()
	var files []contract.File
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		data, err := os.ReadFile("../../demo/contracts/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, contract.File{Name: name, Data: data})
	}
	return files, read(t, files)
}

func read(t *testing.T, files []contract.File) *contract.Contracts {
	t.Helper()
	c, err := contract.Read(files...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func apply(t *testing.T, files []contract.File, edits Edits, err error) ([]contract.File, *contract.Contracts) {
	t.Helper()
	if err == nil {
		files, err = Apply(files, edits)
	}
	if err != nil {
		t.Fatal(err)
	}
	return files, read(t, files)
}

func comments(files []contract.File) int {
	n := 0
	for _, f := range files {
		n += strings.Count(string(f.Data), "#")
	}
	return n
}

func TestClassing(t *testing.T) {
	files, c := demo(t)
	edits, err := Classes(c, []ClassOf{{"Skipper", "loyalty_tier", catalog.Personal},
		{"Boat", "name", catalog.Internal}, {"Berth", "label", catalog.Public},
		{"Boat", "hull_number", catalog.Unclassed}})
	after, now := apply(t, files, edits, err)
	if now.Catalog.Entity("Skipper").Field("loyalty_tier").Class != catalog.Personal ||
		now.Catalog.Entity("Boat").Field("name").Class != catalog.Internal ||
		now.Catalog.Entity("Boat").Field("hull_number").Class != catalog.Unclassed {
		t.Error("a class is not set")
	}
	if len(strings.Split(compare.Unified("", "", string(files[0].Data), string(after[0].Data)), "\n-")) != 4 ||
		comments(after) != comments(files) {
		t.Error("more than the three lines changed")
	}
	if _, err := Classes(c, []ClassOf{{"Skipper", "nothing", catalog.Public}}); err == nil {
		t.Error("a field that is not there is classed")
	}
}

func TestTakingOverAReading(t *testing.T) {
	files, c := demo(t)
	read := &catalog.Catalog{}
	berth := &catalog.Entity{Name: "Mooring", StoredAs: "berths"}
	for _, f := range c.Catalog.Entity("Berth").Fields {
		g := *f
		g.Class, g.Note = catalog.Unclassed, ""
		switch f.Name {
		case "label":
			g.Max = 9
		case "repair_note":
			continue
		}
		berth.AddField(&g)
	}
	berth.AddField(&catalog.Field{Name: "shore power", Form: catalog.Form{Type: catalog.Boolean},
		Note: "since the\nnew pier"})
	berth.AddRelation(&catalog.Relation{Name: "stays", Entity: "Booking", Many: true})
	berth.AddRelation(&catalog.Relation{Name: "keeper", Entity: "Keeper"})
	read.Add(berth)
	keeper := &catalog.Entity{Name: "Keeper", StoredAs: "keepers"}
	keeper.AddField(&catalog.Field{Name: "id", Form: catalog.Form{Type: catalog.Integer}})
	read.Add(keeper)
	read.Add(&catalog.Entity{Name: "Booking", StoredAs: "bookings"})

	diffs := catalog.Compare(c.Catalog, read, false)
	var told []string
	for _, d := range diffs {
		if d.Entity == "Berth" || d.Kind == catalog.NewEntity {
			told = append(told, string(d.Kind)+" "+d.Entity+"."+d.Name+" "+d.Was+"|"+d.Is)
		}
	}
	want := []string{"changed-field Berth.label at most 8|at most 9", "new-field Berth.shore power |boolean",
		"gone-field Berth.repair_note string, nullable|",
		"new-relation Berth.keeper |to one Keeper", "new-entity Keeper. |1 fields, 0 relations"}
	if !slices.Equal(told, want) {
		t.Errorf("differences are %q", told)
	}
	diffs = slices.DeleteFunc(diffs, func(d catalog.Difference) bool {
		return d.Entity != "Berth" && d.Kind != catalog.NewEntity || d.Kind == catalog.GoneField
	})
	after, now := apply(t, files, Reading(c, "catalogue.yaml", diffs), nil)
	f := now.Catalog.Entity("Berth").Field("shore power")
	if f == nil || f.Class != catalog.Unclassed || f.Note != "since the new pier" ||
		now.Catalog.Entity("Berth").Field("label").Max != 9 ||
		now.Catalog.Entity("Keeper") == nil || now.Catalog.Entity("Berth").Relation("keeper") == nil {
		t.Errorf("the reading was not taken over:\n%s", after[0].Data)
	}
	if comments(after) != comments(files) {
		t.Error("a comment is lost")
	}
	if again := catalog.Compare(now.Catalog, read, true); len(again) != 0 {
		t.Errorf("reading again finds %v", again)
	}
}

func TestAReadingIntoAnEmptyFile(t *testing.T) {
	files := []contract.File{{Name: "a.yaml", Data: []byte("inkret: 1\nservice: quay # ours\nentities:\n  Empty:\n")}}
	c := read(t, files)
	full := &catalog.Catalog{}
	e := &catalog.Entity{Name: "Empty"}
	e.AddField(&catalog.Field{Name: "yes", Form: catalog.Form{Type: catalog.String, Values: []string{`"no"`, `"1"`}}})
	e.AddField(&catalog.Field{Name: "größe", Form: catalog.Form{Type: catalog.Number}})
	full.Add(e)
	_, now := apply(t, files, Reading(c, "a.yaml", catalog.Compare(c.Catalog, full, false)), nil)
	if f := now.Catalog.Entity("Empty").Field("yes"); f == nil || len(f.Values) != 2 ||
		now.Catalog.Entity("Empty").Field("größe") == nil {
		t.Error("fields of an empty entity are not taken over")
	}
	only := []contract.File{{Name: "b.yaml", Data: []byte("inkret: 1\nservice: quay\n")}}
	if _, now := apply(t, only, Reading(read(t, only), "b.yaml", catalog.Compare(&catalog.Catalog{}, full, false)),
		nil); now.Catalog.Entity("Empty") == nil {
		t.Error("a file without entities gets none")
	}
}

// TestShapesComeAndGoWithoutAChange checks that extracting a shape and inlining it again changes the text, and no
// grant.
func TestShapesComeAndGoWithoutAChange(t *testing.T) {
	files, before := demo(t)
	edits, err := Inline(before, "berth-card")
	files, c := apply(t, files, edits, err)
	proposals := Proposals(c)
	if len(proposals) != 1 || proposals[0].Entity != "Berth" || len(proposals[0].Places) != 6 ||
		len(proposals[0].Grants) != 4 {
		t.Fatalf("proposed is %v", proposals)
	}
	for _, p := range proposals {
		if len(p.Places) < 2 || len(p.Grants) < 3 {
			t.Errorf("%s is proposed for %d places and %d grants", p.Name, len(p.Places), len(p.Grants))
		}
		edits, err := PullOut(c, "pulled", p)
		after, now := apply(t, files, edits, err)
		if d := compare.Contracts(c, now); len(d.Words) > 0 {
			t.Errorf("pulling %s out %v", p.Name, d.Words)
		}
		if got := len(Uses(now)["pulled"]); got != len(p.Places) {
			t.Errorf("%s is used at %d places, want %d", p.Name, got, len(p.Places))
		}
		edits, err = Inline(now, "pulled")
		_, back := apply(t, after, edits, err)
		if d := compare.Contracts(c, back); len(d.Words) > 0 || len(Uses(back)["pulled"]) > 0 {
			t.Errorf("writing %s out again %v", p.Name, d.Words)
		}
		if comments(after) != comments(files) {
			t.Error("a comment is lost")
		}
	}
	for _, s := range before.Shapes {
		edits, err := Inline(before, s.Name)
		all, _ := demo(t)
		_, now := apply(t, all, edits, err)
		if d := compare.Contracts(before, now); len(d.Words) > 0 {
			t.Errorf("writing %s out %v", s.Name, d.Words)
		}
		if _, err := PullOut(before, s.Name, proposals[0]); err == nil {
			t.Error("a shape takes a name that is taken")
		}
	}
	if _, err := Inline(c, "nothing"); err == nil {
		t.Error("a shape that is not there is written out")
	}
}

func TestShapesThatCannotBeWrittenOut(t *testing.T) {
	c := read(t, []contract.File{{Name: "a.yaml", Data: []byte(`inkret: 1
service: quay
audiences: [{name: visitor}]
entities: {Node: {fields: {id: {type: integer, class: public}}, relations: {next: {entity: Node}}}}
shapes:
  loop: {entity: Node, grants: {id: , next: {shape: loop, optional: true}}}
  choice: {entity: Node, grants: {id: }}
  outer: {entity: Node, grants: {next: {one_of: [{when: {id: 1}, shape: choice}]}}}
endpoints: [{endpoint: GET /a, responses: [{shape: loop}]}, {endpoint: GET /b, responses: [{shape: outer}]}]
`)}})
	for name, want := range map[string]string{"loop": "contains itself",
		"choice": "a one_of at outer needs the shape"} {
		if _, err := Inline(c, name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := Touched(c, "choice"); !slices.Equal(got, []string{"GET /b"}) {
		t.Errorf("choice touches %v", got)
	}
}

const grantingContract = `inkret: 1
service: s
audiences: [{name: visitor}, {name: office}]
entities:
  Boat: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, draught: {type: number, class: public}}, relations: {owner: {entity: Skipper}}}
  Skipper: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, phone: {type: string, class: personal}}}
shapes:
  card: {entity: Boat, grants: {id: , name: }}
endpoints:
  - endpoint: GET /boats
    responses: [{many: true, shape: card}]
  - endpoint: GET /boats/{id}
    responses:
      - statuses: [404]
        entity: Boat
        grants: {id: }
      - audiences: [office]
        entity: Boat
        grants:
          id: # the number
          owner:
            grants: {id: }
  - endpoint: GET /text
    responses: [{grants: {at: {type: string}}}]
`

func TestGrant(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "s.yaml", Data: []byte(grantingContract)})
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct {
		name string
		g    Granting
		want string // in the text, or in the error
		ok   bool
	}{
		{"beside a shape, for one of all audiences", Granting{Endpoint: "GET /boats", Audience: "visitor",
			Entity: "Boat", Field: "draught"}, "shape: card, grants: {draught: {audiences: [visitor]}}", true},
		{"to the only audience", Granting{Endpoint: "GET /boats/{id}", Audience: "office", Entity: "Boat",
			Field: "name", Reason: "shown", NeededBy: "desk"}, "          name: {needed_by: [desk], reason: shown}",
			true},
		{"renamed, in a relation", Granting{Endpoint: "GET /boats/{id}", Audience: "office", Entity: "Skipper",
			Field: "phone", Member: "call", Max: 20, Optional: true}, "call: {field: phone, max: 20, optional: true}",
			true},
		{"granted already", Granting{Endpoint: "GET /boats/{id}", Audience: "office", Entity: "Boat", Field: "id"},
			`grants a member "id" there already`, false},
		{"to whom nothing is sent", Granting{Endpoint: "GET /boats/{id}", Audience: "visitor", Entity: "Boat",
			Field: "name"}, "no response of GET /boats/{id} to visitor holds Boat", false},
		{"of another entity", Granting{Endpoint: "GET /text", Audience: "visitor", Entity: "Boat", Field: "name"},
			"no response of GET /text", false},
		{"at no endpoint", Granting{Endpoint: "GET /none", Entity: "Boat", Field: "name"},
			"no contract has the endpoint", false},
	} {
		t.Run(one.name, func(t *testing.T) {
			edits, err := Grant(c, &one.g)
			if err != nil || !one.ok {
				if one.ok || err == nil || !strings.Contains(err.Error(), one.want) {
					t.Errorf("%v, want %s", err, one.want)
				}
				return
			}
			files, err := Apply([]contract.File{{Name: "s.yaml", Data: []byte(grantingContract)}}, edits)
			if err != nil {
				t.Fatal(err)
			}
			text := string(files[0].Data)
			if !strings.Contains(text, one.want) || !strings.Contains(text, "# the number") {
				t.Errorf("the text is\n%s\nwithout %s", text, one.want)
			}
			if _, err := contract.Read(files...); err != nil {
				t.Errorf("it is no contract any more: %v", err)
			}
		})
	}
}

// TestShapesKeepWhatCommentsSay extracts and inlines grants with comments above, behind and inside them, in block
// and flow style, with both kinds of line ends.
func TestShapesKeepWhatCommentsSay(t *testing.T) {
	const text = `inkret: 1
service: quay
entities:
  Boat: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, hull: {type: string, class: internal}, rig: {type: string, class: public}}}
endpoints:
  - endpoint: GET /boats
    responses:
      - entity: Boat
        many: true
        grants:
          # KEEP above the id
          id:
          name: # KEEP behind the name
          hull: {optional: true}  # KEEP behind the hull
  - endpoint: GET /boats/{id}
    responses:
      - entity: Boat
        grants:
          id:  # KEEP of the other id
          name:
          hull:
            # KEEP inside the hull
            optional: true
          rig:
  - endpoint: GET /fleet
    responses:
      - entity: Boat
        grants: { id: , name: ,
          # KEEP above in braces
          hull: {optional: true}, # KEEP behind in braces
          rig: }
`
	for name, text := range map[string]string{"LF": text, "CR LF": strings.ReplaceAll(text, "\n", "\r\n")} {
		files := []contract.File{{Name: "quay.yaml", Data: []byte(text)}}
		before, err := contract.Read(files...)
		if err != nil {
			t.Fatal(err)
		}
		p := Proposal{Entity: "Boat", Grants: []string{"id", "name", "hull"}}
		for i := range 3 {
			p.Places = append(p.Places, Place{File: "quay.yaml", Pointer: fmt.Sprintf("/endpoints/%d/responses/0", i)})
		}
		edits, err := PullOut(before, "card", p)
		pulled, now := apply(t, files, edits, err)
		for _, want := range []string{"KEEP above the id", "KEEP behind the name", "KEEP behind the hull",
			"KEEP of the other id", "KEEP inside the hull", "KEEP above in braces", "KEEP behind in braces"} {
			if strings.Count(string(pulled[0].Data), want) == 0 {
				t.Errorf("%s: %q is lost by pulling out:\n%s", name, want, pulled[0].Data)
			}
		}
		edits, err = Inline(now, "card")
		written, _ := apply(t, pulled, edits, err)
		for _, want := range []string{"KEEP above the id", "KEEP behind the name", "KEEP behind the hull"} {
			if strings.Count(string(written[0].Data), want) != 3 {
				t.Errorf("%s: %q is lost by writing out:\n%s", name, want, written[0].Data)
			}
		}
	}
}

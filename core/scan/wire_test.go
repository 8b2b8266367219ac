package scan

import (
	"fmt"
	"strings"
	"testing"
)

// draw writes a picture as lines: depth, name, mark, value, weight and spot.
func draw(n *WireNode, depth int, b *strings.Builder) {
	name := n.Name
	if n.Index >= 0 {
		name = fmt.Sprint(n.Index)
	}
	spot := ""
	if n.Spot != nil {
		spot = " " + n.Spot.Kind.String()
	}
	marks := [...]string{"swept", "granted", "open", "foreign", "ungranted"}
	mark := marks[n.Mark]
	if n.Missing {
		mark = "missing"
	}
	fmt.Fprintf(b, "%s%s %s %s %s %d%s\n", strings.Repeat(" ", depth), name, n.Kind, mark, n.Value, n.Bytes, spot)
	for _, c := range n.Children {
		draw(c, depth+1, b)
	}
}

func picture(t *testing.T, path, audience, body string) (*WireNode, *Wire) {
	t.Helper()
	contracts := mustRead(t, harbour)
	wire := NewWire(contracts)
	out := NewJudge(contracts).Watch(call(path, audience, body), wire)
	if out.Skipped != "" {
		t.Fatal(out.Skipped)
	}
	return wire.Root(out.Spots), wire
}

func TestPictureOfABody(t *testing.T) {
	root, _ := picture(t, "/bookings/7", "skipper",
		`{"data":{"id":7,"note":"late","colour":"red","owner":{"id":1,"name":"Ada Quill"},"berth":{"label":"A1","length":9.5},"skipper":{"email":"ada@quay.example","rank":1}},"meta":{"x":"y"}}`)
	var b strings.Builder
	draw(root, 0, &b)
	want := ` object granted  183
 data object granted  164
  id number granted 7 6
  note string foreign ••• 13 wrong-audience
  colour string ungranted ••• 14 unexpected-field
  owner object granted  35
   id number granted 1 6
   name string granted A••• 18
  berth object granted  35
   label string granted A1 12
   length number granted 9.5 12
  skipper object ungranted  47 unexpected-relation
   email string swept a•••@••• 26 sensitive-field
   rank number swept ••• 8
  ref absent missing  0 missing-field
 meta object granted  16
  x string swept ••• 7
`
	if b.String() != want {
		t.Errorf("drawn:\n%s\nwant:\n%s", b.String(), want)
	}
}

func TestPictureOfABareEntityIsOfTheSecondReading(t *testing.T) {
	root, _ := picture(t, "/bookings/7", "skipper", `{"id":7,"ref":"x"}`)
	if len(root.Children) < 2 || root.Children[0].Mark != Granted || root.Children[1].Mark != Granted {
		var b strings.Builder
		draw(root, 0, &b)
		t.Errorf("drawn:\n%s", b.String())
	}
}

func TestPicturesAreBounded(t *testing.T) {
	item := `{"id":1,"ref":"a"}`
	root, wire := picture(t, "/bookings", "visitor", `{"items":[`+strings.Repeat(item+",", 500)+item+`]}`)
	items := root.Children[0]
	if len(items.Children) != maxWireElements || items.More != 501-maxWireElements || wire.Cut == 0 {
		t.Errorf("%d elements drawn, %d more, %d values cut", len(items.Children), items.More, wire.Cut)
	}
	var b strings.Builder
	draw(items.Children[maxWireElements-1], 0, &b)
	if want := "99 object granted  18\n id number granted 1 6\n ref string granted a 9\n"; b.String() != want {
		t.Errorf("the last element drawn is\n%s", b.String())
	}
}

// TestPicturesShowNoSecret puts a secret at every kind of place and looks for it
// in the picture.
func TestPicturesShowNoSecret(t *testing.T) {
	secret := bcrypt
	for _, body := range []string{
		`{"data":{"id":7,"ref":"` + secret + `"}}`, `{"data":{"id":7,"ref":"x","owner":{"id":1,"name":"` + secret +
			`"}}}`,
		`{"data":{"id":7,"ref":"x","x":"` + secret + `"}}`, `{"data":{"id":7,"ref":"x"},"meta":{"y":["` + secret +
			`"]}}`,
		`{"data":{"id":7,"ref":"x"},"meta":{"` + secret + `":1}}`, `{"data":{"id":"` + secret + `","ref":"x"}}`,
		`{"data":{"id":4111111111111111,"ref":"x"}}`,
	} {
		root, _ := picture(t, "/bookings/7", "skipper", body)
		var b strings.Builder
		draw(root, 0, &b)
		if strings.Contains(b.String(), secret[7:20]) || strings.Contains(b.String(), "4111") {
			t.Errorf("the picture of %s shows it:\n%s", body, b.String())
		}
	}
}

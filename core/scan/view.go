package scan

import "inkret/core/contract"

// Mark is how a member of a body stands to the contract, for showing it.
type Mark uint8

const (
	Swept     Mark = iota // in a part that no grant names
	Granted               // granted to this audience
	Open                  // inside what is granted as open
	Foreign               // granted to other audiences only
	Ungranted             // granted to nobody
)

// Observer is told of every value of a body while it is judged, so that a
// picture of the body and the judgement are of one pass. Names and bytes are
// valid during the call only.
type Observer interface {
	// Begin starts a body, perhaps for a second time: what came of it before is
	// void. within is the pointer of what it stands in, with " >> " behind it, and
	// empty for the capture's body; granted is whether a contract judges it.
	Begin(within string, data []byte, granted bool)
	// Member begins a member whose name starts at byte start. masked stands for
	// the name where it is sensitive; m is the grant that covers it, or nil.
	Member(name []byte, masked string, start int, mark Mark, m *contract.Member)
	// Element begins an element.
	Element(index, start int)
	// Absent tells of a member of the object being read that is granted and not there.
	Absent(m *contract.Member)
	// End ends the member or element begun last, behind its last byte.
	End(end int)
}

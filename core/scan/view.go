package scan

import "inkret/core/contract"

// Mark is how a member relates to the contract, for display.
type Mark uint8

const (
	Swept     Mark = iota // in a part that no grant names
	Granted               // granted to this audience
	Open                  // inside what is granted as open
	Foreign               // granted to other audiences only
	Ungranted             // granted to nobody
	Theirs                // granted of the caller's own records only, and somebody else's
)

// Observer receives every value of a body during evaluation, so that the wire view and the findings come from the
// same pass. Names and bytes are valid only during the call.
type Observer interface {
	// Begin starts a body, possibly a second time, which discards the first. within is the pointer of the text that
	// contains it, followed by " >> ", or empty for the capture's body; granted reports whether a contract applies.
	Begin(within string, data []byte, granted bool)
	// Member starts a member whose name begins at byte start. masked replaces a sensitive name; m is its grant, or
	// nil.
	Member(name []byte, masked string, start int, mark Mark, m *contract.Member)
	// Of says, before a member is reported, of which type its object is and which field it stands for, where a query
	// tells that.
	Of(typeName, field string)
	// Element starts an element.
	Element(index, start int)
	// Absent reports a granted member that is missing in the current object.
	Absent(m *contract.Member)
	// End ends the current member or element; end is the byte after it.
	End(end int)
}

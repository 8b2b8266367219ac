package finding

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/severity"
)

// State is the state of a finding.
type State string

const (
	New           State = "new"
	Confirmed     State = "confirmed"
	InRepair      State = "in-repair"
	AwaitingProof State = "awaiting-proof"
	Closed        State = "closed" // by proof only
	Waived        State = "waived"
	NotALeak      State = "not-a-leak"
	Returned      State = "returned"
)

// States lists all states in their usual order.
func States() []State {
	return []State{New, Returned, Confirmed, InRepair, AwaitingProof, Waived, NotALeak, Closed}
}

// Open reports whether a finding in this state still needs work.
func (s State) Open() bool { return s != Closed && s != Waived && s != NotALeak }

// moves lists the changes of state that a person may make. Closed is reached only by proof, and returned only by
// being seen again.
var moves = map[State][]State{
	New:           {Confirmed, InRepair, AwaitingProof, Waived, NotALeak},
	Returned:      {Confirmed, InRepair, AwaitingProof, Waived, NotALeak},
	Confirmed:     {InRepair, AwaitingProof, Waived, NotALeak},
	InRepair:      {AwaitingProof, Confirmed, Waived, NotALeak},
	AwaitingProof: {InRepair, Confirmed, Waived, NotALeak},
	Waived:        {Confirmed, InRepair},
	NotALeak:      {Confirmed},
}

// Moves lists the states that a person may move a finding to from s.
func (s State) Moves() []State { return append([]State(nil), moves[s]...) }

// ByTwo is the severity from which a finding can be waived or judged no leak only by two people: one asks, and a
// lead who is somebody else approves.
const ByTwo = severity.High

// Decides reports whether a move to s takes a finding off the list by decision instead of proof.
func (s State) Decides() bool { return s == Waived || s == NotALeak }

// Move is a requested change of a finding's state.
type Move struct {
	To      State
	Comment string
	Until   string // of a waiver: its last day, UTC, as YYYY-MM-DD
}

// Check returns why a finding in state from may not be moved on a day, and what to do instead; nil if it may.
func (m Move) Check(from State, today string) error {
	if m.To == Closed {
		return fmt.Errorf("a finding is closed by proof only: move it to %s and capture the endpoint again",
			AwaitingProof)
	}
	allowed := false
	var names []string
	for _, s := range moves[from] {
		allowed = allowed || s == m.To
		names = append(names, string(s))
	}
	switch {
	case !allowed && len(names) == 0:
		return fmt.Errorf("a finding that is %s is moved by what is captured, not by hand", from)
	case !allowed:
		return fmt.Errorf("a finding that is %s cannot become %q; it can become %s", from, m.To,
			strings.Join(names, ", "))
	case (m.To == Waived || m.To == NotALeak) && strings.TrimSpace(m.Comment) == "":
		return fmt.Errorf("%s needs a reason: say it as the comment", m.To)
	case m.To == Waived && m.Until == "":
		return fmt.Errorf("a waiver needs its last day, such as 2027-03-31")
	case m.To == Waived && m.Until < today:
		return fmt.Errorf("the waiver's last day, %s, has passed", m.Until)
	case m.To != Waived && m.Until != "":
		return fmt.Errorf("only a waiver has a last day")
	}
	return nil
}

// Life replays a finding's history.
type Life struct{ State State }

// Happen applies the next event of the history: its kind and, if it changes the state, the old and new state. It
// returns an error if the event cannot follow the earlier ones.
func (l *Life) Happen(kind, was, became string) error {
	switch {
	case kind == "found" && l.State != "":
		return fmt.Errorf("it is found once more, being %s", l.State)
	case kind == "found":
		l.State = New
	case kind == "move" || kind == "withdrawn" && was != "":
		if State(was) != l.State {
			return fmt.Errorf("it turns from %s to %s, being %s", was, became, l.State)
		}
		if !slices.Contains(States(), State(became)) {
			return fmt.Errorf("it turns to %q, which is no state", became)
		}
		l.State = State(became)
	}
	return nil
}

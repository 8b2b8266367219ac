package finding

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/severity"
)

// State is where a finding is in its life.
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

// States lists all states in the order of a finding's life.
func States() []State {
	return []State{New, Returned, Confirmed, InRepair, AwaitingProof, Waived, NotALeak, Closed}
}

// Open reports whether a finding in this state still wants work.
func (s State) Open() bool { return s != Closed && s != Waived && s != NotALeak }

// moves are the steps a person may take. Closed is reached by proof only, and
// returned by being seen again.
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

// ByTwo is the least severity of a finding that nobody takes off the list alone without proof: who wants it waived, or
// no leak, asks for that, and a lead who is somebody else approves it.
const ByTwo = severity.High

// Decides reports whether a move to s takes a finding off the list by a decision, not by proof.
func (s State) Decides() bool { return s == Waived || s == NotALeak }

// Move is a step in a finding's life that a person asks for.
type Move struct {
	To      State
	Comment string
	Until   string // of a waiver: its last day, UTC, as YYYY-MM-DD
}

// Check tells whether the step may be taken from a state on a day, and if not,
// why, and what can be done instead.
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

// Life is a finding's life as its history tells it.
type Life struct{ State State }

// Happen takes the next entry of the history: what it is of, and where it is about the state, what that was and
// became. It gives an error for an entry that cannot follow on those before.
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

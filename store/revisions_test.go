package store

import (
	"errors"
	"testing"
	"time"
)

func (s *Store) add(t *testing.T, base int, state RevisionState, effect *Effect) (Revision, error) {
	t.Helper()
	return s.Contracts.AddRevision(t.Context(), Revision{Service: "quay", Author: "Noor", Created: time.Now(),
		Base:  base,
		State: state, Files: []ContractFile{{Name: "a", Text: "x"}},
		Words: []Words{{"widening", "lets"}}}, effect, nil)
}

func TestRevisionsComeIntoForceOneAfterTheOther(t *testing.T) {
	s := open(t, t.TempDir())
	first, err := s.add(t, 0, InForce, &Effect{Endpoints: []EndpointInContract{{"GET /a", "desk"}},
		Classed: []Classing{{Entity: "Boat", Field: "id", Class: "internal"}}})
	if err != nil || first.Number != 1 {
		t.Fatalf("the first is %+v, %v", first, err)
	}
	waiting, err := s.add(t, 1, Waiting, nil)
	if err != nil || waiting.Number != 2 {
		t.Fatalf("the waiting one is %+v, %v", waiting, err)
	}
	if r, err := s.Contracts.Revision(t.Context(), "quay"); err != nil || r.Number != 1 || r.State != InForce ||
		len(r.Files) != 1 {
		t.Errorf("in force is %+v, %v", r, err)
	}
	if _, err := s.add(t, 2, InForce, &Effect{}); !errors.Is(err, ErrOutdated) {
		t.Errorf("made from one that is not in force: %v", err)
	}
	if all, total, err := s.Contracts.Revisions(t.Context(), "quay", Waiting, Page{1, 10}); err != nil || total != 1 ||
		all[0].Words[0].Text != "lets" || all[0].Files != nil {
		t.Errorf("waiting are %+v, %v", all, err)
	}
	waiting.State, waiting.DecidedBy, waiting.Decided = InForce, "Teodor", time.Now()
	if err := s.Contracts.Decide(t.Context(), waiting,
		&Effect{Unclassed: []Classing{{Entity: "Boat", Field: "id"}}},
		TrailEntry{}); err != nil {
		t.Fatal(err)
	}
	if err := s.Contracts.Decide(t.Context(), waiting, &Effect{}, TrailEntry{}); !errors.Is(err, ErrOutdated) {
		t.Errorf("decided twice: %v", err)
	}
	if all, err := s.Contracts.Classings(t.Context(), "quay"); err != nil || len(all) != 0 {
		t.Errorf("classings are %v, %v", all, err)
	}
	if r, err := s.Contracts.RevisionNumber(t.Context(), "quay", 1); err != nil || r.State != Earlier {
		t.Errorf("the first is %s by now, %v", r.State, err)
	}
	if _, err := s.Contracts.RevisionNumber(t.Context(), "quay", 7); !errors.Is(err, ErrNotFound) {
		t.Errorf("one that is not there: %v", err)
	}
	if s.count(t, "endpoints") != 0 {
		t.Error("an endpoint that no contract has and nobody saw is kept")
	}
}

// TestAFailureWhileTakingEffectLeavesTheOldInForce: all of it is one transaction.
func TestAFailureWhileTakingEffectLeavesTheOldInForce(t *testing.T) {
	s := open(t, t.TempDir())
	if _, err := s.add(t, 0, InForce, &Effect{}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.write.Exec(`CREATE TRIGGER fail BEFORE INSERT ON classings BEGIN SELECT RAISE(ABORT, 'disk full'); END`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.add(t, 1, InForce,
		&Effect{Classed: []Classing{{Entity: "Boat", Field: "id", Class: "internal"}}}); err == nil {
		t.Fatal("it takes effect with a disk that is full")
	}
	if r, err := s.Contracts.Revision(t.Context(), "quay"); err != nil || r.Number != 1 ||
		s.count(t, "revisions") != 1 {
		t.Errorf("in force is %d, %v; %d revisions", r.Number, err, s.count(t, "revisions"))
	}
}

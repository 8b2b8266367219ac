package review

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"inkret/core/advice"
	"inkret/core/catalog"
	"inkret/core/compare"
	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/finding"
	"inkret/core/revise"
	"inkret/service/base"
	"inkret/store"
)

// Audiences lists a service's audiences, from least to most trusted.
func (s *Review) Audiences(ctx context.Context, service string) []string {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil
	}
	names := make([]string, len(f.Contracts.Audiences))
	for i, a := range f.Contracts.Audiences {
		names[i] = a.Name
	}
	return names
}

// Proposed is a set of contract files to be put in force.
type Proposed struct {
	Files  []store.ContractFile // all of the service
	Reason string               // for whoever reads the revisions
	Base   int                  // the revision they were made from; 0 is whatever is in force
}

// weighed is a set of proposed contracts, compared with those in force.
type weighed struct {
	files      []store.ContractFile
	contracts  *contract.Contracts
	old        *contract.Contracts // nil for the first
	basedOn    int
	same       bool // the very files in force
	difference *compare.Difference
	kept       []compare.Kept
	two        bool // severe decisions of the service need a second person
}

// needsApproval reports whether a second person must approve, because more personal or secret data would be
// exposed. The first contracts of a service need no approval.
func (w *weighed) needsApproval() bool { return w.old != nil && w.two && w.difference.Sensitive() }

// weigh parses files and compares them with those in force. Invalid files give a [Problem] whose Cause is
// [contract.Problems].
func (s *Review) weigh(ctx context.Context, service string, files []store.ContractFile, basedOn int) (*weighed, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b store.ContractFile) int { return strings.Compare(a.Name, b.Name) })
	for i, f := range files {
		if i > 0 && files[i-1].Name == f.Name {
			return nil, base.NewProblem(base.Invalid, "", "two files are called %q", f.Name)
		}
	}
	read, err := contract.Read(base.ContractFiles(files)...)
	if err != nil {
		p := base.NewProblem(base.Invalid, "", "the contract files have problems")
		p.Cause = err
		return nil, p
	}
	if read.Service != service {
		return nil, base.NewProblem(base.Invalid, "", "the contract is of the service %q, not of %q", read.Service,
			service)
	}
	w := &weighed{files: files, contracts: read}
	old, err := s.base.Contracts(ctx, service)
	var unknown *base.Problem
	switch {
	case errors.As(err, &unknown) && unknown.Code == base.NotFound:
	case err != nil:
		return nil, err
	default:
		w.old, w.basedOn = old.Contracts, old.Revision.Number
		w.same = slices.Equal(old.Revision.Files, files)
	}
	if basedOn != 0 && basedOn != w.basedOn {
		return nil, outdated(basedOn, w.basedOn)
	}
	if w.two, err = s.store.SecondPerson(ctx, service); err != nil {
		return nil, err
	}
	if w.kept, err = s.kept(ctx, service, w.old); err != nil {
		return nil, err
	}
	w.difference = compare.Since(w.old, read, w.kept)
	return w, nil
}

// mostRevisionsRead limits how many earlier revisions are read to find the classes of deleted fields, if none are
// stored yet.
const mostRevisionsRead = 50

// kept lists the classes of fields that no longer exist.
func (s *Review) kept(ctx context.Context, service string, old *contract.Contracts) ([]compare.Kept, error) {
	if old == nil {
		return nil, nil
	}
	stored, err := s.store.Kept(ctx, service)
	if err != nil {
		return nil, err
	}
	var all []compare.Kept
	for _, k := range stored {
		class, _ := catalog.ParseClass(k.Class)
		all = append(all, compare.Kept{Entity: k.Entity, StoredAs: k.StoredAs, Field: k.Field,
			Type: catalog.Type(k.Type), Class: class.Judged()})
	}
	if len(all) > 0 {
		return all, nil
	}
	earlier, _, err := s.store.Revisions(ctx, service, "", store.Page{Number: 1, Size: mostRevisionsRead})
	if err != nil {
		return nil, err
	}
	for _, r := range earlier { // newest first
		if r.State != store.InForce && r.State != store.Earlier {
			continue
		}
		whole, err := s.store.RevisionNumber(ctx, service, r.Number)
		if err != nil {
			return nil, err
		}
		// files that only an earlier version could read are ignored
		if read, err := contract.Read(base.ContractFiles(whole.Files)...); err == nil {
			all = append(all, compare.KeptOf(read.Catalog, nil)...)
		}
	}
	return compare.KeptOf(old.Catalog, all), nil
}

func outdated(basedOn, inForce int) error {
	return base.NewProblem(base.Conflict, "look at what changed, merge, and apply again",
		"revision %d is in force by now; these files were made from revision %d", inForce, basedOn)
}

// Apply puts contract files in force, or submits them for approval if they expose more personal or secret data.
// Applying the same files again changes nothing and returns changed = false. Invalid files give a [Problem] whose
// Cause is [contract.Problems].
func (s *Review) Apply(ctx context.Context, who base.Caller, service string,
	p Proposed) (r store.Revision, changed bool, err error) {
	w, err := s.weigh(ctx, service, p.Files, p.Base)
	if err != nil {
		return r, false, err
	}
	if w.same {
		r, err = s.store.Revision(ctx, service)
		return r, false, err
	}
	r = store.Revision{Service: service, Files: w.files, Author: who.Name, AuthorID: who.ID, Reason: p.Reason,
		Created: s.base.Now(), Base: w.basedOn,
		Direction: string(w.difference.Direction), Reaches: w.difference.Reaches.String(), State: store.InForce}
	for _, one := range w.difference.Words {
		r.Words = append(r.Words, store.Words{Direction: string(one.Direction), Text: one.Text})
	}
	for _, e := range w.contracts.Endpoints {
		r.Endpoints += len(e.Names())
	}
	effect, err := s.effectOf(ctx, service, w)
	if err != nil {
		return r, false, err
	}
	if w.needsApproval() {
		r.State = store.Waiting
	} else if severe, err := s.severeGone(ctx, service, w, effect); err != nil {
		return r, false, err
	} else if len(severe) > 0 { // recorded traffic shows what the comparison did not
		r.State, r.Direction, r.Reaches = store.Waiting, string(compare.Widening), max(w.difference.Reaches,
			catalog.Personal).String()
		r.Words = append([]store.Words{{Direction: string(compare.Widening),
			Text: fmt.Sprintf("takes %d open findings of high or critical severity off the list, the first %s at %s",
				len(severe), severe[0].Path, severe[0].Endpoint)}}, r.Words...)
	}
	if r, err = s.store.AddRevision(ctx, r, effect, func(r store.Revision) store.TrailEntry {
		return s.base.Did(who, "apply contracts", service, strings.TrimSpace(fmt.Sprintf("revision %d, %s: %s",
			r.Number,
			r.State, r.Reason)))
	}); err != nil {
		if errors.Is(err, store.ErrOutdated) {
			now, err := s.Export(ctx, service)
			if err != nil {
				return r, false, err
			}
			return r, false, outdated(w.basedOn, now.Number)
		}
		return r, false, err
	}
	s.base.Log.Info("contracts applied", "service", service, "revision", r.Number, "state", r.State, "direction",
		r.Direction, "endpoints", r.Endpoints, "person", who.ID)
	return r, true, s.NoteCoverage(ctx, service)
}

// severeGone lists the open findings of high or critical severity that the contracts would remove. It is empty if
// the service allows decisions by one person.
func (s *Review) severeGone(ctx context.Context, service string, w *weighed,
	e *store.Effect) ([]store.Finding, error) {
	if w.old == nil || !w.two || len(e.Granted) == 0 {
		return nil, nil
	}
	return s.store.OpenAmong(ctx, e.Before, int(finding.ByTwo))
}

// Decide approves or declines a revision that waits for approval. Nobody can approve their own.
func (s *Review) Decide(ctx context.Context, who base.Caller, service string, number int,
	d Decision) (store.Revision, error) {
	r, err := s.RevisionOf(ctx, service, number)
	if err != nil {
		return r, err
	}
	switch {
	case r.State != store.Waiting:
		return r, base.NewProblem(base.Conflict, "", "revision %d waits for nobody: it is %s", number, r.State)
	case d.Grant && r.AuthorID == who.ID:
		return r, base.NewProblem(base.Forbidden, "ask somebody else who is lead or administrator",
			"nobody approves a revision of their own")
	case !d.Grant && strings.TrimSpace(d.Comment) == "":
		return r, base.NewProblem(base.Invalid, "say it as the comment", "to decline needs a reason")
	}
	r.DecidedBy, r.Decided, r.Decision = who.Name, s.base.Now(), d.Comment
	var effect *store.Effect
	if d.Grant {
		w, err := s.weigh(ctx, service, r.Files, r.Base)
		if err != nil {
			return r, err
		}
		if effect, err = s.effectOf(ctx, service, w); err != nil {
			return r, err
		}
	}
	action := "decline revision"
	if r.State = store.Declined; d.Grant {
		r.State, action = store.InForce, "approve revision"
	}
	entry := s.base.Did(who, action, service, strings.TrimSpace(fmt.Sprintf("revision %d: %s", number, d.Comment)))
	if err := s.store.Decide(ctx, r, effect, entry); err != nil {
		if errors.Is(err, store.ErrOutdated) {
			return r, base.NewProblem(base.Conflict, "merge it with what is in force, and apply it again",
				"another revision came into force meanwhile")
		}
		return r, err
	}
	s.base.Log.Info("revision decided", "service", service, "revision", number, "approved", d.Grant, "person", who.ID)
	if r, err = s.RevisionOf(ctx, service, number); err != nil {
		return r, err
	}
	return r, s.NoteCoverage(ctx, service)
}

// Revert creates a new revision with the files of an earlier one.
func (s *Review) Revert(ctx context.Context, who base.Caller, service string, number int,
	reason string) (store.Revision, bool, error) {
	r, err := s.RevisionOf(ctx, service, number)
	if err != nil {
		return r, false, err
	}
	return s.Apply(ctx, who, service, Proposed{Files: r.Files, Reason: reason})
}

// RevisionOf returns one revision of a service's contracts.
func (s *Review) RevisionOf(ctx context.Context, service string, number int) (store.Revision, error) {
	r, err := s.store.RevisionNumber(ctx, service, number)
	return r, base.Found(err, "revision %d of %q", number, service)
}

// RevisionText returns a revision's difference from its base, in the unified format.
func (s *Review) RevisionText(ctx context.Context, r store.Revision) (string, error) {
	var old []store.ContractFile
	if r.Base > 0 {
		before, err := s.RevisionOf(ctx, r.Service, r.Base)
		if err != nil {
			return "", err
		}
		old = before.Files
	}
	return unified(old, r.Files), nil
}

// unified returns the difference of two sets of files in the unified format.
func unified(old, new []store.ContractFile) string {
	var b strings.Builder
	names := []string{}
	text := func(files []store.ContractFile, name string) string {
		for _, f := range files {
			if f.Name == name {
				return f.Text
			}
		}
		return ""
	}
	for _, f := range append(slices.Clone(old), new...) {
		if !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
		}
	}
	for _, name := range names {
		b.WriteString(compare.Unified(name+" (before)", name+" (after)", text(old, name), text(new, name)))
	}
	return b.String()
}

// Export returns the contract files in force, exactly as they were applied.
func (s *Review) Export(ctx context.Context, service string) (store.Revision, error) {
	r, err := s.store.Revision(ctx, service)
	return r, base.Found(err, "service %q", service)
}

// Contracts returns the contracts in force, parsed.
func (s *Review) Contracts(ctx context.Context, service string) (*contract.Contracts, error) {
	f, err := s.base.Contracts(ctx, service)
	return f.Contracts, err
}

// Change is a change of contract files to try out.
type Change struct {
	Files   []store.ContractFile // those in force where there are none
	Base    int                  // the revision that it is made from; 0 for whatever is in force
	Intents []revise.Intent      // what is wanted of places of them
	Edits   revise.Edits         // of the text
	PullOut string               // name of a shape to make of the grants repeated at Places
	Places  revise.Proposal      // where the shape is to be used
	Inline  string               // a shape to write out
	Effect  bool                 // work out the effect on recorded traffic too
	Advise  bool                 // give advice, too
}

// Trial is the result of trying a change. Nothing is put in force.
type Trial struct {
	Files         []store.ContractFile // as the change leaves them
	Hash          string               // the same for the same files
	Base          int                  // the revision that it is made from
	Problems      contract.Problems    // all that is wrong with the files
	Contracts     *contract.Contracts  // nil where there are problems
	Difference    *compare.Difference  // nil where there are problems
	Text          string               // the difference as text
	NeedsApproval bool                 // a second person must approve it
	Advice        []advice.Advice      // none unless it was asked for
	Effect        *TrafficEffect       // nil unless it was asked for
}

// Try applies a change to contract files and returns the result, without putting it in force.
func (s *Review) Try(ctx context.Context, who base.Caller, service string, c Change) (*Trial, error) {
	if err := s.mayTry(who, service, c.Effect); err != nil {
		return nil, err
	}
	old, err := s.store.Revision(ctx, service)
	if err != nil {
		return nil, base.Found(err, "service %q", service)
	}
	t := &Trial{Files: c.Files, Base: old.Number}
	if len(t.Files) == 0 {
		t.Files = old.Files
	}
	if c.Base != 0 {
		t.Base = c.Base
	}
	if t.Files, err = s.edited(t.Files, c); err != nil {
		return nil, err
	}
	t.Hash, t.Text = hashOf(t.Files), unified(old.Files, t.Files)
	w, err := s.weigh(ctx, service, t.Files, 0)
	if errors.As(err, &t.Problems) {
		return t, nil
	}
	if err != nil {
		return nil, err
	}
	t.Contracts, t.Difference, t.NeedsApproval = w.contracts, w.difference, w.needsApproval()
	if c.Advise {
		traffic, err := s.traffic(ctx, service)
		if err != nil {
			return nil, err
		}
		t.Advice = advice.On(w.contracts, traffic)
	}
	if c.Effect {
		// the answer depends on captured values, and the caller chose the detectors and formats
		if err := s.base.Note(ctx, who, "try contracts on captures", service, bounded(t.Text)); err != nil {
			return nil, base.Plain(err)
		}
		if t.Effect, err = s.trafficEffect(ctx, service, w); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// mayTry refuses trials on captured values to callers who may not reveal values, and limits the rate of trials.
func (s *Review) mayTry(who base.Caller, service string, effect bool) error {
	if effect && (!who.MayIn(service, base.Reviewer) || who.Key.Scope != base.ScopeEverything) {
		return base.NewProblem(base.Forbidden, "leave the effect out, or ask a reviewer",
			"the effect on recorded values is shown to reviewers of %s only", service)
	}
	most := mostTrials
	if effect {
		most = mostEffects
	}
	if wait := s.rates.wait(fmt.Sprintf("%d %v", who.ID, effect), most, s.base.Now()); wait > 0 {
		p := base.NewProblem(base.Slowed, "", "too many trials: the next one in %s", wait.Round(time.Second))
		p.Wait = wait
		return p
	}
	return nil
}

// hashOf gives the first 16 bytes of the SHA-256 of contract files, in hexadecimal.
func hashOf(files []store.ContractFile) string {
	sum := sha256.New()
	for _, f := range files {
		fmt.Fprintf(sum, "%d %s %d %s", len(f.Name), f.Name, len(f.Text), f.Text)
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// bounded shortens a text for the trail.
func bounded(text string) string {
	const most = 2000
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}

// edited applies the edits of a change.
func (s *Review) edited(files []store.ContractFile, c Change) ([]store.ContractFile, error) {
	edits := c.Edits
	if c.PullOut != "" || c.Inline != "" || len(c.Intents) > 0 {
		read, err := contract.Read(base.ContractFiles(files)...)
		if err != nil {
			return nil, base.NewProblem(base.Invalid, "", "the files have problems; mend these first")
		}
		switch {
		case len(c.Intents) > 0:
			edits, err = revise.Intents(read, c.Intents)
		case c.PullOut != "":
			edits, err = revise.PullOut(read, c.PullOut, c.Places)
		default:
			edits, err = revise.Inline(read, c.Inline)
		}
		if err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%v", err)
		}
	}
	if len(edits) == 0 {
		return files, nil
	}
	out, err := revise.Apply(base.ContractFiles(files), edits)
	if err != nil {
		return nil, base.NewProblem(base.Invalid, "change it in the text", "%v", err)
	}
	return storedFiles(out), nil
}

func storedFiles(files []contract.File) []store.ContractFile {
	out := make([]store.ContractFile, len(files))
	for i, f := range files {
		out[i] = store.ContractFile{Name: f.Name, Text: string(f.Data)}
	}
	return out
}

// Merged is the result of merging two people's changes.
type Merged struct {
	Files     []store.ContractFile          // with both changes
	Theirs    store.Revision                // what is in force
	Conflicts map[string][]compare.Conflict // by file
}

// Merge combines changes made from an earlier revision with the contracts in force. Where both changed the same
// lines, the caller's lines are kept and the place is reported as a conflict.
func (s *Review) Merge(ctx context.Context, service string, basedOn int, mine []store.ContractFile) (*Merged, error) {
	from, err := s.RevisionOf(ctx, service, basedOn)
	if err != nil {
		return nil, err
	}
	theirs, err := s.Export(ctx, service)
	if err != nil {
		return nil, err
	}
	m := &Merged{Theirs: theirs, Conflicts: map[string][]compare.Conflict{}}
	text := func(files []store.ContractFile, name string) (string, bool) {
		for _, f := range files {
			if f.Name == name {
				return f.Text, true
			}
		}
		return "", false
	}
	var names []string
	for _, f := range append(slices.Clone(mine), theirs.Files...) {
		if !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
		}
	}
	for _, name := range names {
		was, had := text(from.Files, name)
		my, mineHas := text(mine, name)
		their, theirsHas := text(theirs.Files, name)
		if had && (!mineHas && their == was || !theirsHas && my == was) {
			continue // one side took the file away, and the other left it as it was
		}
		merged, conflicts := compare.Merge(was, my, their)
		m.Files = append(m.Files, store.ContractFile{Name: name, Text: merged})
		if len(conflicts) > 0 {
			m.Conflicts[name] = conflicts
		}
	}
	return m, nil
}

// EndpointContract is an endpoint with its contract, if any.
type EndpointContract struct {
	store.Endpoint
	Contracts *contract.Contracts // what it is part of
	Contract  *contract.Endpoint  // nil without a contract
	Text      string              // its part of the contract file
}

// Endpoint returns an endpoint with its contract.
func (s *Review) Endpoint(ctx context.Context, id string) (EndpointContract, error) {
	e, err := s.store.Endpoint(ctx, id)
	if err != nil {
		return EndpointContract{}, base.Found(err, "endpoint %q", id)
	}
	out := EndpointContract{Endpoint: e}
	f, err := s.base.Contracts(ctx, e.Service)
	if err != nil {
		return out, err
	}
	out.Contracts = f.Contracts
	for _, c := range f.Contracts.Endpoints {
		if slices.Contains(c.Names(), e.Text) {
			out.Contract, out.Text = c, excerpt(f.Revision, c.Pos)
		}
	}
	return out, nil
}

// Advice returns advice on the contracts in force.
func (s *Review) Advice(ctx context.Context, service string) ([]advice.Advice, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	traffic, err := s.traffic(ctx, service)
	if err != nil {
		return nil, err
	}
	return advice.On(f.Contracts, traffic), nil
}

// ShapeView is a shape and where it is used.
type ShapeView struct {
	*contract.Shape
	Uses    []revise.Use // where it is used
	Touches []string     // endpoints
}

// Shapes lists the shapes of the contracts in force, and those that repeated grants could become.
func (s *Review) Shapes(ctx context.Context,
	service string) (*contract.Contracts, []ShapeView, []revise.Proposal, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, nil, nil, err
	}
	uses := revise.Uses(f.Contracts)
	all := make([]ShapeView, len(f.Contracts.Shapes))
	for i, shape := range f.Contracts.Shapes {
		all[i] = ShapeView{shape, uses[shape.Name], revise.Touched(f.Contracts, shape.Name)}
	}
	return f.Contracts, all, revise.Proposals(f.Contracts), nil
}

// fileText returns the lines of a file of a revision.
func fileLines(r store.Revision, name string) []string {
	for _, f := range r.Files {
		if f.Name == name {
			return strings.Split(f.Text, "\n")
		}
	}
	return nil
}

// excerpt returns the lines of the list item at a position, up to the next line that is not indented deeper than
// its dash.
func excerpt(r store.Revision, at contract.Pos) string {
	lines := fileLines(r, at.File)
	if at.Line < 1 || at.Line > len(lines) {
		return ""
	}
	dash := indentation(lines[at.Line-1])
	end := at.Line
	for end < len(lines) && (strings.TrimSpace(lines[end]) == "" || indentation(lines[end]) > dash) {
		end++
	}
	return strings.TrimRight(strings.Join(lines[at.Line-1:end], "\n"), "\n ")
}

func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// Line returns one line of a contract file in force.
func (s *Review) Line(ctx context.Context, service, file string, number int) string {
	r, err := s.store.Revision(ctx, service)
	if err != nil {
		return ""
	}
	if lines := fileLines(r, file); number >= 1 && number <= len(lines) {
		return strings.TrimSpace(lines[number-1])
	}
	return ""
}

// classed returns which fields get another class by a change, and which lose theirs.
func classed(old, new *contract.Contracts) (set, none []store.Classing) {
	class := func(c *contract.Contracts, entity, field string) catalog.Class {
		if c == nil {
			return catalog.Unclassed
		}
		if f := c.Catalog.Entity(entity).Field(field); f != nil {
			return f.Class
		}
		return catalog.Unclassed
	}
	for _, e := range new.Catalog.Entities {
		for _, f := range e.Fields {
			switch was := class(old, e.Name, f.Name); {
			case f.Class == catalog.Unclassed:
				none = append(none, store.Classing{Entity: e.Name, Field: f.Name})
			case f.Class != was:
				set = append(set, store.Classing{Entity: e.Name, Field: f.Name, Class: f.Class.String()})
			}
		}
	}
	if old != nil {
		for _, e := range old.Catalog.Entities {
			for _, f := range e.Fields {
				if new.Catalog.Entity(e.Name).Field(f.Name) == nil {
					none = append(none, store.Classing{Entity: e.Name, Field: f.Name})
				}
			}
		}
	}
	return set, none
}

// Op and Edits are edits of contract files.
type (
	Op    = document.Op
	Edits = revise.Edits
)

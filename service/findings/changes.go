package findings

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"inkret/core/catalog"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/scan"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/review"
	"inkret/store"
)

// BeginSettings sets the defaults of a new data folder.
func (s *Findings) BeginSettings(ctx context.Context) error {
	days, err := s.store.Setting(ctx, store.DueDays)
	if err != nil || days != "" {
		return err
	}
	begin := map[severity.Severity]int{severity.Critical: 3, severity.High: 14, severity.Medium: 60}
	return s.setDue(ctx, begin, store.TrailEntry{})
}

func (s *Findings) setDue(ctx context.Context, days map[severity.Severity]int, entry store.TrailEntry) error {
	all := make([]int, severity.Critical+1)
	for severity, n := range days {
		all[severity] = n
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return s.store.SetSetting(ctx, entry, store.DueDays, string(text))
}

// Due returns within how many days a new finding is due, by severity; 0 = no due date.
func (s *Findings) Due(ctx context.Context) (map[severity.Severity]int, error) {
	text, err := s.store.Setting(ctx, store.DueDays)
	if err != nil {
		return nil, err
	}
	var all []int
	if err := json.Unmarshal([]byte(text), &all); err != nil {
		return nil, fmt.Errorf("the setting %s: %w", store.DueDays, err)
	}
	days := map[severity.Severity]int{}
	for level, n := range all {
		days[severity.Severity(level)] = n
	}
	return days, nil
}

// SetDue sets within how many days new findings are due. Existing due dates stay.
func (s *Findings) SetDue(ctx context.Context, who base.Caller, days map[severity.Severity]int) error {
	var words []string
	for _, level := range severity.All() {
		words = append(words, fmt.Sprintf("%s %d", level, days[level]))
	}
	return s.setDue(ctx, days, s.base.Did(who, "due days set", "findings", strings.Join(words, ", ")))
}

// Wish is a requested change of findings. Nil or empty parts stay as they are.
type Wish struct {
	To      finding.State // the state to become
	Until   string        // the last day, as YYYY-MM-DD in UTC; empty for none
	Comment string        // what was said with it

	Person *int64   // 0 takes it from whoever has it
	Team   *string  // in place of the endpoint's; empty gives it back to that
	Due    *string  // a day; empty for none
	Add    []string // labels to put on
	Remove []string // labels to take off

	Decline bool // the waiver that waits for approval
	Try     bool // only say what would come of it
}

const (
	// mostChanged limits how many findings one change may touch.
	mostChanged = 100_000
	mostLabels  = 20
)

var labelForm = regexp.MustCompile(`^[\p{Ll}\p{N}][\p{Ll}\p{N}._-]{0,39}$`)

// fit validates a wish by itself and describes it in words.
func (s *Findings) fit(ctx context.Context, w *Wish) (words string, err error) {
	var parts []string
	if w.To != "" {
		parts = append(parts, strings.TrimSuffix("to "+string(w.To)+" until "+w.Until, " until "))
	}
	for _, day := range []*string{&w.Until, w.Due} {
		if day != nil && *day != "" {
			if _, err := time.Parse(time.DateOnly, *day); err != nil {
				return "", base.NewProblem(base.Invalid, "", "%q is no day; one is written 2027-03-31", *day)
			}
		}
	}
	if w.Person != nil {
		name := "nobody"
		if *w.Person != 0 {
			p, err := s.base.Person(ctx, *w.Person)
			if err != nil {
				return "", err
			}
			if !p.Active {
				return "", base.NewProblem(base.Invalid, "assign it to somebody else", "%s is kept out",
					base.ShownName(p))
			}
			name = base.ShownName(p)
		}
		parts = append(parts, "assigned to "+name)
	}
	if w.Team != nil {
		*w.Team = strings.TrimSpace(*w.Team)
		parts = append(parts, "team "+*w.Team)
	}
	if w.Due != nil {
		parts = append(parts, "due "+*w.Due)
	}
	for _, labels := range []struct {
		all  []string
		sign string
	}{{w.Add, "+"}, {w.Remove, "-"}} {
		for i, l := range labels.all {
			labels.all[i] = strings.ToLower(strings.TrimSpace(l))
			if !labelForm.MatchString(labels.all[i]) {
				return "", base.NewProblem(base.Invalid, "",
					"%q is no label; one has up to 40 letters, digits, dots, dashes and underscores", l)
			}
			parts = append(parts, labels.sign+labels.all[i])
		}
	}
	if w.Decline {
		parts = append(parts, "waiver declined")
	}
	if w.Comment = strings.TrimSpace(w.Comment); w.Decline && w.Comment == "" {
		return "", base.NewProblem(base.Invalid, "say it as the comment", "to decline a waiver needs a reason")
	} else if w.Comment != "" {
		parts = append(parts, "with a comment")
	}
	if len(parts) == 0 {
		return "", base.NewProblem(base.Invalid, "", "nothing is said that is to change")
	}
	return strings.Join(parts, ", "), nil
}

// become returns a finding's state after the wish, or the reason why the finding is not changed.
func (w *Wish) become(who *base.Caller, was store.Standing, today string,
	two func(service string) bool) (store.Standing, string) {
	next := was
	if !who.MayIn(was.Service, base.Reviewer) {
		return next, who.NotIn(was.Service, base.Reviewer).Detail
	}
	if w.Decline {
		switch {
		case was.AskedTo == "":
			return next, "nothing of it waits for approval"
		case was.AskedBy != who.ID && !who.MayIn(was.Service, base.Lead):
			return next, who.NotIn(was.Service, base.Lead).Detail
		}
		next.AskedTo, next.Asked, next.AskedBy = "", "", 0
	}
	if why := w.move(who, &was, &next, today, two); why != "" {
		return next, why
	}
	if w.Person != nil {
		next.PersonID = *w.Person
	}
	if w.Team != nil {
		next.AssignedTeam = *w.Team
	}
	if w.Due != nil {
		next.Due = *w.Due
	}
	labels := slices.Clone(was.Labels)
	for _, l := range w.Add {
		if !slices.Contains(labels, l) {
			labels = append(labels, l)
		}
	}
	labels = slices.DeleteFunc(labels, func(l string) bool { return slices.Contains(w.Remove, l) })
	if slices.Sort(labels); len(labels) > mostLabels {
		return next, fmt.Sprintf("it would have more than %d labels", mostLabels)
	}
	next.Labels = labels
	return next, ""
}

// move applies the wish's state change. Waiving a severe finding takes two people: the first request is recorded,
// and the same request by a lead who is somebody else approves it.
func (w *Wish) move(who *base.Caller, was, next *store.Standing, today string,
	two func(service string) bool) (why string) {
	move := finding.Move{To: w.To, Comment: w.Comment, Until: w.Until}
	waives := w.To == finding.Waived
	// a longer waiver is a new request
	asked := w.To.Decides() && was.AskedTo == string(w.To) && was.AskedBy != 0 &&
		(w.Until == "" || w.Until <= was.Asked)
	approves := asked && was.AskedBy != who.ID && who.MayIn(was.Service, base.Lead)
	if approves { // the reason was said by who asked
		move.Comment, move.Until = "approved "+w.Comment, cmp.Or(w.Until, was.Asked)
	}
	if was.Doubt != "" && w.To == finding.Closed {
		return w.keepClosed(who, was, next)
	}
	if w.To == "" || w.To == finding.State(was.State) && move.Until == was.Until {
		return ""
	}
	from := finding.State(was.State)
	if was.Doubt != "" && w.To == finding.AwaitingProof {
		from, next.Doubt = finding.Confirmed, ""
	}
	if waives && from == finding.Waived { // a waiver is made longer or shorter
		from = finding.Confirmed
	}
	if err := move.Check(from, today); err != nil {
		return err.Error()
	}
	if w.To.Decides() && severity.Severity(was.Severity) >= finding.ByTwo && !approves && two(was.Service) {
		switch {
		case asked && was.AskedBy == who.ID && was.Asked == move.Until:
			return "you asked for it: somebody else who is lead approves it"
		case asked && was.AskedBy != who.ID: // or who asked first could approve what was asked a second time
			return "somebody asked for it already: a lead approves it"
		}
		next.AskedTo, next.Asked, next.AskedBy = string(w.To), move.Until, who.ID
		return ""
	}
	next.State, next.Until, next.Approver, next.AskedTo, next.Asked, next.AskedBy = string(w.To), move.Until, "", "",
		"", 0
	if waives || approves {
		next.Approver = base.ShownName(who.Person)
	}
	return ""
}

// keepClosed lets a finding stay closed whose proof no longer counts.
func (w *Wish) keepClosed(who *base.Caller, was, next *store.Standing) (why string) {
	switch {
	case strings.TrimSpace(w.Comment) == "":
		return "to stay closed it needs a reason: say it as the comment"
	case severity.Severity(was.Severity) >= finding.ByTwo && !who.MayIn(was.Service, base.Lead):
		return "one as severe as this stays closed without a proof only if a lead says so; it can await proof again"
	}
	next.Doubt = ""
	return ""
}

// twoNeeded returns a function that reports whether severe decisions at a service need a second person. It looks up
// each service once.
func (s *Findings) twoNeeded(ctx context.Context) func(service string) bool {
	known := map[string]bool{}
	return func(service string) bool {
		needed, ok := known[service]
		if !ok {
			var err error
			needed, err = s.store.SecondPerson(ctx, service)
			needed = needed || err != nil // who cannot be asked is needed
			known[service] = needed
		}
		return needed
	}
}

// Changed is the result of a change of several findings.
type Changed struct {
	store.Change
	Matched int             // how many were named, or fit
	Refused []store.Refused // not all of many
	Left    int             // how many were refused
	Reasons []Reason        // most first
}

// Reason is why findings were not changed, and how many.
type Reason struct {
	Why      string // in words
	Findings int    // how many
}

func reasonsOf(all []store.Refused) []Reason {
	var out []Reason
	at := map[string]int{}
	for _, r := range all {
		i, ok := at[r.Why]
		if !ok {
			i = len(out)
			at[r.Why] = i
			out = append(out, Reason{Why: r.Why})
		}
		out[i].Findings++
	}
	slices.SortStableFunc(out, func(a, b Reason) int { return cmp.Compare(b.Findings, a.Findings) })
	return out
}

const shownRefused = 50

// ChangeFindings changes the findings named by ids, or all that match by, in one transaction. With w.Try it only
// returns what would happen.
func (s *Findings) ChangeFindings(ctx context.Context, who base.Caller, ids []string, by *store.FindingFilter,
	w Wish) (Changed, error) {
	words, err := s.fit(ctx, &w)
	if err != nil {
		return Changed{}, err
	}
	if by != nil {
		if ids, err = s.store.FindingIDs(ctx, *by, mostChanged+1); err != nil {
			return Changed{}, err
		}
	}
	if len(ids) > mostChanged {
		return Changed{}, base.NewProblem(base.Invalid, "narrow the filter",
			"over %d findings cannot be changed in one step",
			mostChanged)
	}
	out := Changed{Change: store.Change{At: s.base.Now(), PersonID: who.ID, Author: who.Name, Words: words,
		Comment: w.Comment, Try: w.Try},
		Matched: len(ids)}
	if out.Mentioned, err = s.mentioned(ctx, w.Comment); err != nil {
		return Changed{}, err
	}
	today := s.base.Now().UTC().Format(time.DateOnly)
	out.Refused, err = s.store.ChangeFindings(ctx, &out.Change, ids,
		func(was store.Standing) (store.Standing, string) { return w.become(&who, was, today, s.twoNeeded(ctx)) },
		func(c *store.Change) []store.TrailEntry {
			var all []store.TrailEntry
			add := func(action string, n int) {
				if n == 0 {
					return
				}
				subject := fmt.Sprintf("%d findings", n)
				if len(ids) == 1 {
					subject = "finding " + ids[0]
				}
				all = append(all, s.base.Did(who, action, subject, words))
			}
			decision := string(w.To)
			add("ask for "+decision, c.Asked)
			add("approve "+decision, c.Approved)
			add("decline what was asked for", c.Declined)
			add("change findings", c.Findings-c.Asked-c.Approved-c.Declined)
			return all
		})
	if err != nil {
		return Changed{}, err
	}
	out.Reasons = reasonsOf(out.Refused)
	if out.Left = len(out.Refused); out.Left > shownRefused {
		out.Refused = out.Refused[:shownRefused]
	}
	if !w.Try && out.Findings > 0 {
		s.base.Log.Info("findings changed", "change", out.ID, "findings", out.Findings, "person", who.ID)
	}
	return out, nil
}

// UndoChange reverts a change. Findings that were changed again since stay as they are.
func (s *Findings) UndoChange(ctx context.Context, who base.Caller,
	id int64) (undone int, left []store.Refused, err error) {
	may := func(service string) string {
		if !who.MayIn(service, base.Reviewer) {
			return who.NotIn(service, base.Reviewer).Detail
		}
		return ""
	}
	undone, left, err = s.store.Undo(ctx, id, store.Event{At: s.base.Now(), Author: who.Name, PersonID: who.ID}, may,
		s.base.Did(who, "undo change", fmt.Sprintf("change %d", id), ""))
	return undone, left, base.Found(err, "change %d that could be undone", id)
}

// Changes lists the latest changes of several findings.
func (s *Findings) Changes(ctx context.Context) ([]store.Change, error) {
	const shown = 50
	return s.store.Changes(ctx, shown)
}

// EndWaivers ends the waivers whose last day has passed.
func (s *Findings) EndWaivers(ctx context.Context) error {
	now := s.base.Now()
	n, err := s.store.EndWaivers(ctx, now.UTC().Format(time.DateOnly), now)
	if n > 0 {
		s.base.Log.Info("waivers ended", "findings", n)
	}
	return errors.Join(err, s.review.EndExceptions(ctx))
}

// mine fills in the parts of Home that concern the caller.
func (s *Findings) mine(ctx context.Context, who base.Caller, open []string, h *Home) error {
	by := store.FindingFilter{States: open, Person: who.ID, Sort: "due"}
	all, counts, err := s.store.Findings(ctx, by, store.Page{Number: 1, Size: shownAtHome})
	if err != nil {
		return err
	}
	h.Mine = all
	for _, n := range counts {
		h.MineTotal += n
	}
	by.DueBefore = s.base.Now().UTC().Format(time.DateOnly)
	if _, counts, err = s.store.Findings(ctx, by, store.Page{Number: 1, Size: 1}); err != nil {
		return err
	}
	for _, n := range counts {
		h.Overdue += n
	}
	if _, _, h.Unread, err = s.store.Notices(ctx, who.ID, true, store.Page{Number: 1, Size: 1}); err != nil {
		return err
	}
	if _, counts, err = s.store.Findings(ctx, store.FindingFilter{Asked: true},
		store.Page{Number: 1, Size: 1}); err != nil {
		return err
	}
	for _, n := range counts {
		h.WaiversAsked += n
	}
	if _, h.Revisions, err = s.store.Revisions(ctx, "", store.Waiting, store.Page{Number: 1, Size: 1}); err != nil {
		return err
	}
	if _, counts, err = s.store.Findings(ctx, store.FindingFilter{States: open, Left: true},
		store.Page{Number: 1, Size: 1}); err != nil {
		return err
	}
	for _, n := range counts {
		h.Left += n
	}
	_, h.Requests, err = s.store.Requests(ctx, store.RequestFilter{States: []string{review.RequestOpen}},
		store.Page{Number: 1, Size: 1})
	return err
}

// mention matches how a comment mentions a person: @ and the e-mail address, or @ and the part before its own @.
var mention = regexp.MustCompile(`(?:^|[^\pL\pN@/._+-]|(?:^|[^\pL\pN])_+)@([\pL\pN._+-]+(?:@[\pL\pN.-]+[\pL\pN])?)`)

// mentioned returns the people whom a text mentions.
func (s *Findings) mentioned(ctx context.Context, text string) ([]int64, error) {
	names := mention.FindAllStringSubmatch(text, -1)
	if len(names) == 0 {
		return nil, nil
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return nil, err
	}
	var all []int64
	for _, m := range names {
		name := strings.TrimRight(m[1], ".-_")
		for _, p := range people {
			local, _, _ := strings.Cut(p.Email, "@")
			if p.Active && (strings.EqualFold(name, p.Email) || strings.EqualFold(name, local)) &&
				!slices.Contains(all, p.ID) {
				all = append(all, p.ID)
			}
		}
	}
	return all, nil
}

// Follow makes the caller follow a finding, or stop following it.
func (s *Findings) Follow(ctx context.Context, who base.Caller, id string, on store.Following) error {
	return base.Found(s.store.Follow(ctx, who.ID, id, on), "finding %s", id)
}

// Views lists the caller's saved views, and those that others share.
func (s *Findings) Views(ctx context.Context, who base.Caller) ([]store.View, error) {
	return s.store.Views(ctx, who.ID)
}

// AddView saves a list of findings, as the query of the console's address.
func (s *Findings) AddView(ctx context.Context, who base.Caller, v store.View) (store.View, error) {
	if v.Name = strings.TrimSpace(v.Name); v.Name == "" {
		return v, base.NewProblem(base.Invalid, "", "a view has a name")
	}
	v.PersonID, v.Author, v.Created = who.ID, who.Name, s.base.Now()
	return s.store.AddView(ctx, v, s.base.Did(who, "keep view", v.Name, v.Query))
}

// DropView deletes one of the caller's views.
func (s *Findings) DropView(ctx context.Context, who base.Caller, id int64) error {
	return base.Found(s.store.DropView(ctx, id, who.ID, s.base.Did(who, "drop view", fmt.Sprintf("view %d", id), "")),
		"view %d of yours", id)
}

// Teaching is a contract change that would stop a finding from being reported, if it is not a leak.
type Teaching struct {
	What string // grant, exception or format
	Text string // as it is written in the contract
}

// teachings returns the contract changes that would stop a finding from being reported.
func teachings(f *store.Finding) []Teaching {
	var all []Teaching
	is, _ := kind.Parse(f.Kind)
	exception := Teaching{"exception",
		fmt.Sprintf("exceptions:\n  - {endpoint: %q, path: %q, kind: %s, reason: say why}", f.Endpoint, f.Path, f.Kind)}
	if path, header := strings.CutPrefix(f.Path, scan.InHeader); header {
		tokens, _ := place.Tokens(path)
		return []Teaching{{"grant", "in the response of " + f.Endpoint + " for " + f.Audience + ":\n      headers: {" +
			strings.Join(tokens, "") + ": " + f.Class + "}"}, exception}
	}
	if is == kind.ForeignRecord {
		return []Teaching{{"grant", fmt.Sprintf("if %s may see it of anybody's records: take `own: true` out at %s:%d",
			f.Audience, f.GrantFile, f.GrantLine)}, exception}
	}
	name := f.Path[strings.LastIndexAny(f.Path, ".]")+1:]
	if is.Member() {
		grant := "      " + name + ":"
		if f.Field != "" && !strings.EqualFold(f.Field, name) {
			grant += " " + f.Field
		}
		if name != "" && f.Direction == finding.Response && !is.Whole() && f.Class != catalog.Secret.String() {
			all = append(all, Teaching{"grant", "in the response of " + f.Endpoint + " for " + f.Audience +
				", at the place of " + f.Path + ":\n" + grant})
		}
	}
	all = append(all, exception)
	if is == kind.SecretValue || is == kind.PersonalValue {
		all = append(all, Teaching{"format",
			"if the value only looks like one: grant the member with a `format` that names what it is, or with " +
				"`values`"})
	}
	return all
}

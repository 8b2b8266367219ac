// Package begin handles how a service comes under review: its first contracts are drafted from files, from another
// service's contracts or from nothing, their questions are answered, and they are put in force. Its main type is
// [Begin].
package begin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/draft"
	"inkret/core/exchange"
	"inkret/core/observe"
	"inkret/core/schema"
	"inkret/intake"
	"inkret/service/base"
	"inkret/service/review"
	"inkret/service/vault"
	"inkret/store"
)

// Begin handles how services come under review. It is safe for concurrent use.
type Begin struct {
	base   *base.Base
	store  Store
	vault  *vault.Vault
	review *review.Review
}

// Store lists the store methods that this package needs.
type Store interface {
	AddDraft(ctx context.Context, d store.Draft, entry store.TrailEntry) (int64, error)
	ChangeDraft(ctx context.Context, d store.Draft, before []byte) error
	Draft(ctx context.Context, id int64) (store.Draft, error)
	Drafts(ctx context.Context) ([]store.Draft, error)
	DropDraft(ctx context.Context, id int64, entry store.TrailEntry) error
	ResealDraft(ctx context.Context, id int64, sealed []byte) error
}

// New returns the room.
func New(b *base.Base, st Store, v *vault.Vault, r *review.Review) *Begin { return &Begin{b, st, v, r} }

// Draft is the first contracts of a service, with what a person must decide.
type Draft struct {
	ID         int64                // its number
	Service    string               // that it will be of
	Sources    []string             // what it was drafted from
	Author     string               // by name
	Created    time.Time            // when it was made
	Changed    time.Time            // when it was last worked on
	Recordings int                  // sources that were recordings
	Written    *draft.Draft         // with its open questions
	Answers    draft.Answers        // that were given so far
	Files      []store.ContractFile // as they would be put in force
	Notes      []string             // what was passed over
}

// Line is a draft in a list.
type Line = store.Draft

// kept is what a draft is drafted from: a sketch, or contract files.
type kept struct {
	Sketch     *schema.Sketch
	Callers    []observe.Caller
	Recordings int
	Files      []store.ContractFile
}

// sealedAs is the additional authenticated data of drafts.
const sealedAs = "inkret draft 1"

// File is a file to draft from.
type File struct {
	Name string    // what it is called
	Data io.Reader // what is in it
}

// Begin drafts the first contracts of a service from files, which next returns one after another until io.EOF, or where
// there are none from another service's contracts, or from nothing. The files are read and not kept.
func (s *Begin) Begin(ctx context.Context, who base.Caller, service, like string,
	next func() (File, error)) (*Draft, error) {
	k, sources, err := s.gather(ctx, like, next)
	if err != nil {
		return nil, err
	}
	if service = strings.TrimSpace(service); service == "" {
		service = nameFor(k)
	}
	if err := s.mayBegin(ctx, service); err != nil {
		return nil, err
	}
	data, err := json.Marshal(k)
	if err != nil {
		return nil, err
	}
	now := s.base.Now().Truncate(time.Millisecond)
	d := store.Draft{Service: service, Sources: sources, Author: who.Name, AuthorID: who.ID, Created: now, Changed: now,
		Answers: []byte("[]"), Sealed: s.vault.Seal(data, sealedAs)}
	out := s.write(d, k)
	d.Open = open(out)
	d.ID, err = s.store.AddDraft(ctx, d, s.base.Did(who, "begin draft", service, strings.Join(sources, ", ")))
	if err != nil {
		return nil, err
	}
	out.ID = d.ID
	return out, nil
}

func nothing() error {
	return base.NewProblem(base.Invalid,
		"a recording with JSON bodies, an OpenAPI document, a GraphQL schema and SQL are read",
		"nothing to draft from was found there")
}

// gather reads what to draft from.
func (s *Begin) gather(ctx context.Context, like string, next func() (File, error)) (*kept, []string, error) {
	if like != "" {
		f, err := s.base.Contracts(ctx, like)
		if err != nil {
			return nil, nil, err
		}
		return &kept{Files: f.Revision.Files}, []string{"the contracts of " + like}, nil
	}
	k, o := &kept{}, observe.New(nil)
	var sources []string
	for {
		f, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, base.Plain(err)
		}
		name := path.Base(strings.ReplaceAll(f.Name, `\`, "/"))
		if err := s.read(ctx, k, o, name, f.Data); err != nil {
			return nil, nil, err
		}
		sources = append(sources, name)
	}
	if len(sources) == 0 {
		k.Files = []store.ContractFile{{Name: "contract.yaml", Text: empty}}
		return k, []string{"nothing"}, nil
	}
	if k.Recordings > 0 {
		seen := o.Sketch()
		k.Callers = o.Callers()
		if k.Sketch == nil {
			k.Sketch = seen
		} else {
			k.Sketch.Join(seen)
		}
		o.Join(k.Sketch)
	}
	if k.Sketch == nil || len(k.Sketch.Operations)+len(k.Sketch.Objects)+len(k.Sketch.Graphs) == 0 {
		return nil, nil, nothing()
	}
	return k, sources, nil
}

const (
	mostDescribed = 32 << 20 // bytes of a description
	sniffed       = 4096
)

// read reads one file: a description, SQL, or a recording.
func (s *Begin) read(ctx context.Context, k *kept, o *observe.Observer, name string, r io.Reader) error {
	start := make([]byte, sniffed)
	n, err := io.ReadFull(r, start)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return base.Plain(err)
	}
	start = start[:n]
	whole := io.MultiReader(bytes.NewReader(start), r)
	switch {
	case graphStart.Match(start), graphName.MatchString(name):
		data, err := s.all(name, whole)
		if err != nil {
			return err
		}
		sketch, err := schema.DescribeGraph(name, data)
		if err != nil {
			return base.NewProblem(base.Invalid, "", "%v", err)
		}
		return k.add(name, sketch)
	case described.Match(start):
		data, err := s.all(name, whole)
		if err != nil {
			return err
		}
		sketch, err := schema.Describe(name, data)
		if err != nil {
			return base.NewProblem(base.Invalid, "", "%v", err)
		}
		return k.add(name, sketch)
	case sql.Match(start):
		data, err := s.all(name, whole)
		if err != nil {
			return err
		}
		c, notes, err := schema.DDL(data)
		if err != nil {
			return base.NewProblem(base.Invalid, "", "%s: %v", name, err)
		}
		sketch := schema.Of(c)
		sketch.Notes = notes
		return k.add(name, sketch)
	}
	k.Recordings++
	err = intake.Read(name, whole, intake.Options{}, func(c *exchange.Capture) error {
		o.Add(c)
		return ctx.Err()
	})
	var early *intake.Error
	if errors.As(err, &early) {
		return base.NewProblem(base.Unreadable,
			"a recording, an OpenAPI document, a GraphQL schema or SQL was expected", "%v", err)
	}
	return base.Plain(err)
}

var (
	described  = regexp.MustCompile(`(?m)^\s*["']?(openapi|swagger|\$schema|\$defs)["']?\s*:|^\s*\{\s*"(openapi|swagger|\$schema|\$defs|components|paths|info)"\s*:`)
	graphName  = regexp.MustCompile(`(?i)\.(graphqls?|gql)$`)
	graphStart = regexp.MustCompile(`^\s*\{\s*("data"\s*:\s*\{\s*)?"__schema"`)
	sql        = regexp.MustCompile(`(?im)^\s*(CREATE\s+(TABLE|TYPE|SCHEMA|EXTENSION|DATABASE)|SET\s+\w|BEGIN|PRAGMA|DROP\s+TABLE|ALTER\s+TABLE|--)`)
)

func (s *Begin) all(name string, r io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, mostDescribed+1))
	if err != nil {
		return nil, base.Plain(err)
	}
	if len(data) > mostDescribed {
		return nil, base.NewProblem(base.Invalid, "", "%s has more than %d MiB, which is too much for a description",
			name,
			mostDescribed>>20)
	}
	return data, nil
}

func (k *kept) add(name string, sketch *schema.Sketch) error {
	if k.Sketch != nil {
		return base.NewProblem(base.Invalid, "draft from one, and from as many recordings as there are",
			"%s is a second description", name)
	}
	k.Sketch = sketch
	return nil
}

// empty is a contract to begin with, where there is nothing to draft from.
const empty = `# A first contract. Write down who calls, what there is, and what each endpoint may expose to whom.
inkret: 1
service: new
audiences: # from least to most trusted
  - {name: anyone, recognise: {credentials: none}}
  - {name: signed-in, recognise: {header: {name: Authorization, value: "*"}}}
entities:
  Example:
    fields:
      id: {type: integer, class: internal}
      name: {type: string, class: public}
endpoints:
  - endpoint: GET /examples/{example_id}
    responses:
      - {statuses: [200], entity: Example, grants: {id: , name: }}
`

// nameFor names the service of a draft.
func nameFor(k *kept) string {
	if k.Sketch != nil {
		return draft.Write(k.Sketch, draft.Options{Callers: k.Callers}).Service
	}
	return "new"
}

// mayBegin reports why a service of this name cannot begin.
func (s *Begin) mayBegin(ctx context.Context, service string) error {
	if !contract.IsServiceName(service) {
		return base.NewProblem(base.Invalid, "letters, digits, dots, dashes and underscores are allowed",
			"%q cannot be the name of a service", service)
	}
	_, err := s.base.Contracts(ctx, service)
	var p *base.Problem
	switch {
	case err == nil:
		return base.NewProblem(base.Conflict, "choose another name, or change its contracts in the editor",
			"the service %q is under review already", service)
	case errors.As(err, &p) && p.Code == base.NotFound:
		return nil
	}
	return err
}

// write drafts what is kept.
func (s *Begin) write(d store.Draft, k *kept) *Draft {
	out := &Draft{ID: d.ID, Service: d.Service, Sources: d.Sources, Author: d.Author, Created: d.Created,
		Changed: d.Changed, Recordings: k.Recordings}
	_ = json.Unmarshal(d.Answers, &out.Answers)
	if k.Sketch == nil {
		out.Written = &draft.Draft{Service: d.Service}
		for _, f := range k.Files {
			f.Text = ofService.ReplaceAllString(f.Text, "service: "+string(document.Text(d.Service).Append(nil, 0)))
			out.Files = append(out.Files, f)
		}
		if c, err := contract.Read(base.ContractFiles(out.Files)...); err == nil {
			out.Written.Endpoints, out.Written.Entities = len(c.Endpoints), len(c.Catalog.Entities)
			for _, a := range c.Audiences {
				out.Written.Audiences = append(out.Written.Audiences, a.Name)
			}
		}
		return out
	}
	out.Written = draft.Write(k.Sketch, draft.Options{Service: d.Service, Callers: k.Callers, Answers: out.Answers,
		From: strings.Join(d.Sources, ", ")})
	out.Notes = k.Sketch.Notes
	out.Files = []store.ContractFile{{Name: "contract.yaml", Text: out.Written.Text}}
	for _, one := range out.Written.Schemas {
		out.Files = append(out.Files, store.ContractFile{Name: one.Name, Text: one.Text})
	}
	return out
}

var ofService = regexp.MustCompile(`(?m)^service:.*$`)

func open(d *Draft) int { return len(d.Written.Questions) }

// Drafts lists the drafts, newest first, without what is drafted.
func (s *Begin) Drafts(ctx context.Context) ([]Line, error) { return s.store.Drafts(ctx) }

// Draft returns a draft.
func (s *Begin) Draft(ctx context.Context, id int64) (*Draft, error) {
	d, k, err := s.one(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.write(d, k), nil
}

func (s *Begin) one(ctx context.Context, id int64) (store.Draft, *kept, error) {
	d, err := s.store.Draft(ctx, id)
	if err != nil {
		return d, nil, base.Found(err, "draft %d", id)
	}
	data, _, err := s.vault.Open(d.Sealed, sealedAs)
	if err != nil {
		return d, nil, fmt.Errorf("draft %d: %w", id, err)
	}
	k := &kept{}
	return d, k, json.Unmarshal(data, k)
}

// Change is what is decided of a draft.
type Change struct {
	Service     string         // its new name; empty for the same
	Answers     []draft.Answer // of which an empty one takes the answer back
	AsSuggested bool           // what is open and has a suggestion is answered with it
}

// Answer decides questions of a draft, or renames its service.
func (s *Begin) Answer(ctx context.Context, id int64, c Change) (*Draft, error) {
	d, k, err := s.one(ctx, id)
	if err != nil {
		return nil, err
	}
	before := d.Answers
	if c.Service = strings.TrimSpace(c.Service); c.Service != "" && c.Service != d.Service {
		if err := s.mayBegin(ctx, c.Service); err != nil {
			return nil, err
		}
		d.Service = c.Service
	}
	now := s.write(d, k)
	all := now.Answers
	for _, a := range c.Answers {
		if all, err = with(now, all, a); err != nil {
			return nil, err
		}
	}
	if c.AsSuggested {
		for _, q := range now.Written.Questions {
			if slices.Contains(q.Answers, q.Suggestion) {
				all = all.With(draft.To(q, q.Suggestion))
			}
		}
	}
	if d.Answers, err = json.Marshal(all); err != nil {
		return nil, err
	}
	d.Changed = s.base.Now().Truncate(time.Millisecond)
	out := s.write(d, k)
	d.Open = open(out)
	if err := s.store.ChangeDraft(ctx, d, before); errors.Is(err, store.ErrConflict) {
		return nil, base.NewProblem(base.Conflict, "look at it again, and answer again",
			"somebody else answered at the same time")
	} else if err != nil {
		return nil, err
	}
	return out, nil
}

// with adds an answer to a question that the draft asks, or that was answered before.
func with(d *Draft, all draft.Answers, a draft.Answer) (draft.Answers, error) {
	answered := slices.ContainsFunc(all, func(b draft.Answer) bool { return b.Question == a.Question })
	if a.Answer == "" {
		return slices.DeleteFunc(slices.Clone(all), func(b draft.Answer) bool { return b.Question == a.Question }), nil
	}
	if !draft.IsAnswer(a.Answer) {
		return nil, base.NewProblem(base.Invalid, "", "%q is no answer", a.Answer)
	}
	for _, q := range d.Written.Questions {
		if q.ID == a.Question && slices.Contains(q.Answers, a.Answer) {
			return all.With(draft.To(q, a.Answer)), nil
		}
	}
	for _, f := range d.Written.Fields {
		if one := draft.ToField(f.Field, a.Answer); one.Question == a.Question {
			return all.With(one), nil
		}
	}
	if !answered {
		return nil, base.NewProblem(base.Invalid, "", "the draft does not ask %q", a.Question)
	}
	i := slices.IndexFunc(all, func(b draft.Answer) bool { return b.Question == a.Question })
	changed := all[i]
	changed.Answer = a.Answer
	return append(slices.Delete(slices.Clone(all), i, i+1), changed), nil
}

// Apply puts a draft in force as the first contracts of its service, as it was drafted or as edited, and ends it.
func (s *Begin) Apply(ctx context.Context, who base.Caller, id int64, files []store.ContractFile,
	reason string) (store.Revision, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return store.Revision{}, err
	}
	if err := s.mayBegin(ctx, d.Service); err != nil {
		return store.Revision{}, err
	}
	if !who.MayIn(d.Service, base.Reviewer) {
		return store.Revision{}, who.NotIn(d.Service, base.Reviewer)
	}
	if len(files) == 0 {
		files = d.Files
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		reason = "first contracts, drafted from " + strings.Join(d.Sources, ", ")
	}
	r, _, err := s.review.Apply(ctx, who, d.Service, review.Proposed{Files: files, Reason: reason})
	if err != nil {
		return r, err
	}
	return r, s.Drop(ctx, who, id)
}

// Drop deletes a draft.
func (s *Begin) Drop(ctx context.Context, who base.Caller, id int64) error {
	return base.Found(s.store.DropDraft(ctx, id, s.base.Did(who, "drop draft", fmt.Sprintf("draft %d", id), "")),
		"draft %d", id)
}

// Reseal seals all drafts with the vault's new key.
func (s *Begin) Reseal(ctx context.Context) error {
	all, err := s.store.Drafts(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		data, old, err := s.vault.Open(d.Sealed, sealedAs)
		if err != nil {
			return fmt.Errorf("draft %d: %w", d.ID, err)
		}
		if old {
			if err := s.store.ResealDraft(ctx, d.ID, s.vault.Seal(data, sealedAs)); err != nil {
				return err
			}
		}
	}
	return nil
}

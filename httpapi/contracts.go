package httpapi

import (
	"context"
	"encoding/json"
	"slices"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/advice"
	"inkret/core/catalog"
	"inkret/core/compare"
	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/draft"
	"inkret/core/place"
	"inkret/core/revise"
	"inkret/core/schema"
	"inkret/service/base"
	"inkret/service/review"
)

func storedFiles(all []wire.ContractFile) []base.ContractFile {
	return each(all, func(f wire.ContractFile) base.ContractFile {
		return base.ContractFile{Name: f.Name,
			Text: f.Text}
	})
}

func filesOf(all []base.ContractFile) []wire.ContractFile {
	return each(all, func(f base.ContractFile) wire.ContractFile {
		return wire.ContractFile{Name: f.Name,
			Text: f.Text}
	})
}

// TryContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) TryContracts(ctx context.Context,
	r serve.TryContractsRequestObject) (serve.TryContractsResponseObject, error) {
	c := review.Change{Files: storedFiles(value(r.Body.Files)), Base: value(r.Body.Base), Inline: value(r.Body.Inline),
		Effect: value(r.Body.Effect), Advise: value(r.Body.Advise), Edits: review.Edits{},
		Intents: each(value(r.Body.Intents), intentOf)}
	for _, op := range value(r.Body.Edits) {
		one := document.Op{Op: string(op.Op), Path: op.Path, From: value(op.From)}
		if one.Op == "add" || one.Op == "replace" || one.Op == "test" {
			raw := op.Value
			if len(raw) == 0 {
				raw = json.RawMessage("null")
			}
			var err error
			if one.Value, err = document.FromJSON(raw); err != nil {
				return nil, &base.Problem{Code: base.Invalid, Detail: "the value at " + op.Path + " is not JSON"}
			}
		}
		c.Edits[op.File] = append(c.Edits[op.File], one)
	}
	if p := r.Body.PullOut; p != nil {
		c.PullOut = p.Name
		c.Places = revise.Proposal{Name: p.Name, Entity: p.Entity, Grants: p.Grants,
			Places: each(p.Places, func(at wire.ShapePlace) revise.Place {
				return revise.Place{Endpoint: at.Endpoint, What: at.What, File: at.File, Pointer: at.Pointer,
					Line: at.Line}
			})}
	}
	t, err := h.service.Review.Try(ctx, callerOf(ctx), r.Service, c)
	if err != nil {
		return nil, err
	}
	out := wire.Trial{Files: filesOf(t.Files), Hash: t.Hash, Base: t.Base, Problems: each(t.Problems, faultOf),
		Advice: each(t.Advice, adviceOf), Direction: wire.Neutral,
		Words: []wire.Sentence{}, Text: t.Text, NeedsApproval: t.NeedsApproval}
	if t.Difference != nil {
		out.Direction, out.Reaches = wire.Direction(t.Difference.Direction), some(t.Difference.Reaches.String())
		out.Words = each(t.Difference.Words,
			func(s compare.Sentence) wire.Sentence {
				return wire.Sentence{Direction: wire.Direction(s.Direction), Text: s.Text}
			})
	}
	if e := t.Effect; e != nil {
		out.Effect = &wire.TrafficEffect{Captures: e.Captures, Most: e.Most, Gone: each(e.Gone, findingOf),
			Came: each(e.Came, findingOf)}
	}
	if t.Contracts != nil {
		model := modelOf(t.Contracts, value(r.Body.Endpoint))
		out.Contract = &model
	}
	return serve.TryContracts200JSONResponse(out), nil
}

// intentOf converts an intent of the request.
func intentOf(i wire.Intent) revise.Intent {
	out := revise.Intent{File: i.File, Pointer: i.Pointer, Remove: value(i.Remove), Audiences: i.Audiences,
		Team: i.Team, Own: i.Own,
		Respond: newResponseOf(i.Respond), Accept: newResponseOf(i.Accept)}
	if g := i.Grant; g != nil {
		out.Grant = &revise.NewGrant{Name: value(g.Name), Field: value(g.Field), Relation: value(g.Relation),
			Reference: value(g.Reference), Shape: value(g.Shape), Derived: value(g.Derived), Type: value(g.Type),
			Reason: value(g.Reason)}
	}
	if s := i.Change; s != nil {
		out.Change = &revise.Said{Name: s.Name, Optional: value(s.Optional), Max: value(s.Max),
			Own: value(s.Own), Audiences: value(s.Audiences), NeededBy: value(s.NeededBy), Reason: value(s.Reason)}
	}
	return out
}

func newResponseOf(r *wire.NewResponse) *revise.NewResponse {
	if r == nil {
		return nil
	}
	return &revise.NewResponse{Statuses: value(r.Statuses), Audiences: value(r.Audiences), Entity: value(r.Entity),
		At: value(r.At), Many: value(r.Many), Envelope: string(value(r.Envelope))}
}

func faultOf(p contract.Problem) wire.ContractFault {
	return wire.ContractFault{File: p.File, Line: p.Line, Column: p.Column, Path: p.Path, Found: p.Found,
		Expected: p.Expected, Near: some(p.Near)}
}

func adviceOf(a advice.Advice) wire.Advice {
	return wire.Advice{Code: a.Code, Weight: string(a.Weight), Endpoint: some(a.Endpoint), About: a.About, Text: a.Text,
		Mend: a.Mend, File: a.File, Line: a.Line, Also: someList(a.Also)}
}

// modelOf returns what an editor needs to know of contracts, with one endpoint in full.
func modelOf(c *contract.Contracts, endpoint string) wire.EditableContract {
	uses := revise.Uses(c)
	m := wire.EditableContract{
		Audiences: each(c.Audiences, func(a *contract.Audience) string { return a.Name }),
		Entities: each(c.Catalog.Entities, func(e *catalog.Entity) wire.EntityModel {
			return wire.EntityModel{Name: e.Name, Fields: each(e.Fields, func(f *catalog.Field) wire.FieldModel {
				return wire.FieldModel{Name: f.Name, Class: string(classOf(f.Class)), Form: f.Form.Words(),
					Note: some(f.Note)}
			}), Relations: each(e.Relations, relationOf)}
		}),
		Shapes: each(c.Shapes, func(s *contract.Shape) wire.ShapeModel {
			n := c.Node(s)
			return wire.ShapeModel{Name: s.Name, Entity: s.Body.Entity.Name, Grants: each(s.Body.Grants,
				func(g *contract.Grant) string { return g.Name }), UsedAt: usedAt(uses[s.Name]),
				File: some(n.File), Pointer: some(n.Pointer())}
		}),
	}
	for _, e := range c.Endpoints {
		if e.Text == endpoint || slices.Contains(e.Names(), endpoint) {
			n := c.Node(e)
			m.File, m.Pointer, m.Line, m.Team, m.JudgesRequests = some(n.File), some(n.Pointer()), some(e.Pos.Line),
				some(e.Team), some(e.Judges)
			m.Responses = someList(each(e.Responses, func(r *contract.Response) wire.ResponseContract {
				return responseOf(c,
					r)
			}))
			m.Accepts = someList(each(e.Accepts, func(r *contract.Response) wire.ResponseContract {
				one := responseOf(c, r)
				one.Statuses = []string{}
				return one
			}))
		}
	}
	return m
}

// usedAt lists the endpoints and shapes that use a shape, each once.
func usedAt(uses []revise.Use) []string {
	out := []string{}
	for _, u := range uses {
		if !slices.Contains(out, u.Endpoint) {
			out = append(out, u.Endpoint)
		}
	}
	return out
}

func classOf(c catalog.Class) wire.ClassOrNone {
	if c == catalog.Unclassed {
		return wire.ClassOrNone(review.Unclassed)
	}
	return wire.ClassOrNone(c.String())
}

func relationOf(r *catalog.Relation) wire.RelationModel {
	return wire.RelationModel{Name: r.Name, Entity: r.Entity, Many: r.Many}
}

func responseOf(c *contract.Contracts, r *contract.Response) wire.ResponseContract {
	n := c.Node(r)
	one := wire.ResponseContract{Name: some(r.Name), Audiences: someList(c.Names(r.Audiences)), Statuses: r.Statuses,
		Many: some(r.Many), Own: some(r.Limited), OwnerPath: some(r.PathOwner), Line: r.Pos.Line,
		File:    some(r.Pos.File),
		Pointer: some(n.Pointer()), Shape: some(r.ShapeName())}
	if r.Entity != nil {
		one.Entity = some(r.Entity.Name)
	}
	var at []byte
	for _, token := range r.At {
		at = place.AppendPointer(at, []byte(token))
	}
	one.At, one.Operations = some(string(at)), someList(r.Operations())
	one.Grants = grantsOf(c, r.Body, r.ShapeName(), r.Own(), nil)
	if r.Beside != nil {
		one.Beside = someList(grantsOf(c, r.Beside, "", nil, nil))
	}
	return one
}

// grantsOf lists the grants of a set. Grants that are not in own come from the shape. Recursive shapes are expanded
// only once.
func grantsOf(c *contract.Contracts, set *contract.GrantSet, shape string, own *contract.GrantSet,
	above []*contract.GrantSet) []wire.GrantNode {
	out := []wire.GrantNode{}
	if slices.Contains(above, set) {
		return out
	}
	above = append(above, set)
	for _, g := range set.Grants {
		n := wire.GrantNode{Name: g.Name, Carries: some(g.Carries()), Class: g.Class.String(),
			Type: some(string(g.Form.Type)), Optional: some(g.Optional), Own: some(g.Limited),
			Many: some(g.Many), Open: some(g.Open), Audiences: someList(c.Names(g.Audiences)), Reason: some(g.Reason),
			NeededBy: someList(g.NeededBy), Line: g.Pos.Line,
			File: some(g.Pos.File), Shape: some(g.ShapeName()), Reference: some(g.Reference), Max: some(g.Form.Max),
			Form: some(g.Form.Words()), OfType: some(g.Typed()), ByType: some(g.ByType())}
		if node := c.Node(g); node != nil {
			n.Pointer = some(node.Pointer())
			n.TakesMembers = some((node.Get("grants") != nil || node.Get("shape") != nil) && g.Members() != nil &&
				g.Members().Entity != nil)
		}
		if shape != "" && (own == nil || !slices.Contains(own.Grants, g)) {
			n.FromShape = &shape
		}
		_, field := g.Behind()
		n.Field = some(field)
		if g.Typed() && g.Members() != nil && g.Members().Entity != nil {
			n.Entity = some(g.Members().Entity.Name)
		}
		if g.Relation != nil {
			n.Relation, n.Entity = some(g.Relation.Name), some(g.Relation.Entity)
		}
		for _, f := range g.Derived {
			n.Derived = someList(append(value(n.Derived), f.Name))
		}
		if n.Class == "" {
			n.Class = catalog.Public.String()
		}
		if members := g.Members(); members != nil {
			inner := n.FromShape
			name := g.ShapeName()
			if name == "" && inner != nil {
				name = *inner
			}
			n.Grants = someList(grantsOf(c, members, name, g.Own(), above))
		}
		out = append(out, n)
	}
	return out
}

// MergeContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) MergeContracts(ctx context.Context,
	r serve.MergeContractsRequestObject) (serve.MergeContractsResponseObject, error) {
	m, err := h.service.Review.Merge(ctx, r.Service, r.Body.Base, storedFiles(r.Body.Files))
	if err != nil {
		return nil, err
	}
	out := wire.Merged{Files: filesOf(m.Files), Theirs: revisionOf(m.Theirs, false), Conflicts: []wire.MergeConflict{}}
	for _, f := range m.Files {
		for _, c := range m.Conflicts[f.Name] {
			out.Conflicts = append(out.Conflicts, wire.MergeConflict{File: f.Name, Line: c.Line, Base: c.Base,
				Mine:   c.Mine,
				Theirs: c.Theirs})
		}
	}
	return serve.MergeContracts200JSONResponse(out), nil
}

// DraftContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) DraftContracts(ctx context.Context,
	r serve.DraftContractsRequestObject) (serve.DraftContractsResponseObject, error) {
	d, err := h.service.Review.Draft(ctx, r.Service, review.DraftOf{From: string(r.Body.From),
		Endpoint: value(r.Body.Endpoint), Entity: value(r.Body.Entity), Many: value(r.Body.Many),
		Like: value(r.Body.Like), Source: value(r.Body.Source), Text: []byte(value(r.Body.Text)),
		Files: storedFiles(value(r.Body.Files))})
	if err != nil {
		return nil, err
	}
	return serve.DraftContracts200JSONResponse{Endpoints: d.Endpoints, Text: d.Text, Files: filesOf(d.Files),
		Notes: d.Notes,
		Questions: each(d.Questions, func(q draft.Question) wire.Question {
			return wire.Question{Entity: some(q.Entity), Field: some(q.Field), Text: q.Text}
		})}, nil
}

// AdviseContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) AdviseContracts(ctx context.Context,
	r serve.AdviseContractsRequestObject) (serve.AdviseContractsResponseObject, error) {
	all, err := h.service.Review.Advice(ctx, r.Service)
	return serve.AdviseContracts200JSONResponse(each(all, adviceOf)), err
}

// ExportForm implements [serve.StrictServerInterface].
func (h *reviewHandlers) ExportForm(ctx context.Context,
	r serve.ExportFormRequestObject) (serve.ExportFormResponseObject, error) {
	x, err := h.service.Review.ExportAs(ctx, callerOf(ctx), r.Service, string(r.Form))
	if err != nil {
		return nil, err
	}
	return serve.ExportForm200JSONResponse{Media: x.Media, Files: filesOf(x.Files)}, nil
}

// ListRevisions implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListRevisions(ctx context.Context,
	r serve.ListRevisionsRequestObject) (serve.ListRevisionsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	var state base.RevisionState // any
	if value(r.Params.Waiting) {
		state = base.Waiting
	}
	all, total, err := h.service.Review.Revisions(ctx, value(r.Params.Service), state, page)
	return serve.ListRevisions200JSONResponse{Items: each(all, func(v base.Revision) wire.Revision {
		return revisionOf(v,
			false)
	}), Total: total, Page: page.Number, Size: page.Size}, err
}

func (h *reviewHandlers) revisionDetail(ctx context.Context, r base.Revision, err error) (wire.RevisionDetail, error) {
	if err != nil {
		return wire.RevisionDetail{}, err
	}
	text, err := h.service.Review.RevisionText(ctx, r)
	return wire.RevisionDetail{Revision: revisionOf(r, false), Text: text}, err
}

// GetRevision implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetRevision(ctx context.Context,
	r serve.GetRevisionRequestObject) (serve.GetRevisionResponseObject, error) {
	v, err := h.service.Review.RevisionOf(ctx, r.Service, r.Number)
	d, err := h.revisionDetail(ctx, v, err)
	return serve.GetRevision200JSONResponse(d), err
}

// DecideRevision implements [serve.StrictServerInterface].
func (h *reviewHandlers) DecideRevision(ctx context.Context,
	r serve.DecideRevisionRequestObject) (serve.DecideRevisionResponseObject, error) {
	v, err := h.service.Review.Decide(ctx, callerOf(ctx), r.Service, r.Number,
		review.Decision{Grant: r.Body.Approve, Comment: value(r.Body.Comment)})
	d, err := h.revisionDetail(ctx, v, err)
	return serve.DecideRevision200JSONResponse(d), err
}

// RevertRevision implements [serve.StrictServerInterface].
func (h *reviewHandlers) RevertRevision(ctx context.Context,
	r serve.RevertRevisionRequestObject) (serve.RevertRevisionResponseObject, error) {
	v, changed, err := h.service.Review.Revert(ctx, callerOf(ctx), r.Service, r.Number, r.Body.Reason)
	return serve.RevertRevision200JSONResponse(revisionOf(v, changed)), err
}

// ListShapes implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListShapes(ctx context.Context,
	r serve.ListShapesRequestObject) (serve.ListShapesResponseObject, error) {
	c, shapes, proposals, err := h.service.Review.Shapes(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	return serve.ListShapes200JSONResponse{
		Shapes: each(shapes, func(v review.ShapeView) wire.Shape {
			return wire.Shape{Name: v.Name, Entity: v.Body.Entity.Name, Grants: grantsOf(c, v.Body, "", nil, nil),
				Touches: append([]string{}, v.Touches...), File: v.Pos.File, Line: v.Pos.Line,
				Uses: each(v.Uses, func(u revise.Use) wire.ShapeUse {
					return wire.ShapeUse{Endpoint: u.Endpoint, What: u.What, InShape: u.InShape, File: u.Node.File,
						Line: u.Node.Line}
				})}
		}),
		Proposals: each(proposals, func(p revise.Proposal) wire.ShapeProposal {
			return wire.ShapeProposal{Name: p.Name, Entity: p.Entity, Grants: p.Grants,
				Places: each(p.Places, func(at revise.Place) wire.ShapePlace {
					return wire.ShapePlace{Endpoint: at.Endpoint, What: at.What, File: at.File, Pointer: at.Pointer,
						Line: at.Line}
				})}
		}),
	}, nil
}

// GetCoverage implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetCoverage(ctx context.Context,
	r serve.GetCoverageRequestObject) (serve.GetCoverageResponseObject, error) {
	c, err := h.service.Review.Coverage(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	return serve.GetCoverage200JSONResponse{Numbers: c.Numbers, Gaps: each(c.Gaps, func(g review.Gap) wire.CoverageGap {
		return wire.CoverageGap{Kind: wire.CoverageGapKind(g.Kind), Endpoint: some(g.Endpoint),
			EndpointID: some(g.EndpointID),
			Audience:   some(g.Audience), Status: some(g.Status),
			Entity: some(g.Entity), Field: some(g.Field), Captures: some(g.Captures), Records: some(g.Records),
			Of: some(g.Of), Words: some(g.Words)}
	}), Trend: each(c.Trend, func(d base.CoverageDay) wire.CoverageDay {
		return wire.CoverageDay{Day: d.Day,
			Numbers: d.Numbers}
	})}, nil
}

// ListEntities implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListEntities(ctx context.Context,
	r serve.ListEntitiesRequestObject) (serve.ListEntitiesResponseObject, error) {
	all, err := h.service.Review.Entities(ctx, r.Service)
	return serve.ListEntities200JSONResponse(each(all, func(v review.EntityView) wire.Entity {
		e := wire.Entity{Name: v.Name, StoredAs: some(v.StoredAs), Fields: len(v.Fields), Relations: each(v.Relations,
			relationOf), Unclassed: v.Unclassed, ByClass: map[string]int{},
			Endpoints: v.Endpoints, Open: v.Leaks}
		for class, n := range v.ByClass {
			e.ByClass[string(classOf(class))] = n
		}
		return e
	})), err
}

// ListFields implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListFields(ctx context.Context,
	r serve.ListFieldsRequestObject) (serve.ListFieldsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Review.Fields(ctx, r.Service, review.FieldFilter{Entity: value(r.Params.Entity),
		Class: string(value(r.Params.Class)), Suggested: string(value(r.Params.Suggested)),
		Words: value(r.Params.Q)}, page)
	return serve.ListFields200JSONResponse{Items: each(all, fieldOf), Total: total, Page: page.Number, Size: page.Size},
		err
}

func fieldOf(v review.FieldView) wire.Field {
	f := wire.Field{Entity: v.Entity, Name: v.Name, Class: classOf(v.Class), Form: v.Form.Words(), Note: some(v.Note),
		Suggested: classOf(v.Suggestion.Class),
		Sure:      wire.FieldSure(v.Suggestion.Sure.String()), Reason: v.Suggestion.Reason,
		Endpoints: append([]string{},
			v.Endpoints...), Open: v.Leaks, File: v.Pos.File, Line: v.Pos.Line}
	if v.Classing != nil && v.Class != catalog.Unclassed {
		f.ClassedBy, f.ClassedAt = some(v.Classing.Author), someTime(v.Classing.At)
	}
	return f
}

// ClassFields implements [serve.StrictServerInterface].
func (h *reviewHandlers) ClassFields(ctx context.Context,
	r serve.ClassFieldsRequestObject) (serve.ClassFieldsResponseObject, error) {
	all := each(r.Body.Fields, func(f wire.FieldClass) revise.ClassOf {
		class, _ := catalog.ParseClass(string(f.Class))
		return revise.ClassOf{Entity: f.Entity, Field: f.Field, Class: class}
	})
	v, err := h.service.Review.ClassFields(ctx, callerOf(ctx), r.Service, all, value(r.Body.Base), value(r.Body.Reason))
	return serve.ClassFields200JSONResponse(revisionOf(v, err == nil)), err
}

// ListFlows implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListFlows(ctx context.Context,
	r serve.ListFlowsRequestObject) (serve.ListFlowsResponseObject, error) {
	all, err := h.service.Review.Where(ctx, r.Service, r.Params.Entity, r.Params.Field)
	return serve.ListFlows200JSONResponse(each(all, func(f review.Flow) wire.Flow {
		out := wire.Flow{Endpoint: f.Endpoint, EndpointID: f.EndpointID, Audience: f.Audience, Status: some(f.Status),
			Path: f.Path, State: wire.FlowState(f.State), Derived: some(f.Derived), Own: some(f.Own),
			Reason: some(f.Reason), NeededBy: someList(f.NeededBy), File: some(f.Pos.File), Line: some(f.Pos.Line),
			Finding: some(f.Finding), LastSeen: someTime(f.LastSeen)}
		if f.Severity > 0 {
			out.Severity = some(severityOf(f.Severity))
		}
		return out
	})), err
}

func readingOf(r *wire.Reading) review.Reading {
	return review.Reading{Source: r.Source, Form: string(r.Form), Text: []byte(value(r.Text)),
		Tables: each(value(r.Tables), func(t wire.Table) schema.Table {
			return schema.Table{Name: t.Name, Comment: value(t.Comment), Primary: value(t.Primary),
				Columns: each(t.Columns, func(c wire.Column) schema.Column {
					return schema.Column{Name: c.Name, Type: c.Type, Nullable: c.Nullable, Comment: value(c.Comment),
						Values: value(c.Values)}
				}),
				Foreign: each(value(t.Foreign), func(f wire.ForeignKey) schema.ForeignKey {
					return schema.ForeignKey{Columns: f.Columns, Table: f.Table, Unique: value(f.Unique)}
				})}
		})}
}

// ReadEntities implements [serve.StrictServerInterface].
func (h *reviewHandlers) ReadEntities(ctx context.Context,
	r serve.ReadEntitiesRequestObject) (serve.ReadEntitiesResponseObject, error) {
	v, err := h.service.Review.ReadEntities(ctx, r.Service, readingOf(r.Body))
	if err != nil {
		return nil, err
	}
	return serve.ReadEntities200JSONResponse{Entities: v.Entities, Notes: append([]string{}, v.Notes...),
		Differences: each(v.Differences, func(d catalog.Difference) wire.CatalogueDifference {
			out := wire.CatalogueDifference{ID: d.ID(), Kind: wire.CatalogueDifferenceKind(d.Kind), Entity: d.Entity,
				Name: some(d.Name), Was: some(d.Was), Is: some(d.Is)}
			if v.Sketch != nil && d.Kind == catalog.NewEntity {
				if o := v.Sketch.Object(d.Entity); o != nil {
					out.Sure = some(o.Sure)
				}
			}
			return out
		})}, nil
}

// TakeEntities implements [serve.StrictServerInterface].
func (h *reviewHandlers) TakeEntities(ctx context.Context,
	r serve.TakeEntitiesRequestObject) (serve.TakeEntitiesResponseObject, error) {
	v, _, err := h.service.Review.TakeEntities(ctx, callerOf(ctx), r.Service, review.Taking{Reading: readingOf(r.Body),
		Differences: value(r.Body.Take), Base: value(r.Body.Base), Reason: value(r.Body.Reason)})
	return serve.TakeEntities200JSONResponse(revisionOf(v, err == nil)), err
}

// GetExposure implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetExposure(ctx context.Context,
	r serve.GetExposureRequestObject) (serve.GetExposureResponseObject, error) {
	m, err := h.service.Review.Map(ctx, r.Service, review.MapFilter{Entity: value(r.Params.Entity),
		Class: string(value(r.Params.Class)), Team: value(r.Params.Team), Audience: value(r.Params.Audience)})
	if err != nil {
		return nil, err
	}
	numbers := map[review.FlowState]int{review.FlowGranted: 1, review.FlowPromised: 2, review.FlowLeaking: 3}
	const own = 3 // more, for what is granted of the caller's own records only
	return serve.GetExposure200JSONResponse{
		Rows: each(m.Rows, func(r review.MapRow) wire.ExposureRow {
			return wire.ExposureRow{Entity: r.Entity, Field: r.Field, Class: classOf(r.Class)}
		}),
		Columns: each(m.Columns, func(c review.MapColumn) wire.ExposureColumn {
			return wire.ExposureColumn{Endpoint: c.Endpoint, EndpointID: c.EndpointID, Audience: c.Audience,
				Team: some(c.Team)}
		}),
		Cells: each(m.Cells, func(c review.MapCell) []int {
			if c.Own && c.State != review.FlowLeaking {
				return []int{c.Row, c.Column, own + numbers[c.State]}
			}
			return []int{c.Row, c.Column, numbers[c.State]}
		}),
	}, nil
}

package httpapi

import (
	"context"
	"errors"
	"io"
	"mime/multipart"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/draft"
	"inkret/service/base"
	"inkret/service/begin"
	"inkret/service/review"
)

// ListDrafts implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListDrafts(ctx context.Context,
	_ serve.ListDraftsRequestObject) (serve.ListDraftsResponseObject, error) {
	all, err := h.service.Begin.Drafts(ctx)
	return serve.ListDrafts200JSONResponse(each(all, func(d begin.Line) wire.FirstDraftLine {
		return wire.FirstDraftLine{ID: d.ID, Service: d.Service, Sources: d.Sources, Author: d.Author,
			Created: d.Created,
			Changed: d.Changed, Open: d.Open}
	})), err
}

// BeginDraft implements [serve.StrictServerInterface].
func (h *reviewHandlers) BeginDraft(ctx context.Context,
	r serve.BeginDraftRequestObject) (serve.BeginDraftResponseObject, error) {
	d, err := h.service.Begin.Begin(ctx, callerOf(ctx), value(r.Params.Service), value(r.Params.Like), filesIn(r.Body))
	if err != nil {
		return nil, err
	}
	return serve.BeginDraft200JSONResponse(firstDraftOf(d)), nil
}

// filesIn returns the files of a form one after another, then io.EOF.
func filesIn(form *multipart.Reader) func() (begin.File, error) {
	return func() (begin.File, error) {
		if form == nil {
			return begin.File{}, io.EOF
		}
		for {
			part, err := form.NextPart()
			switch {
			case errors.Is(err, io.EOF):
				return begin.File{}, io.EOF
			case err != nil:
				return begin.File{}, base.NewProblem(base.Invalid, "", "the form cannot be read: %v", err)
			case part.FileName() != "":
				return begin.File{Name: part.FileName(), Data: part}, nil
			}
		}
	}
}

// GetDraft implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetDraft(ctx context.Context,
	r serve.GetDraftRequestObject) (serve.GetDraftResponseObject, error) {
	d, err := h.service.Begin.Draft(ctx, r.DraftID)
	if err != nil {
		return nil, err
	}
	return serve.GetDraft200JSONResponse(firstDraftOf(d)), nil
}

// AnswerDraft implements [serve.StrictServerInterface].
func (h *reviewHandlers) AnswerDraft(ctx context.Context,
	r serve.AnswerDraftRequestObject) (serve.AnswerDraftResponseObject, error) {
	d, err := h.service.Begin.Answer(ctx, r.DraftID, begin.Change{Service: value(r.Body.Service),
		AsSuggested: value(r.Body.AsSuggested),
		Answers: each(value(r.Body.Answers), func(a wire.DraftAnswer) draft.Answer {
			return draft.Answer{Question: a.Question, Answer: a.Answer}
		})})
	if err != nil {
		return nil, err
	}
	return serve.AnswerDraft200JSONResponse(firstDraftOf(d)), nil
}

// DropDraft implements [serve.StrictServerInterface].
func (h *reviewHandlers) DropDraft(ctx context.Context,
	r serve.DropDraftRequestObject) (serve.DropDraftResponseObject, error) {
	if err := h.service.Begin.Drop(ctx, callerOf(ctx), r.DraftID); err != nil {
		return nil, err
	}
	return serve.DropDraft204Response{}, nil
}

// ApplyDraft implements [serve.StrictServerInterface].
func (h *reviewHandlers) ApplyDraft(ctx context.Context,
	r serve.ApplyDraftRequestObject) (serve.ApplyDraftResponseObject, error) {
	v, err := h.service.Begin.Apply(ctx, callerOf(ctx), r.DraftID, storedFiles(value(r.Body.Files)),
		value(r.Body.Reason))
	if err != nil {
		return nil, err
	}
	return serve.ApplyDraft200JSONResponse(revisionOf(v, true)), nil
}

func firstDraftOf(d *begin.Draft) wire.FirstDraft {
	out := wire.FirstDraft{ID: d.ID, Service: d.Service, Sources: d.Sources, Author: d.Author, Created: d.Created,
		Changed: d.Changed, Recordings: d.Recordings, Endpoints: d.Written.Endpoints, Entities: d.Written.Entities,
		Audiences: each(d.Written.Audiences, same), Answered: d.Written.Answered, Files: filesOf(d.Files),
		Notes: each(d.Notes, same)}
	out.Answers = each(d.Answers, func(a draft.Answer) wire.DraftAnswer {
		return wire.DraftAnswer{Question: a.Question, Answer: a.Answer}
	})
	out.Questions = each(d.Written.Questions, func(q draft.Question) wire.DraftQuestion {
		return wire.DraftQuestion{ID: q.ID, Entity: some(q.Entity), Field: some(q.Field), Text: q.Text,
			Concerns: each(q.Concerns, draft.Field.String), Suggestion: q.Suggestion,
			Certainty: wire.DraftQuestionCertainty(q.Certainty), Answers: q.Answers}
	})
	out.Fields = each(d.Written.Fields, func(f draft.Classed) wire.DraftField {
		return wire.DraftField{Entity: f.Entity, Field: f.Field.Field, Form: f.Form, Class: classOf(f.Class),
			Granted: f.Granted, Out: f.Out, Single: f.Single}
	})
	return out
}

func same(s string) string { return s }

// ListAlike implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListAlike(ctx context.Context,
	r serve.ListAlikeRequestObject) (serve.ListAlikeResponseObject, error) {
	all, err := h.service.Review.Alike(ctx, r.Service)
	return serve.ListAlike200JSONResponse(each(all, func(a review.Alike) wire.Alike {
		return wire.Alike{Endpoint: a.Endpoint, Endpoints: a.Endpoints, Captures: a.Captures}
	})), err
}

// MakeOne implements [serve.StrictServerInterface].
func (h *reviewHandlers) MakeOne(ctx context.Context,
	r serve.MakeOneRequestObject) (serve.MakeOneResponseObject, error) {
	v, err := h.service.Review.MakeOne(ctx, callerOf(ctx), r.Service, r.Body.Endpoint)
	if err != nil {
		return nil, err
	}
	return serve.MakeOne200JSONResponse(revisionOf(v, true)), nil
}

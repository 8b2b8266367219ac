package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service/base"
	"inkret/service/people"
)

// ChangePassword implements [serve.StrictServerInterface].
func (h *peopleHandlers) ChangePassword(ctx context.Context,
	r serve.ChangePasswordRequestObject) (serve.ChangePasswordResponseObject, error) {
	return serve.ChangePassword204Response{}, h.service.People.ChangePassword(ctx, callerOf(ctx), r.Body.Old,
		r.Body.New)
}

// ListSessions implements [serve.StrictServerInterface].
func (h *peopleHandlers) ListSessions(ctx context.Context,
	_ serve.ListSessionsRequestObject) (serve.ListSessionsResponseObject, error) {
	who := callerOf(ctx)
	all, err := h.service.People.Sessions(ctx, who)
	return serve.ListSessions200JSONResponse(each(all, func(k base.Key) wire.Session {
		return wire.Session{ID: k.ID, Created: k.Created, Expires: k.Expires, LastUsed: someTime(k.LastUsed),
			Current: k.ID == who.Key.ID}
	})), err
}

// EndSession implements [serve.StrictServerInterface].
func (h *peopleHandlers) EndSession(ctx context.Context,
	r serve.EndSessionRequestObject) (serve.EndSessionResponseObject, error) {
	return serve.EndSession204Response{}, h.service.People.EndSession(ctx, callerOf(ctx), r.SessionID)
}

// GetSecondFactor implements [serve.StrictServerInterface].
func (h *peopleHandlers) GetSecondFactor(ctx context.Context,
	_ serve.GetSecondFactorRequestObject) (serve.GetSecondFactorResponseObject, error) {
	on, left, err := h.service.People.Factor(ctx, callerOf(ctx))
	return serve.GetSecondFactor200JSONResponse{On: on, RecoveryLeft: left}, err
}

// BeginSecondFactor implements [serve.StrictServerInterface].
func (h *peopleHandlers) BeginSecondFactor(ctx context.Context,
	r serve.BeginSecondFactorRequestObject) (serve.BeginSecondFactorResponseObject, error) {
	f, err := h.service.People.BeginFactor(ctx, callerOf(ctx), r.Body.Password)
	if err != nil {
		return nil, err
	}
	return serve.BeginSecondFactor200JSONResponse{Secret: f.Secret, URL: f.URL, Picture: f.PNG}, nil
}

// ConfirmSecondFactor implements [serve.StrictServerInterface].
func (h *peopleHandlers) ConfirmSecondFactor(ctx context.Context,
	r serve.ConfirmSecondFactorRequestObject) (serve.ConfirmSecondFactorResponseObject, error) {
	codes, err := h.service.People.ConfirmFactor(ctx, callerOf(ctx), r.Body.Code)
	if err != nil {
		return nil, err
	}
	return serve.ConfirmSecondFactor200JSONResponse{Codes: codes}, nil
}

// EndSecondFactor implements [serve.StrictServerInterface].
func (h *peopleHandlers) EndSecondFactor(ctx context.Context,
	r serve.EndSecondFactorRequestObject) (serve.EndSecondFactorResponseObject, error) {
	return serve.EndSecondFactor204Response{}, h.service.People.EndFactor(ctx, callerOf(ctx), r.Body.Password,
		r.Body.Code)
}

// ChangePerson implements [serve.StrictServerInterface].
func (h *peopleHandlers) ChangePerson(ctx context.Context,
	r serve.ChangePersonRequestObject) (serve.ChangePersonResponseObject, error) {
	w := people.PersonWish{Active: r.Body.Active, Roles: map[string]string{}}
	if r.Body.Role != nil {
		text := string(*r.Body.Role)
		w.Role = &text
	}
	for _, at := range value(r.Body.ServiceRoles) {
		w.Roles[at.Service] = string(value(at.Role))
	}
	p, err := h.service.People.ChangePerson(ctx, callerOf(ctx), r.PersonID, w)
	if err != nil {
		return nil, err
	}
	return serve.ChangePerson200JSONResponse(personOf(p)), nil
}

// ResetPassword implements [serve.StrictServerInterface].
func (h *peopleHandlers) ResetPassword(ctx context.Context,
	r serve.ResetPasswordRequestObject) (serve.ResetPasswordResponseObject, error) {
	p, code, err := h.service.People.ResetLink(ctx, callerOf(ctx), r.PersonID)
	if err != nil {
		return nil, err
	}
	return serve.ResetPassword201JSONResponse{Person: personOf(p), Link: SetupLink(h.options.Public, code)}, nil
}

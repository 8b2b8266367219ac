package httpapi

import (
	"context"

	"inkret/service/base"
	"inkret/service/people"
)

// ChangePassword implements [StrictServerInterface].
func (h *peopleHandlers) ChangePassword(ctx context.Context,
	r ChangePasswordRequestObject) (ChangePasswordResponseObject, error) {
	return ChangePassword204Response{}, h.service.People.ChangePassword(ctx, callerOf(ctx), r.Body.Old, r.Body.New)
}

// ListSessions implements [StrictServerInterface].
func (h *peopleHandlers) ListSessions(ctx context.Context, _ ListSessionsRequestObject) (ListSessionsResponseObject, error) {
	who := callerOf(ctx)
	all, err := h.service.People.Sessions(ctx, who)
	return ListSessions200JSONResponse(each(all, func(k base.Key) Session {
		return Session{ID: k.ID, Created: k.Created, Expires: k.Expires, LastUsed: someTime(k.LastUsed),
			Current: k.ID == who.Key.ID}
	})), err
}

// EndSession implements [StrictServerInterface].
func (h *peopleHandlers) EndSession(ctx context.Context, r EndSessionRequestObject) (EndSessionResponseObject, error) {
	return EndSession204Response{}, h.service.People.EndSession(ctx, callerOf(ctx), r.SessionID)
}

// GetSecondFactor implements [StrictServerInterface].
func (h *peopleHandlers) GetSecondFactor(ctx context.Context,
	_ GetSecondFactorRequestObject) (GetSecondFactorResponseObject, error) {
	on, left, err := h.service.People.Factor(ctx, callerOf(ctx))
	return GetSecondFactor200JSONResponse{On: on, RecoveryLeft: left}, err
}

// BeginSecondFactor implements [StrictServerInterface].
func (h *peopleHandlers) BeginSecondFactor(ctx context.Context,
	r BeginSecondFactorRequestObject) (BeginSecondFactorResponseObject, error) {
	f, err := h.service.People.BeginFactor(ctx, callerOf(ctx), r.Body.Password)
	if err != nil {
		return nil, err
	}
	return BeginSecondFactor200JSONResponse{Secret: f.Secret, URL: f.URL, Picture: f.PNG}, nil
}

// ConfirmSecondFactor implements [StrictServerInterface].
func (h *peopleHandlers) ConfirmSecondFactor(ctx context.Context,
	r ConfirmSecondFactorRequestObject) (ConfirmSecondFactorResponseObject, error) {
	codes, err := h.service.People.ConfirmFactor(ctx, callerOf(ctx), r.Body.Code)
	if err != nil {
		return nil, err
	}
	return ConfirmSecondFactor200JSONResponse{Codes: codes}, nil
}

// EndSecondFactor implements [StrictServerInterface].
func (h *peopleHandlers) EndSecondFactor(ctx context.Context,
	r EndSecondFactorRequestObject) (EndSecondFactorResponseObject, error) {
	return EndSecondFactor204Response{}, h.service.People.EndFactor(ctx, callerOf(ctx), r.Body.Password, r.Body.Code)
}

// ChangePerson implements [StrictServerInterface].
func (h *peopleHandlers) ChangePerson(ctx context.Context, r ChangePersonRequestObject) (ChangePersonResponseObject, error) {
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
	return ChangePerson200JSONResponse(personOf(p)), nil
}

// ResetPassword implements [StrictServerInterface].
func (h *peopleHandlers) ResetPassword(ctx context.Context,
	r ResetPasswordRequestObject) (ResetPasswordResponseObject, error) {
	p, code, err := h.service.People.ResetLink(ctx, callerOf(ctx), r.PersonID)
	if err != nil {
		return nil, err
	}
	return ResetPassword201JSONResponse{Person: personOf(p), Link: SetupLink(h.options.Public, code)}, nil
}

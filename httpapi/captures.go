package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/compare"
	"inkret/core/exchange"
	"inkret/service/base"
	"inkret/service/evidence"
)

// PreviewWithdrawal implements [serve.StrictServerInterface].
func (h *evidenceHandlers) PreviewWithdrawal(ctx context.Context,
	r serve.PreviewWithdrawalRequestObject) (serve.PreviewWithdrawalResponseObject, error) {
	o, err := h.service.Evidence.Withdrawal(ctx, r.BatchID)
	return serve.PreviewWithdrawal200JSONResponse{Captures: o.Captures, Gone: each(o.Gone, findingOf),
		Stay: each(o.Stay, findingOf), Fewer: o.Fewer}, err
}

// WithdrawBatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) WithdrawBatch(ctx context.Context,
	r serve.WithdrawBatchRequestObject) (serve.WithdrawBatchResponseObject, error) {
	err := h.service.Evidence.Withdraw(ctx, callerOf(ctx), r.BatchID, r.Body.Reason)
	if waiting, err := h.waiting(ctx, r.BatchID, err); waiting != nil || err != nil {
		return serve.WithdrawBatch202JSONResponse(value(waiting)), err
	}
	return serve.WithdrawBatch204Response{}, nil
}

// CorrectBatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) CorrectBatch(ctx context.Context,
	r serve.CorrectBatchRequestObject) (serve.CorrectBatchResponseObject, error) {
	b, err := h.service.Evidence.Correct(ctx, callerOf(ctx), r.BatchID, evidence.Said{Audience: value(r.Body.Audience),
		Mapping: value(r.Body.Audiences)})
	if waiting, err := h.waiting(ctx, r.BatchID, err); waiting != nil || err != nil {
		return serve.CorrectBatch202JSONResponse(value(waiting)), err
	}
	return serve.CorrectBatch200JSONResponse(batchOf(b)), nil
}

// waiting returns the change that now waits for a second person, if err says so; otherwise err.
func (h *evidenceHandlers) waiting(ctx context.Context, batch int64, err error) (*wire.WaitingChange, error) {
	var waits *evidence.Waits
	if !errors.As(err, &waits) {
		return nil, err
	}
	a, err := h.service.Evidence.Asking(ctx, batch)
	return waitingOf(a), err
}

func waitingOf(a *base.Asking) *wire.WaitingChange {
	if a == nil {
		return nil
	}
	var say evidence.Said
	json.Unmarshal([]byte(a.Say), &say) // written by the service itself
	return &wire.WaitingChange{What: wire.WaitingChangeWhat(a.What), By: wire.Assignee{ID: a.PersonID, Name: a.Author},
		At:     a.At,
		Reason: a.Reason, Audience: some(say.Audience), Audiences: some(say.Mapping), Findings: a.Findings}
}

// DeclineBatchChange implements [serve.StrictServerInterface].
func (h *evidenceHandlers) DeclineBatchChange(ctx context.Context,
	r serve.DeclineBatchChangeRequestObject) (serve.DeclineBatchChangeResponseObject, error) {
	return serve.DeclineBatchChange204Response{}, h.service.Evidence.DeclineAsking(ctx, callerOf(ctx), r.BatchID,
		value(r.Params.Comment))
}

// OpenLive implements [serve.StrictServerInterface].
func (h *evidenceHandlers) OpenLive(ctx context.Context,
	r serve.OpenLiveRequestObject) (serve.OpenLiveResponseObject, error) {
	b, err := h.service.Evidence.OpenLive(ctx, callerOf(ctx), r.Service, r.Body.Name, value(r.Body.Audience))
	return serve.OpenLive201JSONResponse(batchOf(b)), err
}

// ExtendLive implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ExtendLive(ctx context.Context,
	r serve.ExtendLiveRequestObject) (serve.ExtendLiveResponseObject, error) {
	b, err := h.service.Evidence.ExtendLive(ctx, callerOf(ctx), r.BatchID, r.Chunk, value(r.Params.Dropped), r.Body)
	return serve.ExtendLive200JSONResponse(batchOf(b)), err
}

// CloseLive implements [serve.StrictServerInterface].
func (h *evidenceHandlers) CloseLive(ctx context.Context,
	r serve.CloseLiveRequestObject) (serve.CloseLiveResponseObject, error) {
	b, err := h.service.Evidence.CloseLive(ctx, callerOf(ctx), r.BatchID, value(r.Params.Dropped))
	return serve.CloseLive200JSONResponse(batchOf(b)), err
}

// stillThere is how often a keep-alive is sent on an idle stream, so that proxies do not close the connection.
const stillThere = 15 * time.Second

// WatchLive implements [serve.StrictServerInterface].
func (h *evidenceHandlers) WatchLive(ctx context.Context,
	r serve.WatchLiveRequestObject) (serve.WatchLiveResponseObject, error) {
	watcher := h.service.Evidence.Watch(value(r.Params.Service))
	out, in := io.Pipe()
	go func() {
		defer watcher.Stop()
		in.CloseWithError(h.stream(ctx, callerOf(ctx), watcher, in))
	}()
	return serve.WatchLive200TextEventStreamResponse{Body: out}, nil
}

// stream sends what a watcher receives as server-sent events (HTML standard, section 9.2) until ctx ends, the
// service stops, or the caller loses permission.
func (h *evidenceHandlers) stream(ctx context.Context, who base.Caller, watcher *evidence.Watcher, w io.Writer) error {
	if _, err := io.WriteString(w, ": watching\n\n"); err != nil {
		return err
	}
	for {
		event, data := "", any(nil)
		revoked := h.service.People.Revocation()
		if err := h.service.People.StillThere(ctx, who, base.Viewer, base.ScopeRead); err != nil {
			_, err = io.WriteString(w, "event: signed-out\ndata: {}\n\n")
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-revoked:
			continue
		case <-h.options.Stopping:
			return nil
		case <-time.After(stillThere):
			if _, err := io.WriteString(w, ": still there\n\n"); err != nil {
				return err
			}
			continue
		case c := <-watcher.Calls:
			event, data = "call", liveCallOf(c)
			if c.Capture.ID == 0 {
				event, data = "end", batchOf(c.Batch)
			}
		}
		text, err := json.Marshal(data)
		if err != nil {
			return err
		}
		if n := watcher.Missed(); n > 0 {
			if _, err := fmt.Fprintf(w, "event: missed\ndata: %d\n\n", n); err != nil {
				return err
			}
		}
		if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, text); err != nil {
			return err
		}
	}
}

func liveCallOf(c evidence.LiveCall) wire.LiveCall {
	return wire.LiveCall{Capture: captureOf(c.Capture), Batch: batchOf(c.Batch), Findings: each(c.Findings,
		func(f evidence.LiveFinding) wire.LiveFinding {
			return wire.LiveFinding{ID: f.ID, Kind: f.Kind, Path: f.Path, Severity: severityOf(f.Severity)}
		})}
}

// RepeatCalls implements [serve.StrictServerInterface].
func (h *evidenceHandlers) RepeatCalls(ctx context.Context,
	r serve.RepeatCallsRequestObject) (serve.RepeatCallsResponseObject, error) {
	b, err := h.service.Evidence.Repeat(ctx, callerOf(ctx), evidence.Again{Capture: value(r.Body.Capture),
		Endpoint: value(r.Body.Endpoint), Batch: value(r.Body.Batch),
		Audience: value(r.Body.Audience), Person: value(r.Body.Person), Writes: value(r.Body.Writes)})
	return serve.RepeatCalls201JSONResponse(batchOf(b)), err
}

// ListCredentials implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListCredentials(ctx context.Context,
	r serve.ListCredentialsRequestObject) (serve.ListCredentialsResponseObject, error) {
	all, err := h.service.Evidence.Credentials(ctx, r.Service)
	return serve.ListCredentials200JSONResponse(each(all, func(c base.Credentials) wire.KeptCredentials {
		return wire.KeptCredentials{Audience: c.Audience, Person: some(c.Person), Names: c.Names, Author: c.Author,
			At: c.At}
	})), err
}

// SetCredentials implements [serve.StrictServerInterface].
func (h *evidenceHandlers) SetCredentials(ctx context.Context,
	r serve.SetCredentialsRequestObject) (serve.SetCredentialsResponseObject, error) {
	fields := each(r.Body.Headers, func(f wire.Header) exchange.HeaderField {
		return exchange.HeaderField{Name: f.Name,
			Value: f.Value}
	})
	return serve.SetCredentials204Response{}, h.service.Evidence.SetCredentials(ctx, callerOf(ctx), r.Service,
		evidence.CallAs{Audience: r.Audience, Person: value(r.Params.Person)}, fields)
}

// RemoveCredentials implements [serve.StrictServerInterface].
func (h *evidenceHandlers) RemoveCredentials(ctx context.Context,
	r serve.RemoveCredentialsRequestObject) (serve.RemoveCredentialsResponseObject, error) {
	return serve.RemoveCredentials204Response{}, h.service.Evidence.SetCredentials(ctx, callerOf(ctx), r.Service,
		evidence.CallAs{Audience: r.Audience, Person: value(r.Params.Person)}, nil)
}

// ListServers implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListServers(ctx context.Context,
	r serve.ListServersRequestObject) (serve.ListServersResponseObject, error) {
	all, err := h.service.Evidence.Servers(ctx, r.Service)
	return serve.ListServers200JSONResponse(each(all, func(s evidence.CalledServer) wire.CalledServer {
		return wire.CalledServer{Server: s.Server, Allowed: s.Allowed, Address: some(s.Address), Author: some(s.Author),
			At: someTime(s.At)}
	})), err
}

// AllowServer implements [serve.StrictServerInterface].
func (h *evidenceHandlers) AllowServer(ctx context.Context,
	r serve.AllowServerRequestObject) (serve.AllowServerResponseObject, error) {
	return serve.AllowServer204Response{}, h.service.Evidence.AllowServer(ctx, callerOf(ctx), r.Service, r.Body.Server,
		value(r.Body.Address))
}

// ForbidServer implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ForbidServer(ctx context.Context,
	r serve.ForbidServerRequestObject) (serve.ForbidServerResponseObject, error) {
	return serve.ForbidServer204Response{}, h.service.Evidence.ForbidServer(ctx, callerOf(ctx), r.Service,
		r.Params.Server)
}

// GetKeeping implements [serve.StrictServerInterface].
func (h *evidenceHandlers) GetKeeping(ctx context.Context,
	r serve.GetKeepingRequestObject) (serve.GetKeepingResponseObject, error) {
	k, err := h.service.Evidence.Keeping(ctx, r.Service)
	return serve.GetKeeping200JSONResponse{Days: k.Days, Bodies: k.Bodies}, err
}

// SetKeeping implements [serve.StrictServerInterface].
func (h *evidenceHandlers) SetKeeping(ctx context.Context,
	r serve.SetKeepingRequestObject) (serve.SetKeepingResponseObject, error) {
	err := h.service.Evidence.SetKeeping(ctx, callerOf(ctx), r.Service, base.KeepingTime{Days: r.Body.Days,
		Bodies: r.Body.Bodies})
	return serve.SetKeeping200JSONResponse(*r.Body), err
}

// CompareCaptures implements [serve.StrictServerInterface].
func (h *evidenceHandlers) CompareCaptures(ctx context.Context,
	r serve.CompareCapturesRequestObject) (serve.CompareCapturesResponseObject, error) {
	c, err := h.service.Evidence.Compare(ctx, r.Params.Before, r.Params.After)
	return serve.CompareCaptures200JSONResponse{Before: captureOf(c.Before), After: captureOf(c.After),
		Places: each(c.Places, func(p evidence.ComparedPlace) wire.ComparedPlace {
			return wire.ComparedPlace{Path: p.Path, From: some(p.From), Shift: wire.ComparedPlaceShift(p.Shift),
				Before: bodyPlaceOf(p.Before), After: bodyPlaceOf(p.After), Below: some(p.Below), Saved: p.Saved(),
				Leaked: some(p.Leaked), Leaks: some(p.Leaks)}
		})}, err
}

func bodyPlaceOf(p *compare.BodyPlace) *wire.BodyPlace {
	if p == nil {
		return nil
	}
	return &wire.BodyPlace{Types: p.Types, Values: p.Values, Bytes: p.Bytes}
}

// RevealValue implements [serve.StrictServerInterface].
func (h *evidenceHandlers) RevealValue(ctx context.Context,
	r serve.RevealValueRequestObject) (serve.RevealValueResponseObject, error) {
	v, err := h.service.Evidence.Reveal(ctx, callerOf(ctx), r.CaptureID, r.Body.Pointer, r.Body.Reason)
	return serve.RevealValue200JSONResponse{Value: v}, err
}

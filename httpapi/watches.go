package httpapi

import (
	"context"
	"time"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/timetable"
	"inkret/service/base"
	"inkret/service/evidence"
)

// ListWatches implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListWatches(ctx context.Context,
	r serve.ListWatchesRequestObject) (serve.ListWatchesResponseObject, error) {
	all, err := h.service.Evidence.Watches(ctx, value(r.Params.Service))
	return serve.ListWatches200JSONResponse(each(all, watchOf)), err
}

// MakeWatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) MakeWatch(ctx context.Context,
	r serve.MakeWatchRequestObject) (serve.MakeWatchResponseObject, error) {
	v, err := h.service.Evidence.MakeWatch(ctx, callerOf(ctx), r.Service, watchSaid(r.Body))
	return serve.MakeWatch201JSONResponse(watchDetailOf(v)), err
}

// ListWatchable implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListWatchable(ctx context.Context,
	r serve.ListWatchableRequestObject) (serve.ListWatchableResponseObject, error) {
	all, err := h.service.Evidence.Propose(ctx, r.Service)
	return serve.ListWatchable200JSONResponse(each(all, func(p evidence.Proposed) wire.WatchableCall {
		return wire.WatchableCall{CaptureID: p.ID, Method: p.Method, URL: p.URL, Endpoint: p.Endpoint,
			EndpointID: p.EndpointID, Audience: p.Audience, Why: p.Why}
	})), err
}

// GetWatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) GetWatch(ctx context.Context,
	r serve.GetWatchRequestObject) (serve.GetWatchResponseObject, error) {
	v, err := h.service.Evidence.WatchOf(ctx, r.WatchID)
	return serve.GetWatch200JSONResponse(watchDetailOf(v)), err
}

// ChangeWatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ChangeWatch(ctx context.Context,
	r serve.ChangeWatchRequestObject) (serve.ChangeWatchResponseObject, error) {
	v, err := h.service.Evidence.ChangeWatch(ctx, callerOf(ctx), r.WatchID, watchSaid(r.Body))
	return serve.ChangeWatch200JSONResponse(watchDetailOf(v)), err
}

// RemoveWatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) RemoveWatch(ctx context.Context,
	r serve.RemoveWatchRequestObject) (serve.RemoveWatchResponseObject, error) {
	return serve.RemoveWatch204Response{}, h.service.Evidence.RemoveWatch(ctx, callerOf(ctx), r.WatchID)
}

// RunWatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) RunWatch(ctx context.Context,
	r serve.RunWatchRequestObject) (serve.RunWatchResponseObject, error) {
	v, err := h.service.Evidence.RunWatch(ctx, callerOf(ctx), r.WatchID)
	return serve.RunWatch201JSONResponse(watchDetailOf(v)), err
}

func watchSaid(s *wire.WatchSaid) evidence.WatchSaid {
	out := evidence.WatchSaid{Name: s.Name, Captures: value(s.Captures), Server: s.Server, Window: s.Window,
		PerMinute: s.PerMinute, Paused: s.Paused}
	if s.Callers != nil {
		out.Callers = each(*s.Callers, func(c wire.WatchCaller) evidence.CallAs {
			return evidence.CallAs{Audience: c.Audience, Person: value(c.Person)}
		})
	}
	if s.EveryHours != nil {
		every := time.Duration(*s.EveryHours) * time.Hour
		out.Every = &every
	}
	return out
}

func watchOf(w base.Watch) wire.Watch {
	out := wire.Watch{ID: w.ID, Service: w.Service, Name: w.Name, Owner: wire.Assignee{ID: w.PersonID, Name: w.Person},
		Server: some(w.Server), EveryHours: int(w.Every / time.Hour), PerMinute: w.PerMinute, Paused: w.Paused,
		Window:  some(timetable.Plan{Begins: w.Begins, Ends: w.Ends}.Window()),
		Failing: some(w.Failing), Calls: w.Calls, Created: w.Created,
		Callers: each(w.Callers, func(c base.WatchCaller) wire.WatchCaller {
			return wire.WatchCaller{Audience: c.Audience, Person: some(c.Person)}
		})}
	if !w.Paused {
		out.Next = someTime(w.Next)
	}
	if w.Last.ID != 0 {
		last := watchRunOf(w.Last)
		out.Last = &last
	}
	return out
}

func watchRunOf(r base.WatchRun) wire.WatchRun {
	return wire.WatchRun{ID: r.ID, Began: r.Began, BatchID: some(r.BatchID), Calls: r.Calls, Findings: r.Findings,
		Failed: some(r.Failed)}
}

func watchDetailOf(v evidence.WatchView) wire.WatchDetail {
	return wire.WatchDetail{Watch: watchOf(v.Watch), Runs: each(v.Runs, watchRunOf),
		Calls: each(v.Made, func(c base.Capture) wire.WatchCall {
			return wire.WatchCall{CaptureID: c.ID, Method: c.Method, URL: c.URL, Endpoint: c.Endpoint,
				EndpointID: c.EndpointID, Audience: c.Audience}
		})}
}

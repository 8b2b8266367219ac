package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/reports"
)

// GetStanding implements [serve.StrictServerInterface].
func (h *reportHandlers) GetStanding(ctx context.Context,
	r serve.GetStandingRequestObject) (serve.GetStandingResponseObject, error) {
	days := 90
	if r.Params.Days != nil {
		days = *r.Params.Days
	}
	s, err := h.service.Reports.Standing(ctx, base.StandingFilter{Service: value(r.Params.Service),
		Team: value(r.Params.Team)}, days)
	if err != nil {
		return nil, err
	}
	counts := func(open map[severity.Severity]int) wire.BySeverity {
		return severities(func(s severity.Severity) int { return open[s] })
	}
	worst := func(w reports.Worst) wire.Worst {
		return wire.Worst{Name: w.Name, Open: counts(w.Open), Query: w.Query}
	}
	return serve.GetStanding200JSONResponse{
		Days: each(s.Days, func(d reports.StandingDay) wire.StandingDay {
			return wire.StandingDay{Day: d.Day, Open: counts(d.Open), Found: d.Found, Closed: d.Ended}
		}),
		Proofs: each(s.Proofs, func(p reports.ProofTime) wire.ProofTime {
			return wire.ProofTime{Severity: wire.Severity(p.Severity.String()), Proofs: p.Proofs,
				MedianHours: float32(p.Median.Hours()), LongestHours: float32(p.Longest.Hours())}
		}),
		Endpoints: each(s.Endpoints, worst), Fields: each(s.Fields, worst), Teams: each(s.Teams, worst),
		Weights: each(s.Weights, func(d finding.WeighedDay) wire.WeighedDay {
			return wire.WeighedDay{Day: d.Day, Captures: d.Captures, Bytes: d.Bytes, ExcessBytes: d.Excess,
				SavedBytes: d.Saved}
		}),
		Savings: each(s.Savings, func(one reports.Saving) wire.Saving {
			return wire.Saving{EndpointID: one.Endpoint, Name: one.Name, FirstBytes: one.First, NowBytes: one.Now,
				SavedBytes: one.Saved}
		}),
	}, nil
}

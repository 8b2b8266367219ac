package httpapi

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"

	"inkret/api/serve"
	"inkret/core/severity"
	"inkret/report"
)

// endings are the file name extensions of reports, by format.
var endings = map[string]string{"html": "html", "sarif": "sarif", "junit": "xml", "csv": "csv", "markdown": "md",
	"json": "json"}

// ExportReport implements [serve.StrictServerInterface].
func (h *reportHandlers) ExportReport(ctx context.Context,
	r serve.ExportReportRequestObject) (serve.ExportReportResponseObject, error) {
	format := string(r.Params.Format)
	write, failOn := report.Writers[format], severity.Medium
	if r.Params.FailOn != nil {
		failOn, _ = severity.Parse(string(*r.Params.FailOn))
	}
	q, err := url.ParseQuery(strings.TrimPrefix(value(r.Params.Filter), "?"))
	if err != nil {
		return nil, invalid("the filter is no query: " + err.Error())
	}
	out, err := h.service.Reports.Report(ctx, callerOf(ctx), r.Service, q, failOn)
	if err != nil {
		return nil, err
	}
	out.Version = h.options.Version
	in, body := io.Pipe() // it is sent while it is written
	go func() { body.CloseWithError(write(body, out)) }()
	context.AfterFunc(ctx, func() { in.Close() })
	name := fmt.Sprintf(`attachment; filename="%s-%s.%s"`, r.Service, out.Audit.At.UTC().Format("2006-01-02"),
		endings[format])
	return serve.ExportReport200ApplicationOctetStreamResponse{Body: in,
		Headers: serve.ExportReport200ResponseHeaders{ContentDisposition: &name}}, nil
}

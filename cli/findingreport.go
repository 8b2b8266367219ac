package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/core/severity"
	"inkret/report"
)

func (a *app) findingReportCommand() *cli.Command {
	formats := slices.DeleteFunc(slices.Clone(report.Formats), func(f string) bool { return f == "table" })
	return &cli.Command{
		Name: "report", Usage: "write what the service tracks as a report",
		Description: `The formats are those of check: html is one page for an auditor that prints well, sarif,
junit, csv, markdown and json are for other programs. Waived findings are marked as excepted.

    inkret finding report --format html -o risk.html
    inkret finding report --format csv --state any --team reservations -o findings.csv
    inkret finding report --format json -o baseline.json    # for inkret check --baseline`,
		Flags: append(filterFlags("service", "sort"), &cli.StringFlag{Name: "service",
			Usage: "the service's `NAME`; may be left out when there is one only"},
			&cli.StringFlag{Name: "format", Value: "html", Usage: strings.Join(formats, ", ")},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"},
				Usage: "the `FILE` to write; standard output otherwise", TakesFile: true},
			&cli.StringFlag{Name: "fail-on", Value: "medium",
				Usage: "the least `SEVERITY` that counts as failing: critical, high, medium, low or info"}),
		ShellComplete: completeValues(map[string][]string{"format": formats, "fail-on": severity.Names()}),
		Action:        a.reportFindings,
	}
}

func (a *app) reportFindings(ctx context.Context, c *cli.Command) error {
	format := c.String("format")
	if report.Writers[format] == nil {
		return usage(c, fmt.Errorf("there is no format %q", format))
	}
	failOn, ok := severity.Parse(c.String("fail-on"))
	if !ok {
		return usage(c, fmt.Errorf("there is no severity %q", c.String("fail-on")))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return err
	}
	filter := url.Values{}
	if err := filtered(c, filter); err != nil {
		return err
	}
	filter.Del("service")
	response, err := r.ExportReport(ctx, service,
		&wire.ExportReportParams{Format: wire.ExportReportParamsFormat(format), Filter: some(filter.Encode()),
			FailOn: some(wire.Severity(failOn.String()))})
	if err != nil || response.StatusCode > 299 {
		return answer(response, err, nil)
	}
	defer response.Body.Close()
	path := c.String("output")
	if path == "" {
		_, err := io.Copy(a.out, response.Body)
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fileError(err)
	}
	_, err = io.Copy(f, response.Body)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	a.say("What is tracked of %s is in %s.", service, path)
	return nil
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/core/severity"
	"inkret/intake"
	"inkret/report"
)

func (a *app) checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "judge recordings against contracts, without a service",
		ArgsUsage: "FILE…",
		Description: `Reads recordings ("-" is standard input, of a folder all that is in it) and prints
what leaks. Without --contracts the bodies are swept for sensitive values and
names alone. Recordings are HAR 1.2, HTTP messages as curl -i prints them, WARC and
capture lines, also packed with gzip, zstd or zip; they are told by their content.
Values for --contracts, --server, --fail-on, --baseline and --service may stand in
.inkret.yaml of the repository, and in INKRET_CONTRACTS and so on.

Exit status: 0 nothing at or above --fail-on, 1 something, 2 it could not judge.

    inkret check monday.har
    inkret check --contracts contracts/ --fail-on high monday.har tuesday.har
    inkret check --contracts contracts/ --baseline main.json --format sarif run.har > leaks.sarif
    inkret check --contracts api.yaml --audience skipper --format json - < run.har
    inkret check --contracts contracts/ --send --line berth-plans run.har
    curl -i https://api.example/v1/berths | inkret check --request "GET https://api.example/v1/berths" -`,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "contracts",
				Usage:     "contract file or folder (`PATH`); may be repeated, and all files are one document",
				TakesFile: true, Sources: a.said("contracts")},
			audienceFlag(), mappingFlag(), requestFlag(),
			&cli.StringSliceFlag{Name: "server", Usage: "a base `URL` of the service, beside those of the contract",
				Sources: a.said("servers")},
			&cli.StringFlag{Name: "format", Value: "table", Usage: strings.Join(report.Formats, ", ")},
			&cli.StringFlag{Name: "baseline",
				Usage:     "the `FILE` of an earlier --format json: what it has is known, and does not fail",
				TakesFile: true, Sources: a.said("baseline")},
			&cli.StringFlag{Name: "fail-on", Value: "medium",
				Usage:   "the least `SEVERITY` that fails: critical, high, medium, low or info",
				Sources: a.said("fail-on")},
			&cli.BoolFlag{Name: "send",
				Usage: "send the result to the service too; then only what is new on the line " +
					"and undecided there fails"},
			&cli.StringFlag{Name: "line", Value: "main",
				Usage: "with --send: the `NAME` of the line of development"},
			&cli.StringFlag{Name: "revision", Usage: "with --send: the revision of the program that was checked"},
			&cli.StringFlag{Name: "link", Usage: "with --send: the `URL` of the pipeline's own page"},
			&cli.StringFlag{Name: "service", Usage: "with --send: the service's `NAME`; the contract's otherwise",
				Sources: a.said("service")},
		},
		ShellComplete: completeValues(map[string][]string{"format": report.Formats, "fail-on": severity.Names()}),
		Action:        a.check,
	}
}

// checkRun is one run of check.
type checkRun struct {
	*app
	ctx       context.Context // its end ends the run, with what was found so far
	contracts *contract.Contracts
	audience  string
	mapping   *contract.Mapping
	reading   intake.Options
	service   string
	collector *finding.Collector
	judges    []*scan.Judge // one for each processor
	files     []recordingFile
	once      bool           // something could not be kept, so all is read once
	again     bool           // what is amiss was said before
	kept      []*intake.Kept // of the files, by position, those that can be read once only
}

func (a *app) check(ctx context.Context, c *cli.Command) error {
	format := c.String("format")
	if !slices.Contains(report.Formats, format) {
		return usage(c, fmt.Errorf("there is no format %q: %s are known", format, strings.Join(report.Formats, ", ")))
	}
	failOn, ok := severity.Parse(c.String("fail-on"))
	if !ok {
		return usage(c, fmt.Errorf("there is no severity %q: critical, high, medium, low and info are known",
			c.String("fail-on")))
	}
	if c.Args().Len() == 0 {
		return usage(c, errors.New("name at least one recording, or - for standard input"))
	}
	run := &checkRun{app: a, ctx: ctx, audience: c.String("audience")}
	if err := run.prepare(c); err != nil {
		return err
	}
	baseline, err := readBaseline(c.String("baseline"))
	if err != nil {
		return err
	}
	if run.files, err = recordings(c.Args().Slice()); err != nil {
		return err
	}
	failed := run.all()
	findings := run.collector.Findings()
	result := &report.Result{Summary: run.collector.Summary(), Findings: findings, Skipped: run.collector.Skipped(),
		Incomplete: run.collector.Incomplete(), FailOn: failOn, Baseline: baseline, Version: version()}
	for _, why := range run.collector.Unread() {
		a.warn("%s", why)
	}
	baseline.Hold(findings)
	if run.contracts != nil {
		result.Service = run.contracts.Service
		finding.Except(findings, run.contracts.Exceptions, time.Now().UTC().Format(time.DateOnly))
	}
	if err := a.write(format, result); err != nil {
		return err
	}
	if c.Bool("send") && failed == nil && result.Summary.Judged > 0 {
		return a.sendChecked(ctx, c, result, failOn)
	}
	if failed == nil && result.Summary.Judged == 0 {
		failed = hint(errors.New("no capture was judged"), "what was skipped, and why, is listed above")
	}
	if failed != nil {
		return failed
	}
	if finding.Gravest(findings) >= failOn {
		a.status = exitFindings
	}
	return nil
}

func (a *app) write(format string, r *report.Result) error {
	if write := report.Writers[format]; write != nil {
		return write(a.out, r)
	}
	return report.Table(a.out, r, colour(a.out), terminal(a.out))
}

// readBaseline reads the file of --baseline; nil without one.
func readBaseline(path string) (*report.Baseline, error) {
	if path == "" {
		return nil, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fileError(err)
	}
	defer f.Close()
	b, err := report.ReadBaseline(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return b, nil
}

// prepare reads the contracts and creates the judge.
func (r *checkRun) prepare(c *cli.Command) error {
	if paths := c.StringSlice("contracts"); len(paths) > 0 {
		contracts, err := readContracts(paths...)
		if err != nil {
			return err
		}
		for _, text := range c.StringSlice("server") {
			s, err := contract.ParseServer(text)
			if err != nil {
				return usage(c, fmt.Errorf("--server: %w", err))
			}
			contracts.Servers = append(contracts.Servers, s)
		}
		if r.audience != "" && contracts.Audience(r.audience) == nil {
			var names []string
			for _, a := range contracts.Audiences {
				names = append(names, a.Name)
			}
			return usage(c, fmt.Errorf("the contract has no audience %q; it has %q", r.audience, names))
		}
		r.contracts, r.service = contracts, contracts.Service
	}
	var err error
	if r.mapping, err = readMapping(c.String("audiences"), r.contracts); err != nil {
		return err
	}
	if r.reading, err = readingOptions(c); err != nil {
		return err
	}
	for range runtime.GOMAXPROCS(0) {
		j := scan.NewJudge(r.contracts)
		j.Counts = true
		r.judges = append(r.judges, j)
	}
	return nil
}

const (
	// blockCaptures and blockBytes limit one unit of work.
	blockCaptures = 64
	blockBytes    = 1 << 20
)

// block is a run of captures and their outcomes.
type block struct {
	captures []*exchange.Capture
	bytes    int
	judged   chan *finding.Collector
	known    bool // the maker of one at least is known, besides by the least trust
}

// file checks one recording. One goroutine reads it while each processor evaluates a block; outcomes are collected
// in order.
func (r *checkRun) file(i int, name string) error {
	f, size, err := r.opened(i, name)
	if err != nil {
		return fileError(err)
	}
	defer f.Close()
	shown := shownAs(name)
	in, done := r.progress(f, size, shown)
	defer done()

	r.reading.Long = true // the file is open until all is judged
	files, closed := beside(name)
	defer closed()
	r.reading.Beside = files
	work, order, result := make(chan *block), make(chan *block, len(r.judges)), make(chan error, 1)
	for _, judge := range r.judges {
		go func() {
			for b := range work {
				r.judgeBlock(judge, b)
			}
		}()
	}
	go func() {
		defer close(order)
		defer close(work)
		next := &block{}
		send := func() {
			if len(next.captures) > 0 {
				next.judged = make(chan *finding.Collector, 1)
				order <- next
				work <- next
				next = &block{}
			}
		}
		err := intake.Read(shown, in, r.reading, func(c *exchange.Capture) error {
			next.captures = append(next.captures, c)
			if next.bytes += len(c.Response.Body); c.Response.Long != nil || next.bytes >= blockBytes ||
				len(next.captures) == blockCaptures {
				send()
			}
			return interrupted(r.ctx)
		})
		send()
		result <- err
	}()
	seen, known := 0, r.audience != ""
	for b := range order {
		r.collector.Merge(<-b.judged)
		seen += len(b.captures)
		known = known || b.known
	}
	if seen > 0 && !known && !r.again && r.mapping == nil && r.contracts != nil {
		r.warn("%s: no request has credentials, so every one counts as the least trusted audience; recorders may "+
			"leave credentials out: say --audience NAME", shown)
	}
	if err := <-result; r.ctx.Err() == nil {
		return err
	}
	return errInterrupted
}

// mostFolds is how often recordings are read again because names turned out to be data.
const mostFolds = 4

// all checks the recordings. If names turn out to be data, it reads them again; if there are values that only a check
// digit tells, again to count their columns, and once more if some of these show that it was chance.
func (r *checkRun) all() error {
	r.kept = make([]*intake.Kept, len(r.files))
	defer func() {
		for _, k := range r.kept {
			if k != nil {
				k.Close()
			}
		}
	}()
	failed := r.pass()
	if r.again = true; r.ctx.Err() != nil {
		return failed
	}
	var known scan.Known
	for _, j := range r.judges {
		known.Hold(j.Holders())
	}
	if r.collector.Late(known.Holders) && !r.once {
		failed = r.knowing(known)
	}
	for range mostFolds {
		data := r.collector.Data()
		if len(data) == 0 || r.once || r.ctx.Err() != nil {
			break
		}
		known.Data = append(known.Data, data...)
		failed = r.knowing(known)
	}
	columns, first := r.collector.Columns(), r.collector
	if len(columns) == 0 || r.once || r.ctx.Err() != nil {
		return failed
	}
	for _, j := range r.judges {
		j.Count(columns)
	}
	if r.pass(); r.ctx.Err() != nil {
		r.collector = first
		return errInterrupted
	}
	total := map[scan.Column]scan.Tally{}
	for _, j := range r.judges {
		j.Tallies(total)
		j.Count(nil)
	}
	if known.Chance = scan.ByChance(total); len(known.Chance) == 0 {
		r.collector = first
		return failed
	}
	return r.knowing(known)
}

// knowing judges the recordings once more by what is known of all of them.
func (r *checkRun) knowing(k scan.Known) error {
	for _, j := range r.judges {
		j.Know(k)
	}
	before := r.collector
	failed := r.pass()
	if r.ctx.Err() != nil {
		r.collector = before
	}
	return failed
}

// pass reads and judges the recordings once.
func (r *checkRun) pass() (failed error) {
	r.collector = finding.NewCollector(r.service)
	for i, one := range r.files {
		if r.ctx.Err() != nil {
			return errInterrupted
		}
		err := r.file(i, one.name)
		if one.found && unknownFile(err) {
			if !r.again {
				r.warn("%v", err)
			}
			continue
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// opened opens a file, again if need be. What is no regular file is kept for that.
func (r *checkRun) opened(i int, name string) (io.ReadCloser, int64, error) {
	if k := r.kept[i]; k != nil {
		return io.NopCloser(k.Read()), 0, nil
	}
	f, size, err := r.open(r.ctx, name)
	if err != nil {
		return nil, 0, err
	}
	if file, ok := f.(*os.File); ok {
		if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
			return f, size, nil
		}
	}
	k, err := intake.Keep(f)
	if err != nil {
		r.warn("%s cannot be read again, because nothing can be kept in the folder for temporary files (%v): numbers "+
			"that look like those of cards are judged each by itself; set TMPDIR, or check a file", shownAs(name), err)
		r.once = true
		return f, size, nil
	}
	r.kept[i] = k
	return struct {
		io.Reader
		io.Closer
	}{k.Read(), f}, size, nil
}

// shownAs returns what a recording is called.
func shownAs(name string) string {
	if name == "-" {
		return standardInput
	}
	return name
}

// judgeBlock evaluates the captures of a block.
func (r *checkRun) judgeBlock(judge *scan.Judge, b *block) {
	collector := finding.NewCollector(r.collector.Service())
	for _, c := range b.captures {
		switch said := r.mapping.Audience(c.File, &c.Request); {
		case r.audience != "":
			c.Audience = r.audience
		case said != "":
			c.Audience = said
		}
		b.known = b.known || c.Audience != "" || c.Request.Credentials()
		out := judge.Capture(c)
		collector.Add(c.File, c.Entry, &out)
	}
	b.judged <- collector
}

// completeValues completes the values of options with a fixed set of words.
func completeValues(values map[string][]string) cli.ShellCompleteFunc {
	return func(ctx context.Context, c *cli.Command) {
		args := c.Root().Args().Slice()
		if len(args) > 0 {
			last := args[len(args)-1]
			for flag, words := range values {
				if last == "--"+flag {
					for _, w := range words {
						fmt.Fprintln(c.Root().Writer, w)
					}
					return
				}
			}
		}
		cli.DefaultCompleteWithFlags(ctx, c)
	}
}

package cli

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/record"
)

func (a *app) recordCommand() *cli.Command {
	return &cli.Command{
		Name:  "record",
		Usage: "stand in front of an API and capture its traffic while it passes",
		Description: `Point the client, an application under test say, at --listen instead of at the API.
Everything passes through unchanged and at once; copies go to the service you are
signed in to, or with --to into a file of capture lines. The traffic never waits for
them: while the service is away they wait on disk, and what must be dropped is counted.

    inkret record --upstream http://127.0.0.1:7466
    inkret record --upstream https://api.fennick-quay.example --listen 127.0.0.1:9000 --audience skipper
    inkret record --upstream http://127.0.0.1:7466 --include "GET /v1/*" --exclude "/v1/health" --sample 0.1
    inkret record --upstream http://127.0.0.1:7466 --as https://api.fennick-quay.example --to - | inkret check --contracts contracts/ -`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "upstream", Usage: "the `URL` of the API"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7467", Usage: "the `ADDRESS` to listen on"},
			&cli.StringFlag{Name: "as",
				Usage: "the base `URL` that captures name, where the contracts do not know the upstream's"},
			&cli.BoolFlag{Name: "keep-host", Usage: "the API sees the host that the client named, not its own"},
			&cli.StringFlag{Name: "upstream-ca", Usage: "a `FILE` of certificates that the API's is held against",
				TakesFile: true},
			serviceFlag(),
			&cli.StringFlag{Name: "to",
				Usage:     "write capture lines into `FILE`, or - for standard output, instead of sending them",
				TakesFile: true},
			&cli.BoolFlag{Name: "replace", Usage: "write over the file of --to"},
			&cli.StringFlag{Name: "name", Usage: "what the batch is called; else after the API and the time"},
			audienceFlag(),
			&cli.StringSliceFlag{Name: "include",
				Usage: "capture only calls of this `RULE`, as in \"GET /v1/*\"; may be said again"},
			&cli.StringSliceFlag{Name: "exclude", Usage: "capture no calls of this `RULE`; may be said again"},
			&cli.FloatFlag{Name: "sample", Value: 1,
				Usage: "capture this `SHARE` of calls, over 0 up to 1, beside the first calls of each endpoint"},
			sizeFlag("max-body", "16 MB", "how much of a body is kept, as a `SIZE`"),
			sizeFlag("max-memory", "256 MB", "how much memory copies may take, as a `SIZE`"),
			waitingFlag(),
			sizeFlag("max-waiting", "1 GB", "how much may wait there, as a `SIZE`"),
			logFlag("warn"),
		},
		ShellComplete: completeValues(logLevels),
		Action:        a.record,
	}
}

// defaultWaiting is a folder in the user's state folder (XDG Base Directory).
func defaultWaiting() string {
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "inkret", "waiting")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "inkret-waiting"
	}
	return filepath.Join(home, ".local", "state", "inkret", "waiting")
}

// recordingOptions are the options of a recorder.
type recordingOptions struct {
	record.Options
	folder record.Folder
}

func (a *app) recordOptions(c *cli.Command) (recordingOptions, error) {
	var o recordingOptions
	var err error
	if c.Args().Present() {
		return o, usage(c, errors.New("record takes no arguments"))
	}
	if o.Upstream, err = baseURL(c, "upstream"); err != nil {
		return o, err
	}
	if o.Upstream == nil {
		return o, usage(c, errors.New("say where the API is with --upstream"))
	}
	if o.As, err = baseURL(c, "as"); err != nil {
		return o, err
	}
	for flag, rules := range map[string]*[]record.Rule{"include": &o.Rules.Include, "exclude": &o.Rules.Exclude} {
		for _, text := range c.StringSlice(flag) {
			rule, err := record.ParseRule(text)
			if err != nil {
				return o, usage(c, fmt.Errorf("--%s: %w", flag, err))
			}
			*rules = append(*rules, rule)
		}
	}
	if o.Rules.Sample = c.Float("sample"); o.Rules.Sample <= 0 || o.Rules.Sample > 1 {
		return o, usage(c, errors.New("--sample is a share over 0, up to 1"))
	}
	body, err := sizeOf(c, "max-body")
	if err != nil {
		return o, err
	}
	if body == 0 {
		return o, usage(c, errors.New("--max-body 0 would keep nothing of any body: say at least 1; which calls are "+
			"captured is said with --include and --exclude"))
	}
	o.MaxBody = int(min(body, maxBody))
	if o.Memory, err = sizeOf(c, "max-memory"); err != nil {
		return o, err
	}
	if o.folder, err = waitingFolder(c); err != nil {
		return o, err
	}
	if o.folder.Limit, err = sizeOf(c, "max-waiting"); err != nil {
		return o, err
	}
	if o.Roots, err = certificates(c.String("upstream-ca")); err != nil {
		return o, err
	}
	o.KeepHost, o.Audience = c.Bool("keep-host"), c.String("audience")
	o.Log, err = a.logger(c)
	return o, err
}

// maxBody limits --max-body to what a service reads.
const maxBody = 64 << 20

func baseURL(c *cli.Command, flag string) (*url.URL, error) {
	text := c.String(flag)
	if text == "" {
		return nil, nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, usage(c, fmt.Errorf("--%s %s is no address of an API; one is written "+
			"https://api.fennick-quay.example", flag, quoted(text)))
	}
	return u, nil
}

func certificates(path string) (*x509.CertPool, error) {
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fileError(err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, hint(fmt.Errorf("%s has no certificate", path), "certificates are read as PEM")
	}
	return pool, nil
}

func (a *app) record(ctx context.Context, c *cli.Command) error {
	// the reader of the captures may end; traffic continues, and writing returns an error
	signal.Ignore(syscall.SIGPIPE)
	o, err := a.recordOptions(c)
	if err != nil {
		return err
	}
	if c.String("to") != "" && c.IsSet("service") {
		return usage(c, errors.New("say --to or --service, not both"))
	}
	listener, err := listen(c.String("listen")) // before anything is written
	if err != nil {
		return err
	}
	defer listener.Close()
	if c.String("to") != "" {
		return a.recordToFile(ctx, c, o, listener)
	}
	return a.recordToService(ctx, c, o, listener)
}

// listen begins to listen at an address.
func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, hint(fmt.Errorf("another program listens on %s already", address),
			"stop it, or choose another address with --listen")
	case err != nil:
		return nil, hint(fmt.Errorf("cannot listen on %s: %w", address, err), "an address is written HOST:PORT")
	}
	return l, nil
}

func (a *app) recordToFile(ctx context.Context, c *cli.Command, o recordingOptions, l net.Listener) error {
	name, out := c.String("to"), a.out
	if name != "-" {
		mode := os.O_CREATE | os.O_WRONLY | os.O_EXCL
		if c.Bool("replace") {
			mode = os.O_CREATE | os.O_WRONLY | os.O_TRUNC
		}
		f, err := os.OpenFile(name, mode, 0o600) // it holds what leaks, in clear
		if errors.Is(err, os.ErrExist) {
			return hint(fmt.Errorf("%s is there already", name), "write over it with --replace, or name another file")
		}
		if err != nil {
			return fileError(err)
		}
		defer f.Close()
		out = f
	}
	recorder := record.New(o.Options)
	return a.stand(ctx, l, o, recorder, name, func(ctx context.Context) error { return recorder.ToWriter(ctx, out) })
}

// recordToService records into a batch of the service.
func (a *app) recordToService(ctx context.Context, c *cli.Command, o recordingOptions, l net.Listener) error {
	r, err := a.remote()
	if err != nil {
		return hint(err, "or write into a file: --to FILE")
	}
	service, err := a.recordedService(ctx, r, c, &o)
	if err != nil {
		return err
	}
	name := c.String("name")
	if name == "" {
		name = o.Upstream.Host + " " + time.Now().Format("2006-01-02 15:04")
	}
	left, err := o.folder.Left(r.url)
	if err != nil {
		a.warn("some of what waits from earlier cannot be read, and stays where it is: %v", err)
	}
	run, err := o.folder.Begin(record.About{URL: r.url, Service: service, Name: name, Audience: o.Audience})
	if err != nil {
		return hint(fmt.Errorf("captures cannot wait on disk: %w", err),
			"name a folder that you may write to with --waiting")
	}
	resending, stop := context.WithCancel(ctx)
	var resent sync.WaitGroup
	resent.Go(func() {
		record.Resend(resending, left, func(about record.About) record.Receiver { return &liveReceiver{r, about} },
			o.Log)
	})
	recorder := record.New(o.Options)
	err = a.stand(ctx, l, o, recorder, r.url+"/live?service="+url.QueryEscape(service),
		func(ctx context.Context) error {
			_, err := recorder.ToReceiver(ctx, &liveReceiver{r, run.About()}, run)
			return err
		})
	stop()
	resent.Wait()
	run.Release()
	return errors.Join(err, a.tellWaiting(c))
}

// tellWaiting prints what is still waiting at the end of a recording.
func (a *app) tellWaiting(c *cli.Command) error {
	all, err := waitingRuns(c)
	if err != nil {
		return err
	}
	for _, one := range all {
		switch one.State {
		case "recording":
			continue
		case "waits":
			a.warn("the service did not take all: %s of %s wait as %s and go when a recorder for %s runs again",
				humanize.Bytes(uint64(one.Bytes)), one.Name, one.Run, one.URL)
		case "set-aside":
			a.warn("%s of %s are set aside as %s: %s", humanize.Bytes(uint64(one.Bytes)), one.Name, one.Run, one.Reason)
		default:
			a.warn("%s cannot be read: %s", one.Run, one.Reason)
		}
		a.status = exitFindings
	}
	if a.status == exitFindings {
		a.warn("see: inkret status")
	}
	return nil
}

// recordedService returns the service to record into, and checks that its contracts know the API.
func (a *app) recordedService(ctx context.Context, r *remote, c *cli.Command, o *recordingOptions) (string, error) {
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return "", err
	}
	response, err := r.ListServers(ctx, service)
	var servers []wire.CalledServer
	if err := answer(response, err, &servers); err != nil {
		if statusOf(err) != 0 { // it answers, and does not know the service
			return "", err
		}
		a.warn("the service does not answer; captures wait in %s until it does", o.folder.Dir)
		return service, nil
	}
	named := o.Upstream
	if o.As != nil {
		named = o.As
	}
	text := strings.TrimRight(named.String(), "/")
	var known []string
	for _, s := range servers {
		if s.Server == text || strings.HasPrefix(text, s.Server+"/") {
			return service, nil
		}
		if s.Address != nil && strings.TrimRight(*s.Address, "/") == text {
			o.As, err = url.Parse(s.Server)
			return service, err
		}
		known = append(known, s.Server)
	}
	if len(known) == 0 {
		return service, nil
	}
	return "", hint(fmt.Errorf("the contracts of %s know no server %s", service, text),
		"say with --as for which it stands: "+strings.Join(known, ", "))
}

// stand runs a recorder until ctx ends, while deliver takes its captures.
func (a *app) stand(ctx context.Context, listener net.Listener, o recordingOptions, recorder *record.Recorder,
	goal string, deliver func(context.Context) error) error {
	server := &http.Server{Handler: recorder, Protocols: record.Protocols(), DisableGeneralOptionsHandler: true,
		ReadHeaderTimeout: headerTime, ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug)}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()

	delivering, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	delivered := make(chan error, 1)
	go func() { delivered <- deliver(delivering) }()

	fmt.Fprintf(a.err, "Recording  http://%s  →  %s\nCaptures   %s\nStop with Ctrl+C.\n", listener.Addr(), o.Upstream,
		goal)
	counting := a.counting(recorder)
	var err error
	select {
	case err = <-ended:
	case <-ctx.Done():
	}
	patience, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if server.Shutdown(patience) != nil {
		server.Close()
	}
	counting()
	stop()
	err = errors.Join(err, <-delivered)
	n := recorder.Counts()
	fmt.Fprintf(a.err, "%s captured, %d passed without, %d dropped.\n", plural(int(n.Captured), "call"), n.Passed,
		n.Dropped)
	return err
}

// counting shows progress on a terminal; the returned function ends it.
func (a *app) counting(recorder *record.Recorder) (stop func()) {
	if terminal(a.err) == 0 {
		return func() {}
	}
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				n := recorder.Counts()
				fmt.Fprintf(a.err, "\r\x1b[K%s captured, %d dropped", plural(int(n.Captured), "call"), n.Dropped)
			case <-done:
				fmt.Fprint(a.err, "\r\x1b[K")
				return
			}
		}
	}()
	return func() {
		close(done)
		<-ended
	}
}

// liveReceiver is a growing batch of the service.
type liveReceiver struct {
	*remote
	about record.About
}

// Open implements [record.Receiver].
func (l *liveReceiver) Open(ctx context.Context) (int64, error) {
	response, err := l.OpenLive(ctx, l.about.Service, wire.OpenLiveJSONRequestBody{Name: l.about.Name,
		Audience: some(l.about.Audience)})
	var b wire.Batch
	err = answer(response, err, &b)
	// retrying will not change the result
	if slices.Contains([]int{http.StatusBadRequest, http.StatusForbidden, http.StatusNotFound,
		http.StatusUnprocessableEntity}, statusOf(err)) {
		return 0, &record.Refused{Reason: err.Error()}
	}
	return b.ID, err
}

// Extend implements [record.Receiver].
func (l *liveReceiver) Extend(ctx context.Context, batch int64, number, dropped int, lines []byte) error {
	response, err := l.ExtendLiveWithBody(ctx, batch, number, &wire.ExtendLiveParams{Dropped: some(dropped)},
		"application/octet-stream", bytes.NewReader(lines))
	return receiverError(answer(response, err, nil))
}

// Close implements [record.Receiver].
func (l *liveReceiver) Close(ctx context.Context, batch int64, dropped int) error {
	response, err := l.CloseLive(ctx, batch, &wire.CloseLiveParams{Dropped: some(dropped)})
	return receiverError(answer(response, err, nil))
}

func receiverError(err error) error {
	switch status := statusOf(err); {
	case status == http.StatusNotFound || status == http.StatusConflict:
		return record.ErrGone
	case slices.Contains([]int{http.StatusBadRequest, http.StatusRequestEntityTooLarge,
		http.StatusUnsupportedMediaType}, status):
		return &record.Refused{Reason: err.Error()}
	}
	return err
}

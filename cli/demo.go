package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"slices"

	"github.com/urfave/cli/v3"

	"inkret/core/exchange"
	"inkret/demo"
	"inkret/mailing"
	"inkret/service"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/notify"
	"inkret/service/review"
)

// demoPeople are the made-up users of the demo.
var demoPeople = []struct{ name, email, role string }{
	{"Noor Adeyar", "noor@fennick-quay.example", base.Reviewer},
	{"Teodor Brandt", "teodor@fennick-quay.example", base.Lead},
	{"Iva Salk", "iva@fennick-quay.example", base.Viewer},
	{"Marlo Venn", "marlo@fennick-quay.example", base.Administrator},
}

// demoPassword is the password of all demo users. The demo listens on loopback and contains nothing real.
const demoPassword = "low tide at nine"

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run the service with made-up data: the harbour of Fennick Quay",
		Description: `Starts a stand-in API that really leaks, records calls to it as three audiences,
judges them, and serves the console. A recorder stands before the API: what is
clicked on its page is captured and judged while one watches. Everything is in a new folder, which is
removed at the end unless --data names one.`,
		Flags: []cli.Flag{
			listenFlag(),
			&cli.StringFlag{Name: "harbour", Value: "127.0.0.1:7466",
				Usage: "the `ADDRESS` the stand-in API listens on"},
			&cli.IntFlag{Name: "release", Value: 1,
				Usage: "which `RELEASE` of the stand-in API runs: 1 leaks, 2 repairs most of it"},
			&cli.StringFlag{Name: "recorder", Value: "127.0.0.1:7467",
				Usage: "the `ADDRESS` at which a recorder stands before it"},
			&cli.StringFlag{Name: "mailbox", Value: "127.0.0.1:7468",
				Usage: "the `ADDRESS` at which the mail that it sends can be read"},
			&cli.StringFlag{Name: "provider", Value: "127.0.0.1:7469",
				Usage: "the `ADDRESS` of the stand-in provider of sign-ins"},
			&cli.StringFlag{Name: "data", Usage: "keep the data in `FOLDER`", TakesFile: true},
			&cli.StringFlag{Name: "recordings",
				Usage: "write the recordings, the contracts and the harbour's SQL schema into `FOLDER` too, to try " +
					"the other commands on", TakesFile: true},
			logFlag("warn"),
		},
		ShellComplete: completeValues(logLevels),
		Action:        a.demo,
	}
}

func (a *app) demo(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage(c, errors.New("demo takes no arguments"))
	}
	release := c.Int("release")
	if release < 1 || release > 2 {
		return usage(c, fmt.Errorf("there is no release %d of the harbour: 1 and 2 are there", release))
	}
	log, err := a.logger(c)
	if err != nil {
		return err
	}
	dir := c.String("data")
	if dir == "" {
		if dir, err = os.MkdirTemp("", "inkret-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	listener, err := net.Listen("tcp", c.String("harbour"))
	if err != nil {
		return hint(fmt.Errorf("the stand-in API cannot listen on %s: %w", c.String("harbour"), err),
			"choose another address with --harbour")
	}
	harbour := &http.Server{Handler: demo.NewHarbour(release), ReadHeaderTimeout: headerTime}
	go harbour.Serve(listener)
	defer harbour.Close()

	mailbox, handIn, shut, err := mailHarbour(c.String("mailbox"))
	if err != nil {
		return err
	}
	defer shut()
	provider, shutProvider, err := signInAtHarbour(c.String("provider"))
	if err != nil {
		return err
	}
	defer shutProvider()
	mail, err := mailing.ParseServer(handIn, "Inkret <inkret@fennick-quay.example>", "")
	if err != nil {
		return err
	}
	s, err := a.openService(ctx, service.Options{Dir: dir, Log: log, Mail: mail, DigestHour: notify.DefaultDigestHour})
	if err != nil {
		return err
	}
	defer s.Close()
	recordings, err := recordDemo(ctx, listener.Addr().String(), c.String("recordings"))
	if err != nil {
		return err
	}
	if err := fillDemo(ctx, s, recordings); err != nil {
		return err
	}
	harbourAt := listener.Addr().String()
	if err := allowHarbour(ctx, s, harbourAt); err != nil {
		return err
	}
	recorderAt, stop, err := recordHarbour(ctx, s, c.String("recorder"), harbourAt, dir, log)
	if err != nil {
		return err
	}
	defer stop()
	return a.serve(ctx, s, serving{listen: c.String("listen"), log: log, provider: provider},
		func(address string) error {
			a.say("The harbour of Fennick Quay, made up, is open.\n\n  console    %s\n  its API    http://%s\n  "+
				"recorded   http://%s, a page to click through; watch it leak at %s/live\n  mail       http://%s, "+
				"what it sent", address, harbourAt, recorderAt, address, mailbox)
			a.say("\nSign in as any of these, with the password %q:\n", demoPassword)
			for _, p := range demoPeople {
				a.say("  %-28s %s, %s", p.email, p.name, p.role)
			}
			a.say("\nor with Fennick Quay, a stand-in provider of sign-ins that believes everybody.")
			a.say("\nOr from another terminal: inkret sign-in %s --email %s\nStop with Ctrl+C.", address,
				demoPeople[0].email)
			return nil
		})
}

// recording is one audience's calls as HAR.
type recording struct {
	name string
	data []byte
}

// recordDemo records the calls of each audience, and writes them to a folder if one is named.
func recordDemo(ctx context.Context, address, dir string) ([]recording, error) {
	var all []recording
	for _, audience := range demo.Audiences {
		var b bytes.Buffer
		if err := demo.Record(ctx, address, audience, &b); err != nil {
			return nil, err
		}
		all = append(all, recording{string(audience) + ".har", b.Bytes()})
	}
	if dir == "" {
		return all, nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fileError(err)
	}
	files, err := demo.Contracts()
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		all = append(all, recording{f.Name, []byte(f.Text)})
	}
	all = append(all, recording{"harbour.sql", []byte(demo.Schema)})
	for _, r := range all {
		if err := os.WriteFile(dir+string(os.PathSeparator)+r.name, r.data, 0o644); err != nil {
			return nil, fileError(err)
		}
	}
	return all[:len(demo.Audiences)], nil
}

// fillDemo adds people, contracts and recordings to an empty service.
func fillDemo(ctx context.Context, s *service.Service, recordings []recording) error {
	people, err := s.People.People(ctx)
	if err != nil || len(people) > 0 {
		return err
	}
	callers := map[string]base.Caller{}
	for _, p := range demoPeople {
		person, err := s.People.AddPerson(ctx, p.name, p.email, p.role, demoPassword)
		if err != nil {
			return err
		}
		callers[p.role] = base.Caller{Person: person}
	}
	reviewer := callers[base.Reviewer]
	files, err := demo.Contracts()
	if err != nil {
		return err
	}
	var stored []base.ContractFile
	for _, f := range files {
		stored = append(stored, base.ContractFile{Name: f.Name, Text: f.Text})
	}
	if _, _, err := s.Review.Apply(ctx, reviewer, demo.ServiceName, review.Proposed{Files: stored,
		Reason: "the contracts of the demo"}); err != nil {
		return err
	}
	for _, r := range recordings {
		if _, err := s.Evidence.Upload(ctx, reviewer, demo.ServiceName, r.name, evidence.Said{},
			bytes.NewReader(r.data)); err != nil {
			return err
		}
	}
	for _, audience := range demo.Audiences {
		var fields exchange.Header
		given := demo.Credentials(audience)
		for _, name := range slices.Sorted(maps.Keys(given)) {
			fields = append(fields, exchange.HeaderField{Name: name, Value: given[name][0]})
		}
		if len(fields) == 0 {
			continue
		}
		if err := s.Evidence.SetCredentials(ctx, callers[base.Lead], demo.ServiceName,
			evidence.CallAs{Audience: string(audience)}, fields); err != nil {
			return err
		}
	}
	other := demo.OtherSkipper()
	if err := s.Evidence.SetCredentials(ctx, callers[base.Lead], demo.ServiceName,
		evidence.CallAs{Audience: string(demo.Skipper), Person: "vesna"},
		exchange.Header{{Name: "Authorization", Value: other.Get("Authorization")}}); err != nil {
		return err
	}
	return pipelines(ctx, s)
}

package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"path/filepath"

	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/demo"
	"inkret/intake"
	"inkret/openid"
	"inkret/record"
	"inkret/service"
	"inkret/service/base"
)

// The live part of the demo: allowed calls to the harbour, and a recorder in front of it.

// demoCaller returns the first demo user with a role.
func demoCaller(ctx context.Context, s *service.Service, role string) (base.Caller, error) {
	people, err := s.People.People(ctx)
	for _, p := range people {
		if p.Role == role {
			return base.Caller{Person: p}, nil
		}
	}
	return base.Caller{}, errors.Join(err, fmt.Errorf("nobody in the demo is %s", role))
}

// allowHarbour allows calls to the harbour's current address.
func allowHarbour(ctx context.Context, s *service.Service, harbour string) error {
	administrator, err := demoCaller(ctx, s, base.Administrator)
	if err != nil {
		return err
	}
	for _, server := range demo.Servers {
		if err := s.Evidence.AllowServer(ctx, administrator, demo.ServiceName, server, "http://"+harbour); err != nil {
			return err
		}
	}
	return nil
}

// recordHarbour runs a recorder in front of the harbour. stop ends it and waits until its captures are stored.
func recordHarbour(ctx context.Context, s *service.Service, listen, harbour, dir string,
	log *slog.Logger) (address string, stop func(), err error) {
	who, err := demoCaller(ctx, s, base.Reviewer)
	if err != nil {
		return "", nil, err
	}
	as, err := url.Parse(demo.Servers[0])
	if err != nil {
		return "", nil, err
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return "", nil, hint(fmt.Errorf("the recorder cannot listen on %s: %w", listen, err),
			"choose another address with --recorder")
	}
	run, err := record.Folder{Dir: filepath.Join(dir, "waiting"),
		Key: filepath.Join(dir, "waiting.key")}.Begin(record.About{Service: demo.ServiceName})
	if err != nil {
		listener.Close()
		return "", nil, err
	}
	recorder := record.New(record.Options{Upstream: &url.URL{Scheme: "http", Host: harbour}, As: as, Log: log})
	server := &http.Server{Handler: recorder, Protocols: record.Protocols(), ReadHeaderTimeout: headerTime}
	go server.Serve(listener)
	recording, end := context.WithCancel(context.WithoutCancel(ctx))
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if _, err := recorder.ToReceiver(recording, &demoReceiver{s, who}, run); err != nil {
			log.Error("the recorder failed", "error", err.Error())
		}
	}()
	return listener.Addr().String(), func() {
		server.Close()
		end()
		<-ended
		run.Release()
	}, nil
}

// demoReceiver receives chunks for a service in the same process.
type demoReceiver struct {
	*service.Service
	who base.Caller
}

// Open implements [record.Receiver].
func (d *demoReceiver) Open(ctx context.Context) (int64, error) {
	b, err := d.Evidence.OpenLive(ctx, d.who, demo.ServiceName, "the demo's recorder", "")
	return b.ID, err
}

// Extend implements [record.Receiver].
func (d *demoReceiver) Extend(ctx context.Context, batch int64, number, dropped int, lines []byte) error {
	_, err := d.Evidence.ExtendLive(ctx, d.who, batch, number, dropped, bytes.NewReader(lines))
	var p *base.Problem
	switch {
	case !errors.As(err, &p):
		return err
	case p.Code == base.NotFound || p.Code == base.Conflict:
		return record.ErrGone
	}
	return &record.Refused{Reason: p.Detail}
}

// Close implements [record.Receiver].
func (d *demoReceiver) Close(ctx context.Context, batch int64, dropped int) error {
	_, err := d.Evidence.CloseLive(ctx, d.who, batch, dropped)
	return err
}

// pipelines sends results as a pipeline would: the main line leaks like release 1, and a proposed change fixes most
// of it like release 2.
func pipelines(ctx context.Context, s *service.Service) error {
	who, err := demoCaller(ctx, s, base.Reviewer)
	if err != nil {
		return err
	}
	files, err := demo.Contracts()
	if err != nil {
		return err
	}
	var named []contract.File
	for _, f := range files {
		named = append(named, contract.File{Name: f.Name, Data: []byte(f.Text)})
	}
	contracts, err := contract.Read(named...)
	if err != nil {
		return err
	}
	for _, of := range []struct {
		release        int
		line, revision string
	}{{1, "main", "4f1d9a07"}, {2, "row-mapper", "b86c20e3"}} {
		collector, err := checkHarbour(ctx, of.release, contracts)
		if err != nil {
			return err
		}
		r := base.Result{Service: demo.ServiceName, Line: of.line, Revision: of.revision,
			Link: "https://builds.fennick-quay.example/runs/" + of.revision, Rules: detect.Rules,
			Summary: collector.Summary()}
		for _, f := range collector.Findings() {
			r.Findings = append(r.Findings, f.Checked())
		}
		if _, err := s.Reports.SendResult(ctx, who, r); err != nil {
			return err
		}
	}
	return nil
}

// checkHarbour calls a release of the harbour as all audiences and evaluates the responses.
func checkHarbour(ctx context.Context, release int, contracts *contract.Contracts) (*finding.Collector, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	harbour := &http.Server{Handler: demo.NewHarbour(release), ReadHeaderTimeout: headerTime}
	go harbour.Serve(listener)
	defer harbour.Close()
	recordings, err := recordDemo(ctx, listener.Addr().String(), "")
	if err != nil {
		return nil, err
	}
	collector, judge := finding.NewCollector(demo.ServiceName), scan.NewJudge(contracts)
	for _, r := range recordings {
		if err := intake.Read(r.name, bytes.NewReader(r.data), intake.Options{}, func(c *exchange.Capture) error {
			out := judge.Capture(c)
			collector.Add(c.File, c.Entry, &out)
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return collector, nil
}

// mailHarbour runs a stand-in mail server. It returns the address for reading mail and the one for sending it.
func mailHarbour(listen string) (readAt, handIn string, shut func(), err error) {
	page, err := net.Listen("tcp", listen)
	if err != nil {
		return "", "", nil, hint(fmt.Errorf("the mailbox cannot listen on %s: %w", listen, err),
			"choose another address with --mailbox")
	}
	in, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		page.Close()
		return "", "", nil, err
	}
	box := demo.NewMailbox()
	server := &http.Server{Handler: box, ReadHeaderTimeout: headerTime}
	go server.Serve(page)
	go box.Serve(in)
	return page.Addr().String(), "smtp://" + in.Addr().String(), func() {
		server.Close()
		box.Close()
	}, nil
}

// signInAtHarbour runs a stand-in sign-in provider that believes everybody. It knows the demo's users, and one
// person who was not invited.
func signInAtHarbour(listen string) (*openid.Client, func(), error) {
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, nil, hint(fmt.Errorf("the provider of sign-ins cannot listen on %s: %w", listen, err),
			"choose another address with --provider")
	}
	var accounts []demo.Account
	for _, p := range demoPeople {
		accounts = append(accounts, demo.Account{Subject: "quay-" + p.role, Name: p.name, Email: p.email,
			Verified: true})
	}
	accounts = append(accounts, demo.Account{Subject: "quay-stranger", Name: "Wim Tarn",
		Email: "wim@fennick-quay.example", Verified: true})
	client := &openid.Client{Issuer: "http://" + listener.Addr().String(), ID: "inkret", Secret: "made up for the demo",
		Name: "Fennick Quay"}
	provider, err := demo.NewProvider(client.Issuer, client.ID, client.Secret, accounts)
	if err != nil {
		listener.Close()
		return nil, nil, err
	}
	server := &http.Server{Handler: provider, ReadHeaderTimeout: headerTime}
	go server.Serve(listener)
	return client, func() { server.Close() }, nil
}

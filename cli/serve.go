package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"inkret/console"
	"inkret/httpapi"
	"inkret/openid"
	"inkret/service"
)

const (
	defaultListen = "127.0.0.1:7465"
	// stopTime is how long running requests may take when the service stops.
	stopTime = 10 * time.Second
	// headerTime is how long a client may take to send its headers.
	headerTime = 10 * time.Second
	idleTime   = 2 * time.Minute
	maxHeader  = 64 << 10
)

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service and its console",
		Description: `Serves until it is told to stop (SIGINT or SIGTERM), then ends running requests.
At the first start it makes the data folder with its key file, and prints a link
with which the first person sets up name and password.

    inkret serve --data /var/lib/inkret --listen 127.0.0.1:7465

With --tls-cert and --tls-key it serves TLS itself; renewed files are read without a restart. Behind a
reverse proxy say --public and --proxy, so that the addresses of people are known.

    inkret serve --tls-cert cert.pem --tls-key key.pem --listen 0.0.0.0:443
    inkret serve --public https://inkret.example --proxy 127.0.0.1
    inkret serve --backup-to /var/backups/inkret --backup-every 24h --backup-keep 7`,
		Flags: append([]cli.Flag{
			listenFlag(),
			dataFlag(),
			&cli.StringFlag{Name: "public",
				Usage: "the `URL` under which people reach it, when that is not the address it listens on"},
			sizeFlag("max-disk", "20 GB", "the most that the database may take on disk, as a `SIZE`; 0 is no bound",
				"INKRET_MAX_DISK"),
			sizeFlag("max-upload", "8 GB", "the largest recording that is taken, as a `SIZE`", "INKRET_MAX_UPLOAD"),
			&cli.StringFlag{Name: "tls-cert",
				Usage:     "the certificate to serve TLS with, and those that vouch for it, as a PEM `FILE`",
				TakesFile: true},
			&cli.StringFlag{Name: "tls-key", Usage: "the key of the certificate, as a PEM `FILE`", TakesFile: true},
			&cli.StringSliceFlag{Name: "proxy",
				Usage: "an `ADDRESS` or network of a reverse proxy whose X-Forwarded-For is believed; may be repeated"},
			&cli.StringFlag{Name: "backup-to",
				Usage: "the `FOLDER` that backups are written to; none are made without it", TakesFile: true},
			&cli.DurationFlag{Name: "backup-every", Value: 24 * time.Hour, Usage: "how often a backup is made"},
			&cli.IntFlag{Name: "backup-keep", Value: 7, Usage: "how many backups are kept"},
			logFlag("info"),
		}, append(mailFlags(), providerFlags()...)...),
		ShellComplete: completeValues(logLevels),
		Action:        a.serveUntilStopped,
	}
}

func (a *app) serveUntilStopped(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage(c, errors.New("serve takes no arguments"))
	}
	log, err := a.logger(c)
	if err != nil {
		return err
	}
	disk, err := sizeOf(c, "max-disk")
	if err != nil {
		return err
	}
	upload, err := sizeOf(c, "max-upload")
	if err != nil {
		return err
	}
	provider, err := signInProvider(c)
	if err != nil {
		return err
	}
	mail, err := mailServer(c)
	if err != nil {
		return err
	}
	proxies, err := proxiesOf(c)
	if err != nil {
		return err
	}
	certificate, err := certificateOf(c, log)
	if err != nil {
		return err
	}
	if err := publicOf(c); err != nil {
		return err
	}
	if c.Duration("backup-every") < time.Minute || c.Int("backup-keep") < 1 {
		return usage(c, errors.New("--backup-every must be at least 1m, and --backup-keep at least 1"))
	}
	s, err := a.openService(ctx, service.Options{Dir: c.String("data"), Log: log, MaxDisk: disk, Mail: mail,
		DigestHour: c.Int("digest-hour")})
	if err != nil {
		return err
	}
	defer s.Close()
	s.BackUpEvery(service.BackupPlan{Folder: c.String("backup-to"), Every: c.Duration("backup-every"),
		Keep: c.Int("backup-keep")})
	return a.serve(ctx, s, serving{listen: c.String("listen"), public: c.String("public"), maxUpload: upload,
		log: log, provider: provider, proxies: proxies, certificate: certificate}, func(address string) error {
		code, err := s.People.SetupCode(ctx)
		if err == nil && code == "" {
			a.say("The console is at %s", address)
		} else if err == nil {
			a.say("Nobody is set up yet. Open this link once to set yourself up as administrator:\n  %s",
				httpapi.SetupLink(address, code))
		}
		return err
	})
}

func dataFlag() cli.Flag {
	return &cli.StringFlag{Name: "data", Value: defaultData(), Usage: "the data `FOLDER`",
		Sources: cli.EnvVars("INKRET_DATA"), TakesFile: true}
}

// sizeFlag returns an option for a number of bytes with a unit.
func sizeFlag(name, value, words string, env ...string) cli.Flag {
	return &cli.StringFlag{Name: name, Value: value, Usage: words, Sources: cli.EnvVars(env...)}
}

// sizeOf parses such an option.
func sizeOf(c *cli.Command, flag string) (int64, error) {
	n, err := humanize.ParseBytes(c.String(flag))
	if err != nil || n > math.MaxInt64 {
		return 0, usage(c, fmt.Errorf("--%s %s is no size; one is written 500 MB or 2 GiB", flag,
			quoted(c.String(flag))))
	}
	return int64(n), nil
}

func listenFlag() cli.Flag {
	return &cli.StringFlag{Name: "listen", Value: defaultListen, Usage: "the `ADDRESS` to listen on",
		Sources: cli.EnvVars("INKRET_LISTEN")}
}

func logFlag(level string) cli.Flag {
	return &cli.StringFlag{Name: "log", Value: level, Usage: "how much to log: debug, info, warn or error"}
}

var logLevels = map[string][]string{"log": {"debug", "info", "warn", "error"}}

// defaultData is a folder in the user's data folder (XDG Base Directory).
func defaultData() string {
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "inkret")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "inkret-data"
	}
	return filepath.Join(home, ".local", "share", "inkret")
}

// logger returns a structured logger on standard error.
func (a *app) logger(c *cli.Command) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(c.String("log"))); err != nil {
		return nil, usage(c, fmt.Errorf("there is no log level %q: debug, info, warn and error are known",
			c.String("log")))
	}
	return slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: l})), nil
}

func (a *app) openService(ctx context.Context, o service.Options) (*service.Service, error) {
	s, err := service.Open(ctx, o)
	if err != nil {
		return nil, openError(err)
	}
	return s, nil
}

// openError says what to do if a data folder cannot be opened.
func openError(err error) error {
	switch {
	case errors.Is(err, service.ErrInUse):
		return hint(err, "stop the other one, or name another folder with --data")
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.ENOTDIR):
		return hint(err, "name a folder that you may write to with --data")
	}
	return err
}

// serving are the options for serving.
type serving struct {
	listen, public string
	maxUpload      int64
	log            *slog.Logger
	provider       *openid.Client // of sign-ins; nil for none
	proxies        []net.IPNet
	certificate    *certificate // nil serves without TLS
}

// serve serves until ctx ends. ready is called with the address once it listens.
func (a *app) serve(ctx context.Context, s *service.Service, how serving, ready func(address string) error) error {
	listen, log := how.listen, how.log
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return hint(fmt.Errorf("another program listens on %s already", listen),
				"stop it, or choose another address with --listen")
		}
		return hint(fmt.Errorf("cannot listen on %s: %w", listen, err), "an address is written HOST:PORT, such as "+
			defaultListen)
	}
	address := "http://" + listener.Addr().String()
	if how.certificate != nil {
		address = "https://" + listener.Addr().String()
		listener = tls.NewListener(listener, how.certificate.config())
	}
	if how.public != "" {
		address = strings.TrimRight(how.public, "/")
	}
	if how.provider != nil {
		s.People.SignInWith(openid.New(*how.provider, address+httpapi.SignedInAt), how.provider.Issuer)
	}
	stopping := make(chan struct{})
	handler, err := httpapi.NewHandler(s, httpapi.Options{Version: version(), Log: log, Console: console.Files(),
		Public: address, Stopping: stopping, MaxUpload: how.maxUpload,
		Secure: strings.HasPrefix(address, "https://"), Proxies: how.proxies})
	if err != nil {
		listener.Close()
		return err
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime,
		MaxHeaderBytes: maxHeader, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	server.RegisterOnShutdown(func() { close(stopping) })
	running, stop := context.WithCancel(ctx)
	ran := make(chan struct{})
	go func() {
		defer close(ran)
		s.Run(running, address)
	}()
	defer func() {
		stop()
		<-ran
	}()
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	log.Info("serving", "address", address)
	if err := ready(address); err != nil && ctx.Err() == nil { // told to stop at once is no failure
		server.Close()
		return err
	}
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	patience, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := server.Shutdown(patience); err != nil {
		log.Warn("some requests were cut off", "error", err)
		server.Close()
	}
	return nil
}

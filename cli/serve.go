package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"inkret/console"
	"inkret/httpapi"
	"inkret/service"
)

const (
	defaultListen = "127.0.0.1:7465"
	// stopTime is how long running requests may take to end when the service stops.
	stopTime = 10 * time.Second
	// headerTime is how long a client may take to send its headers.
	headerTime = 10 * time.Second
	idleTime   = 2 * time.Minute
)

func (a *app) serveCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the service and its console",
		Description: `Serves until it is told to stop (SIGINT or SIGTERM), then ends running requests.
At the first start it makes the data folder with its key file, and prints a link
with which the first person sets up name and password.

    inkret serve --data /var/lib/inkret --listen 127.0.0.1:7465`,
		Flags: []cli.Flag{
			listenFlag(),
			&cli.StringFlag{Name: "data", Value: defaultData(), Usage: "the data `FOLDER`", Sources: cli.EnvVars("INKRET_DATA"), TakesFile: true},
			&cli.StringFlag{Name: "public", Usage: "the `URL` under which people reach it, when that is not the address it listens on"},
			logFlag("info"),
		},
		ShellComplete: completeValues(logLevels),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage(c, errors.New("serve takes no arguments"))
			}
			log, err := a.logger(c)
			if err != nil {
				return err
			}
			s, err := a.openService(ctx, c.String("data"), log)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.serve(ctx, s, c.String("listen"), c.String("public"), log, func(address string) error {
				code, err := s.SetupCode(ctx)
				if err == nil && code != "" {
					a.say("Nobody is set up yet. Open this link once to set yourself up as administrator:\n  %s", httpapi.SetupLink(address, code))
				}
				return err
			})
		},
	}
}

func listenFlag() cli.Flag {
	return &cli.StringFlag{Name: "listen", Value: defaultListen, Usage: "the `ADDRESS` to listen on", Sources: cli.EnvVars("INKRET_LISTEN")}
}

func logFlag(level string) cli.Flag {
	return &cli.StringFlag{Name: "log", Value: level, Usage: "how much to log: debug, info, warn or error"}
}

var logLevels = map[string][]string{"log": {"debug", "info", "warn", "error"}}

// defaultData is a folder below the user's own data folder (XDG Base Directory).
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

// logger writes structured logs to standard error.
func (a *app) logger(c *cli.Command) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(c.String("log"))); err != nil {
		return nil, usage(c, fmt.Errorf("there is no log level %q: debug, info, warn and error are known", c.String("log")))
	}
	return slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: l})), nil
}

func (a *app) openService(ctx context.Context, dir string, log *slog.Logger) (*service.Service, error) {
	s, err := service.Open(ctx, service.Options{Dir: dir, Log: log})
	switch {
	case errors.Is(err, service.ErrInUse):
		return nil, hint(err, "stop the other one, or name another folder with --data")
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.ENOTDIR):
		return nil, hint(err, "name a folder that you may write to with --data")
	}
	return s, err
}

// serve serves until ctx ends. ready is called with the address once it listens.
func (a *app) serve(ctx context.Context, s *service.Service, listen, public string, log *slog.Logger, ready func(address string) error) error {
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return hint(fmt.Errorf("another program listens on %s already", listen), "stop it, or choose another address with --listen")
		}
		return hint(fmt.Errorf("cannot listen on %s: %w", listen, err), "an address is written HOST:PORT, such as "+defaultListen)
	}
	address := "http://" + listener.Addr().String()
	if public != "" {
		address = strings.TrimRight(public, "/")
	}
	handler, err := httpapi.NewHandler(s, httpapi.Options{Version: Version, Log: log, Console: console.Files(), Public: address})
	if err != nil {
		listener.Close()
		return err
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	log.Info("serving", "address", address)
	if err := ready(address); err != nil {
		server.Close()
		return err
	}
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	stopping, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := server.Shutdown(stopping); err != nil {
		log.Warn("some requests were cut off", "error", err)
		server.Close()
	}
	return nil
}

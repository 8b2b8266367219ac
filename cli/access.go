package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"inkret/api/wire"
)

func (a *app) signInCommand() *cli.Command {
	return &cli.Command{
		Name:      "sign-in",
		Usage:     "sign in to a service from this machine",
		ArgsUsage: "[URL]",
		Description: `Asks for e-mail address and password and keeps a token, which ends by itself
after --days. A program is better given a token of its own by INKRET_URL and
INKRET_TOKEN.

    inkret sign-in http://127.0.0.1:7465
    echo "$PASSWORD" | inkret sign-in --email noor@fennick-quay.example --password-stdin`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "email", Usage: "the `ADDRESS` to sign in with"},
			&cli.BoolFlag{Name: "password-stdin", Usage: "read the password from standard input"},
			&cli.StringFlag{Name: "code",
				Usage: "the `CODE` of your second factor, or a recovery code; asked for where one is needed"},
			&cli.IntFlag{Name: "days", Value: 30, Usage: "how long the token lives"},
			&cli.BoolFlag{Name: "print-token", Usage: "print the token instead of keeping it"},
		},
		Action: a.signIn,
	}
}

func (a *app) signIn(ctx context.Context, c *cli.Command) error {
	address := c.Args().First()
	if address == "" {
		address = defaultListen
	}
	address, err := serverURL(address)
	if err != nil {
		return usage(c, err)
	}
	email, password, err := a.credentials(ctx, c)
	if err != nil {
		return err
	}
	r, err := newRemote(address, "")
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	days := c.Int("days")
	made := wire.CreatedToken{}
	for code := c.String("code"); ; {
		response, err := r.CreateToken(ctx, wire.CreateTokenJSONRequestBody{Name: "command line on " + host,
			Days:        &days,
			Credentials: &wire.Credentials{Email: email, Password: password, Code: some(code)}})
		err = answer(response, err, &made)
		if !needsFactor(err) || code != "" {
			if err != nil {
				return err
			}
			break
		}
		if code, err = a.askFor(ctx, "Code of your second factor: "); err != nil || code == "" {
			return hint(errors.New("a code of your second factor is needed"), "say it with --code")
		}
	}
	if c.Bool("print-token") {
		a.say("%s", made.Secret)
		return nil
	}
	in := signedIn{URL: address, Token: made.Secret, TokenID: made.Token.ID, Person: made.Person.Name,
		Expires: made.Token.Expires}
	if err := in.keep(); err != nil {
		return err
	}
	a.say("Signed in to %s as %s (%s), until %s.", address, made.Person.Name, made.Person.Role,
		made.Token.Expires.Local().Format(time.DateOnly))
	return nil
}

func (a *app) credentials(ctx context.Context, c *cli.Command) (email, password string, err error) {
	asks := a.onTerminal()
	if email = c.String("email"); email == "" {
		if asks == nil {
			return "", "", usage(c, errors.New("say who signs in with --email"))
		}
		fmt.Fprint(a.err, "E-mail address: ")
		if email, err = a.line(ctx); err != nil {
			return "", "", err
		}
	}
	switch {
	case c.Bool("password-stdin"):
		if password, err = a.line(ctx); err == io.EOF {
			err = nil
		}
	case asks != nil:
		fmt.Fprint(a.err, "Password: ")
		password, err = a.hidden(ctx, asks)
	default:
		return "", "", usage(c, errors.New("there is no terminal to ask for the password: use --password-stdin"))
	}
	return strings.TrimSpace(email), strings.TrimRight(password, "\r\n"), err
}

func (a *app) signOutCommand() *cli.Command {
	return &cli.Command{
		Name:  "sign-out",
		Usage: "end the token that this machine keeps",
		Action: func(ctx context.Context, c *cli.Command) error {
			path, err := signedInPath()
			if err != nil {
				return err
			}
			in, err := remembered()
			if err != nil {
				return err
			}
			r, err := newRemote(in.URL, in.Token)
			if err != nil {
				return err
			}
			response, err := r.SignOut(ctx)
			ended := answer(response, err, nil)
			if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			if ended != nil {
				a.warn("the token is forgotten here, and the service could not be told: %v", ended)
				return nil
			}
			a.say("Signed out of %s.", in.URL)
			return nil
		},
	}
}

package cli

import (
	"errors"
	"os"

	"github.com/urfave/cli/v3"

	"inkret/openid"
)

// providerFlags returns the options for a sign-in provider.
func providerFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "sign-in-issuer",
			Usage: "let those who are invited sign in with the OpenID Connect provider at `URL`, too; answers come " +
				"back to PUBLIC/api/v1/session/openid/done", Sources: cli.EnvVars("INKRET_SIGN_IN_ISSUER")},
		&cli.StringFlag{Name: "sign-in-client",
			Usage: "the `ID` by which the provider knows this service; the secret is taken from " +
				"INKRET_SIGN_IN_SECRET",
			Sources: cli.EnvVars("INKRET_SIGN_IN_CLIENT")},
		&cli.StringFlag{Name: "sign-in-name", Value: "the provider", Usage: "what people call the provider",
			Sources: cli.EnvVars("INKRET_SIGN_IN_NAME")},
	}
}

// signInProvider returns the provider in the options, or nil.
func signInProvider(c *cli.Command) (*openid.Client, error) {
	if c.String("sign-in-issuer") == "" {
		if c.String("sign-in-client") != "" {
			return nil, usage(c, errors.New("--sign-in-client needs a --sign-in-issuer"))
		}
		return nil, nil
	}
	p := &openid.Client{Issuer: c.String("sign-in-issuer"), ID: c.String("sign-in-client"),
		Secret: os.Getenv("INKRET_SIGN_IN_SECRET"), Name: c.String("sign-in-name")}
	if err := p.Check(); err != nil {
		return nil, usage(c, err)
	}
	return p, nil
}

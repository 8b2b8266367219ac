package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/mailing"
	"inkret/report"
	"inkret/service/notify"
)

// mailFlags returns the options for sending mail.
func mailFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "mail-server",
			Usage: "hand mail in at `SERVER`, as smtp://USER@HOST:PORT or smtps://…; its password is taken from " +
				"INKRET_MAIL_PASSWORD", Sources: cli.EnvVars("INKRET_MAIL_SERVER")},
		&cli.StringFlag{Name: "mail-from", Usage: "the `ADDRESS` that mail comes from",
			Sources: cli.EnvVars("INKRET_MAIL_FROM")},
		&cli.IntFlag{Name: "digest-hour", Value: notify.DefaultDigestHour,
			Usage: "the hour, UTC, from which a day's mail is sent", Sources: cli.EnvVars("INKRET_DIGEST_HOUR")},
	}
}

// mailServer returns the mail server in the options, or nil.
func mailServer(c *cli.Command) (notify.Sender, error) {
	if hour := c.Int("digest-hour"); hour < 0 || hour > 23 {
		return nil, usage(c, fmt.Errorf("--digest-hour %d is no hour", hour))
	}
	address := c.String("mail-server")
	if address == "" {
		if c.String("mail-from") != "" {
			return nil, usage(c, errors.New("--mail-from needs a --mail-server"))
		}
		return nil, nil
	}
	s, err := mailing.ParseServer(address, c.String("mail-from"), os.Getenv("INKRET_MAIL_PASSWORD"))
	if err != nil {
		return nil, usage(c, err)
	}
	return s, nil
}

func (a *app) mailCommand() *cli.Command {
	when := []string{"at-once", "daily", "never"}
	return &cli.Command{
		Name: "mail", Usage: "when you are mailed; what the service mailed",
		Description: `What you are told in the console is mailed at once, or once a day together with what waits
for you. A mail has links, and nothing of values or comments.

    inkret mail when at-once
    inkret mail test`,
		Commands: []*cli.Command{
			{Name: "when", Usage: "show when you are mailed, or say it: " + strings.Join(when, ", "),
				ArgsUsage: "[WHEN]", Flags: []cli.Flag{formatFlag()}, Action: a.mailWhen},
			{Name: "test", Usage: "send yourself a mail that says that it is a test", Action: func(ctx context.Context,
				c *cli.Command) error {
				r, err := a.remote()
				if err != nil {
					return err
				}
				response, err := r.TestMail(ctx)
				if err := answer(response, err, nil); err != nil {
					return err
				}
				a.say("It is on its way.")
				return nil
			}},
			{Name: "list", Usage: "list mails, and what came of them", Flags: append(pageFlags(), formatFlag()),
				Action: a.listMails},
			{Name: "again", Usage: "send a mail once more", ArgsUsage: "NUMBER", Action: a.onNumber("a mail",
				(*remote).MailAgain, "")},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) mailWhen(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	if c.Args().Present() {
		when := wire.Mailed(c.Args().First())
		if c.Args().Len() > 1 || !slices.Contains([]wire.Mailed{"at-once", "daily", "never"}, when) {
			return usage(c, errors.New("mail comes at-once, daily or never"))
		}
		response, err := r.SetMailing(ctx, wire.MailWish{When: when})
		if err := answer(response, err, nil); err != nil {
			return err
		}
	}
	return listing(ctx, a, c, func(r *remote) result[wire.Mailing] {
		response, err := r.GetMailing(ctx)
		return answerOf[wire.Mailing](response, err)
	}, func(w io.Writer, m wire.Mailing) {
		fmt.Fprintf(w, "You are mailed: %s.\n", m.When)
		switch {
		case !m.Server:
			fmt.Fprintln(w, "But the service has no mail server: start it with --mail-server and --mail-from.")
		case m.When == "daily":
			fmt.Fprintf(w, "A day's mail is sent from %d:00 UTC on, where there is anything to say.\n", m.DigestHour)
		}
	})
}

func (a *app) listMails(ctx context.Context, c *cli.Command) error {
	page, size := c.Int("page"), c.Int("size")
	return listing(ctx, a, c, func(r *remote) result[wire.MailPage] {
		response, err := r.ListMails(ctx, &wire.ListMailsParams{Page: &page, Size: &size})
		return answerOf[wire.MailPage](response, err)
	}, func(w io.Writer, all wire.MailPage) {
		if len(all.Items) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Mail", "To", "Subject", "Made", "State", "Tries", "What came of it"})
			for _, m := range all.Items {
				t.AppendRow(table.Row{m.ID, report.Clean(m.To), report.Clean(m.Subject),
					m.Made.Local().Format("2006-01-02 15:04:05"), string(m.State), m.Tries, cleanLines(textOf(m.Said))})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "mail", "mails")
	})
}

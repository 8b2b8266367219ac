package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"inkret/service"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "write a backup of a data folder, also while its service runs",
		Description: `Writes the whole database as it is at this moment to one file, with everything
that was acknowledged before. What captures hold is encrypted in it. The key is
not part of it: keep the key somewhere else, and copy it with --key-to.

    inkret backup --data /var/lib/inkret --to monday.db
    inkret backup --data /var/lib/inkret --to monday.db --key-to /safe/inkret.key

Serve makes backups by itself with --backup-to. A backup is put back with: inkret restore`,
		Flags: []cli.Flag{
			dataFlag(),
			&cli.StringFlag{Name: "to", Usage: "the `FILE` to write; it must not be there yet", TakesFile: true},
			&cli.StringFlag{Name: "key-to", Usage: "copy the key to this `FILE` as well", TakesFile: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() || c.String("to") == "" {
				return usage(c, errors.New("name the file to write with --to"))
			}
			to := c.String("to")
			if err := service.BackUp(ctx, c.String("data"), to, c.String("key-to")); err != nil {
				switch {
				case errors.Is(err, os.ErrExist):
					return hint(err, "name a file that is not there yet; a backup is never written over")
				case errors.Is(err, os.ErrNotExist):
					return hint(err, "name the data folder with --data, and a folder that is there with --to")
				}
				return err
			}
			info, err := os.Stat(to)
			if err != nil {
				return err
			}
			a.say("The backup is in %s (%s).", to, humanize.Bytes(uint64(info.Size())))
			if key := c.String("key-to"); key != "" {
				a.say("The key is in %s. Keep the two apart.", key)
			} else {
				a.say("It can be restored only with the key %s.", filepath.Join(c.String("data"), "inkret.key"))
			}
			return nil
		},
	}
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "make a data folder of a backup",
		Description: `Reads a backup from end to end, copies it into a data folder that has no
database, and opens it once with its key. A backup of an earlier version is brought
to this one.

    inkret restore --from monday.db --key /safe/inkret.key --data /var/lib/inkret

To go back on the same machine, stop the service, move the old inkret.db away, and
restore into the folder: its key file stays.`,
		Flags: []cli.Flag{
			dataFlag(),
			&cli.StringFlag{Name: "from", Usage: "the backup `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "key", Usage: "the key `FILE`, where the folder has none", TakesFile: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() || c.String("from") == "" {
				return usage(c, errors.New("name the backup with --from"))
			}
			err := service.Restore(ctx, c.String("from"), c.String("key"), c.String("data"))
			switch {
			case errors.Is(err, os.ErrExist):
				return hint(err, "the folder has a database or key already: move it away first, or name another "+
					"folder with --data")
			case errors.Is(err, os.ErrNotExist):
				return hint(err, "name the key file with --key")
			case err != nil:
				return openError(fmt.Errorf("the backup is not restored: %w", err))
			}
			a.say("The backup is restored in %s. Start it: inkret serve --data %s", c.String("data"), c.String("data"))
			return nil
		},
	}
}

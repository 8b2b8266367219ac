package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/intake"
)

// Shared by commands that read recordings: which files to read, and what recordings do not say themselves.

func audienceFlag() cli.Flag {
	return &cli.StringFlag{Name: "audience", Usage: "all requests were made by the audience `NAME`"}
}

func mappingFlag() cli.Flag {
	return &cli.StringFlag{Name: "audiences", Usage: "a mapping `FILE` that says by recording or request who made it",
		TakesFile: true}
}

func requestFlag() cli.Flag {
	return &cli.StringFlag{Name: "request",
		Usage: "the `\"METHOD URL\"` of responses that are recorded alone, as curl prints them, with or without -i"}
}

// standardInput is the name of a recording from standard input.
const standardInput = "standard input"

// recordingFile is a file to read.
type recordingFile struct {
	name  string
	shown string // without the folders that lead to what was named
	found bool   // in a folder, not named
}

// recordings returns the files that arguments name. Folders are read recursively in order of names, without hidden
// files.
func recordings(args []string) ([]recordingFile, error) {
	var all []recordingFile
	for _, arg := range args {
		info, err := os.Stat(arg)
		if arg == "-" || err != nil || !info.IsDir() { // what is wrong with it is told where it is opened
			one := recordingFile{name: arg, shown: filepath.Base(arg)}
			if arg == "-" {
				one.shown = standardInput
			}
			all = append(all, one)
			continue
		}
		before := len(all)
		err = filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case path != arg && strings.HasPrefix(d.Name(), "."):
				if d.IsDir() {
					return filepath.SkipDir
				}
			case d.Type().IsRegular():
				below, err := filepath.Rel(arg, path)
				if err != nil {
					return err
				}
				all = append(all, recordingFile{path, filepath.ToSlash(below), true})
			}
			return nil
		})
		if err != nil {
			return nil, fileError(err)
		}
		if len(all) == before {
			return nil, fmt.Errorf("the folder %s has no file", arg)
		}
	}
	return all, nil
}

// unknownFile reports whether a file is just not a recording.
func unknownFile(err error) bool {
	var unread *intake.Error
	return errors.As(err, &unread) && unread.Unknown
}

// mappingText returns the mapping file of --audiences as text, or nil.
func mappingText(c *cli.Command) (*string, error) {
	path := c.String("audiences")
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fileError(err)
	}
	return some(string(text)), nil
}

// readMapping parses the mapping file of --audiences; nil without one.
func readMapping(path string, c *contract.Contracts) (*contract.Mapping, error) {
	if path == "" {
		return nil, nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fileError(err)
	}
	return contract.ReadMapping(contract.File{Name: path, Data: data}, c)
}

// readingOptions parses --request.
func readingOptions(c *cli.Command) (intake.Options, error) {
	text := c.String("request")
	if text == "" {
		return intake.Options{}, nil
	}
	r, err := exchange.ParseRequest(text)
	if err != nil {
		return intake.Options{}, usage(c, fmt.Errorf("--request: %w", err))
	}
	return intake.Options{Request: r}, nil
}

// beside returns the folder of a recording, whose files a HAR may refer to, and a function that closes it. Links
// out of the folder are not followed.
func beside(name string) (fs.FS, func()) {
	if name == "-" {
		return nil, func() {}
	}
	root, err := os.OpenRoot(filepath.Dir(name))
	if err != nil {
		return nil, func() {}
	}
	return root.FS(), func() { root.Close() }
}

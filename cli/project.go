package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/core/document"
)

// projectName is the file of a repository's own values for options.
const projectName = ".inkret.yaml"

// projectKeys lists what it may say. The environment overrides it, and options override both.
var projectKeys = []string{"contracts", "servers", "fail-on", "baseline", "service"}

// project is what a repository's file says.
type project struct {
	file   string // its path; empty for none
	values map[string][]string
	fault  error // why it cannot be used
}

// findProject reads the file of the folder, or of the nearest folder above it up to the root of a repository.
func findProject(folder string) *project {
	for {
		name := filepath.Join(folder, projectName)
		data, err := os.ReadFile(name)
		switch {
		case err == nil:
			return readProject(name, data)
		case !errors.Is(err, os.ErrNotExist):
			return &project{file: name, fault: fileError(err)}
		}
		if _, err := os.Stat(filepath.Join(folder, ".git")); err == nil {
			return &project{}
		}
		above := filepath.Dir(folder)
		if above == folder {
			return &project{}
		}
		folder = above
	}
}

func readProject(name string, data []byte) *project {
	p := &project{file: name, values: map[string][]string{}}
	root := document.Parse(shortened(name), data, func(at *document.Node, expected, found string) {
		if p.fault == nil {
			p.fault = fmt.Errorf("%s: %s; expected %s", at.Pos(), found, expected)
		}
	})
	if p.fault != nil || root == nil {
		return p
	}
	if root.Kind != document.Map {
		p.fault = fmt.Errorf("%s: expected keys with values: %s", root.Pos(), strings.Join(projectKeys, ", "))
		return p
	}
	for _, n := range root.Pairs {
		key := n.Name.Text
		if strings.HasPrefix(key, "x-") {
			continue
		}
		if !slices.Contains(projectKeys, key) {
			p.fault = fmt.Errorf("%s: %q is not known here: %s are", n.Name.Pos(), key, strings.Join(projectKeys, ", "))
			return p
		}
		items := n.Items
		if n.Kind != document.List {
			items = []*document.Node{n}
		}
		for _, item := range items {
			several := key == "contracts" || key == "servers"
			if item.Kind != document.String && item.Kind != document.Number || len(items) > 1 && !several {
				p.fault = fmt.Errorf("%s: %s is one text%s", item.Pos(), key, onlyWhere(several, ", or a list of them"))
				return p
			}
			value := item.Text
			if key == "contracts" || key == "baseline" {
				value = shortened(filepath.Join(filepath.Dir(name), filepath.FromSlash(value)))
			}
			p.values[key] = append(p.values[key], value)
		}
	}
	return p
}

func onlyWhere(so bool, text string) string {
	if so {
		return text
	}
	return ""
}

// shortened returns a path as seen from the working folder, where that is shorter.
func shortened(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if rel, err := filepath.Rel(here, path); err == nil && len(rel) < len(path) {
		return rel
	}
	return path
}

// said is where an option's value comes from when it is not given: the environment, then the repository's file.
func (a *app) said(key string) cli.ValueSourceChain {
	return cli.NewValueSourceChain(cli.EnvVar("INKRET_"+strings.ToUpper(strings.ReplaceAll(key, "-", "_"))),
		fromProject{a.project, key})
}

// fromProject is a value of the repository's file.
type fromProject struct {
	*project
	key string
}

// Lookup implements [cli.ValueSource].
func (f fromProject) Lookup() (string, bool) {
	if f.project == nil {
		return "", false
	}
	values, ok := f.values[f.key]
	return strings.Join(values, ","), ok
}

// String implements [cli.ValueSource].
func (f fromProject) String() string { return projectName }

// GoString implements [cli.ValueSource].
func (f fromProject) GoString() string { return projectName + ": " + f.key }

// withProject makes a command and those below it fail where the repository's file cannot be used.
func (a *app) withProject(c *cli.Command) *cli.Command {
	c.Before = func(ctx context.Context, c *cli.Command) (context.Context, error) {
		if a.project.fault != nil {
			return ctx, hint(a.project.fault, "the file gives check, draft, contract and result their values")
		}
		return ctx, nil
	}
	return c
}

// contractPaths returns the argument that names contract files, or what the environment or the repository's file names.
func (a *app) contractPaths(c *cli.Command) ([]string, error) {
	switch c.Args().Len() {
	case 1:
		return []string{c.Args().First()}, nil
	case 0:
		if text := os.Getenv("INKRET_CONTRACTS"); text != "" {
			return strings.Split(text, ","), nil
		}
		if paths := a.project.values["contracts"]; len(paths) > 0 {
			return paths, nil
		}
	}
	return nil, usage(c, errors.New("name one file or folder"))
}

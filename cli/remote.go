package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/client"
	"inkret/report"
)

// signedIn is what sign-in stores.
type signedIn struct {
	URL     string    `json:"url"`
	Token   string    `json:"token"`
	TokenID int64     `json:"token_id"`
	Person  string    `json:"person"`
	Expires time.Time `json:"expires"`
}

// signedInPath is the file for it, in the user's configuration folder and readable only by them.
func signedInPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", hint(err, "set XDG_CONFIG_HOME, or INKRET_URL and INKRET_TOKEN")
	}
	return filepath.Join(dir, "inkret", "signed-in.json"), nil
}

// remembered returns the service to use: INKRET_URL and INKRET_TOKEN, or what sign-in stored. A token is only sent
// to the address it belongs to.
func remembered() (signedIn, error) {
	in := signedIn{URL: os.Getenv("INKRET_URL"), Token: os.Getenv("INKRET_TOKEN")}
	if in.Token != "" && in.URL == "" {
		return in, hint(errors.New("INKRET_TOKEN is set and INKRET_URL is not: a token belongs to one service"),
			"set INKRET_URL to the address of the service that the token is for")
	}
	if in.URL != "" {
		address, err := serverURL(in.URL)
		if err != nil {
			return in, hint(fmt.Errorf("INKRET_URL: %w", err), "set it to the address of the service")
		}
		in.URL = address
	}
	if in.Token != "" {
		return in, nil
	}
	path, err := signedInPath()
	if err != nil {
		return in, err
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return in, hint(errors.New("you are not signed in to a service"), "sign in: inkret sign-in URL",
			"or set INKRET_URL and INKRET_TOKEN")
	}
	if err != nil {
		return in, fileError(err)
	}
	var kept signedIn
	if err := json.Unmarshal(data, &kept); err != nil {
		return in, hint(fmt.Errorf("%s cannot be read: %w", path, err), "sign in again: inkret sign-in URL")
	}
	if in.URL != "" && !sameService(in.URL, kept.URL) {
		return in, hint(fmt.Errorf("you are signed in to %s, and INKRET_URL names %s", kept.URL, in.URL),
			"sign in there: inkret sign-in "+in.URL, "or set INKRET_TOKEN to a token of that service")
	}
	return kept, nil
}

// sameService reports whether two addresses are of the same service: same scheme, host, port and path.
func sameService(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	if err1 != nil || err2 != nil {
		return false
	}
	port := func(u *url.URL) string {
		if p := u.Port(); p != "" {
			return p
		}
		return map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return x.Scheme == y.Scheme && strings.EqualFold(x.Hostname(), y.Hostname()) && port(x) == port(y) &&
		strings.Trim(x.Path, "/") == strings.Trim(y.Path, "/")
}

func (in signedIn) keep() error {
	path, err := signedInPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(in, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(data, '\n'), 0o600)
}

// remote is a client for a service.
type remote struct {
	*client.Client
	url string
}

// serverURL validates the address of a service.
func serverURL(text string) (string, error) {
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" {
		return "", fmt.Errorf("%q is no address of a service; one is written http://127.0.0.1:7465", text)
	}
	return strings.TrimRight(u.String(), "/"), nil
}

// noRedirect follows no redirects, because the token belongs to one address.
func noRedirect(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

func newRemote(address, token string) (*remote, error) {
	c, err := client.NewClient(address, client.WithHTTPClient(&http.Client{CheckRedirect: noRedirect}),
		client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if token != "" {
				r.Header.Set("Authorization", "Bearer "+token)
			}
			return nil
		}))
	return &remote{c, address}, err
}

func (a *app) remote() (*remote, error) {
	in, err := remembered()
	if err != nil {
		return nil, err
	}
	return newRemote(in.URL, in.Token)
}

// answer decodes a response into out, which may be nil. Problems become errors with their next step.
func answer(response *http.Response, err error, out any) error {
	if err != nil {
		return unreachable(err)
	}
	defer response.Body.Close()
	if response.StatusCode < 300 {
		if out == nil || response.StatusCode == http.StatusNoContent {
			return nil
		}
		if err := json.NewDecoder(response.Body).Decode(out); err != nil {
			return hint(fmt.Errorf("the answer of the service cannot be read: %w", err),
				"is this the address of an Inkret service?")
		}
		return nil
	}
	const longest = 1 << 20
	data, _ := io.ReadAll(io.LimitReader(response.Body, longest))
	var p struct {
		wire.Problem
		Problems []wire.ContractFault `json:"problems"`
	}
	if json.Unmarshal(data, &p) != nil || p.Title == "" {
		return hint(fmt.Errorf("the service answered %s", response.Status), "is this the address of an Inkret service?")
	}
	text := p.Title
	if p.Detail != nil {
		text = *p.Detail
	}
	var hints []string
	if p.Next != nil {
		hints = append(hints, *p.Next)
	}
	return hint(&refused{response.StatusCode, text, p.Type}, hints...)
}

// refused is a problem returned by the service.
type refused struct {
	status int
	text   string
	sort   string // what programs tell it by
}

func (r *refused) Error() string { return r.text }

// statusOf returns the HTTP status of a refusal; 0 for other errors.
func statusOf(err error) int {
	var r *refused
	if errors.As(err, &r) {
		return r.status
	}
	return 0
}

// needsFactor reports whether a sign-in lacks a code.
func needsFactor(err error) bool {
	var r *refused
	return errors.As(err, &r) && r.sort == "urn:inkret:problem:second-factor-needed"
}

// unreachable explains why a service cannot be reached.
func unreachable(err error) error {
	var network *net.OpError
	var inURL *url.Error
	if errors.As(err, &inURL) && errors.As(err, &network) {
		u, _ := url.Parse(inURL.URL)
		return hint(fmt.Errorf("no service answers at %s://%s", u.Scheme, u.Host), "start it: inkret serve",
			"or sign in to another: inkret sign-in URL")
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return hint(errors.New("the service went away before it answered"),
			"look at its log, then try again; what it had not acknowledged is not kept")
	}
	if errors.As(err, &inURL) {
		err = inURL.Err
	}
	return err
}

// formatFlag is the --format option of every list.
func formatFlag() cli.Flag {
	return &cli.StringFlag{Name: "format", Value: "table", Usage: "table or json"}
}

// output prints a result as JSON, exactly as the service returned it, or as a table.
func (a *app) output(c *cli.Command, v any, table func(io.Writer)) error {
	switch format := c.String("format"); format {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "table":
		table(a.out)
		return nil
	default:
		return usage(c, fmt.Errorf("there is no format %q: table and json are known", format))
	}
}

// some returns a pointer to v, or nil for the zero value.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func textOf(p *string) string {
	if p == nil {
		return ""
	}
	return report.Clean(*p)
}

// result is a decoded response, or an error.
type result[T any] struct {
	value T
	err   error
}

func answerOf[T any](response *http.Response, err error) result[T] {
	var r result[T]
	r.err = answer(response, err, &r.value)
	return r
}

// calling is an API call about one thing with an id.
type calling[ID any] func(*remote, context.Context, ID, ...client.RequestEditorFn) (*http.Response, error)

// onNumber returns an action that calls the API for the thing with the number in the arguments, and prints what was
// done.
func (a *app) onNumber(what string, do calling[int64], done string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		id, r, err := a.theNumber(c, what)
		if err != nil {
			return err
		}
		response, err := do(r, ctx, id)
		if err := answer(response, err, nil); err != nil {
			return err
		}
		if done != "" {
			a.say(done, id)
		}
		return nil
	}
}

// onFinding returns an action that calls the API for the finding in the arguments.
func (a *app) onFinding(do calling[string]) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		id, r, err := a.namedFinding(c, 1, "one finding")
		if err != nil {
			return err
		}
		response, err := do(r, ctx, id)
		return answer(response, err, nil)
	}
}

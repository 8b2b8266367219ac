package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"sync"
	"time"

	"github.com/urfave/cli/v3"
)

// certificate is a TLS certificate in files, reloaded when they change.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex // guards what follows
	held   *tls.Certificate
	read   time.Time // the change of the files that is held
	looked time.Time
}

// lookEvery is how often the files are checked.
const lookEvery = time.Second

// certificateOf returns the certificate in the options, or nil.
func certificateOf(c *cli.Command, log *slog.Logger) (*certificate, error) {
	cert, key := c.String("tls-cert"), c.String("tls-key")
	switch {
	case cert == "" && key == "":
		return nil, nil
	case cert == "" || key == "":
		return nil, usage(c, errors.New("--tls-cert and --tls-key belong together"))
	}
	out := &certificate{cert: cert, key: key, log: log}
	if err := out.load(); err != nil {
		return nil, hint(fmt.Errorf("the certificate cannot be used: %w", err),
			"both files are PEM; the certificate comes first in its file, then those that vouch for it")
	}
	return out, nil
}

// changed returns the latest modification time of the files.
func (c *certificate) changed() (time.Time, error) {
	var last time.Time
	for _, path := range []string{c.cert, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return last, err
		}
		if info.ModTime().After(last) {
			last = info.ModTime()
		}
	}
	return last, nil
}

func (c *certificate) load() error {
	changed, err := c.changed()
	if err != nil {
		return err
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	c.held, c.read = &pair, changed
	return nil
}

// current returns the certificate in the files, or the previous one while they are invalid.
func (c *certificate) current(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		if changed, err := c.changed(); err != nil || !changed.Equal(c.read) {
			if err == nil {
				err = c.load()
			}
			if err != nil {
				c.log.Error("the renewed certificate cannot be used; the one before stays", "error", err.Error())
			} else {
				c.log.Info("the certificate was read again")
			}
		}
	}
	return c.held, nil
}

func (c *certificate) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.current, NextProtos: []string{"http/1.1"}}
}

// proxiesOf parses the trusted reverse proxies.
func proxiesOf(c *cli.Command) ([]net.IPNet, error) {
	var all []net.IPNet
	for _, text := range c.StringSlice("proxy") {
		network, err := netip.ParsePrefix(text)
		if address, alone := netip.ParseAddr(text); alone == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return nil, usage(c, fmt.Errorf("--proxy needs an address or a network, such as 127.0.0.1 or "+
				"10.0.0.0/8, not %s", quoted(text)))
		}
		network = network.Masked()
		all = append(all, net.IPNet{IP: network.Addr().AsSlice(), Mask: net.CIDRMask(network.Bits(),
			network.Addr().BitLen())})
	}
	return all, nil
}

// publicOf validates --public.
func publicOf(c *cli.Command) error {
	text := c.String("public")
	if text == "" {
		return nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" {
		return usage(c, fmt.Errorf("--public needs a URL such as https://inkret.example, not %s", quoted(text)))
	}
	return nil
}

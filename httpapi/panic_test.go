package httpapi

import (
	"bytes"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"

	"inkret/service"
	"inkret/service/base"
)

// TestAPanicIsAnswered: with 500 and a line of the log that has the place and no value; a begun answer is broken off.
func TestAPanicIsAnswered(t *testing.T) {
	var log bytes.Buffer
	h := &frame{service: &service.Service{Base: base.New(nil, time.Now, nil)},
		options: Options{Log: slog.New(slog.NewTextHandler(&log, nil))}, numbers: newNumbers(nil, "")}
	e := echo.NewWithConfig(echo.Config{HTTPErrorHandler: h.fail})
	e.Use(h.observe, h.safe, h.caught)
	e.GET("/panics", func(*echo.Context) error { panic("tide-and-weed-4711") })
	e.GET("/index", func(*echo.Context) error { var none []int; _ = none[len(log.String())]; return nil })
	e.GET("/late", func(c *echo.Context) error {
		c.Response().WriteHeader(200)
		c.Response().Write([]byte("begun"))
		panic("tide-and-weed-4711")
	})
	s := httptest.NewServer(e)
	defer s.Close()
	for _, path := range []string{"/panics", "/index"} {
		answer, err := http.Get(s.URL + path)
		if err != nil {
			t.Fatalf("%s: the connection broke: %v", path, err)
		}
		answer.Body.Close()
		if answer.StatusCode != 500 || answer.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s", path, answer.StatusCode, answer.Header)
		}
	}
	if answer, err := http.Get(s.URL + "/late"); err == nil {
		if _, err := answer.Body.Read(make([]byte, 100)); err == nil {
			if _, err := answer.Body.Read(make([]byte, 100)); err == nil || strings.Contains(err.Error(), "EOF") &&
				!strings.Contains(err.Error(), "unexpected") {
				t.Errorf("a begun answer ends as if it were whole: %v", err)
			}
		}
		answer.Body.Close()
	}
	if said := log.String(); strings.Contains(said, "tide-and-weed") || strings.Count(said, "request panicked") != 3 ||
		!strings.Contains(said, "panic_test.go") {
		t.Errorf("the log says %s", said)
	}
}

package intake_test

import (
	"fmt"
	"net/url"
	"strings"

	"inkret/core/exchange"
	"inkret/intake"
)

// Whatever form a recording has, it gives one capture after the other.
func ExampleRead() {
	recording := "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n{\"name\":\"Tern\"}"
	request := &exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "quay.example", Path: "/boats/7"}}
	err := intake.Read("boats.http", strings.NewReader(recording), intake.Options{Request: request},
		func(c *exchange.Capture) error {
			fmt.Println(c.Request.Method, c.Request.URL, c.Response.Status, string(c.Response.Body))
			return nil
		})
	fmt.Println(err)
	// Output:
	// GET https://quay.example/boats/7 200 {"name":"Tern"}
	// <nil>
}

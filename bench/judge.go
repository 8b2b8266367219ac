package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"runtime"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
)

// listContract grants everything in the list body.
const listContract = `inkret: 1
service: bench
entities:
  Booking:
    fields: {id: {type: integer, class: internal}, ref: {type: string, class: public, max: 12}, arrives_on: {type: string, format: date, class: public}, note: {type: string, class: internal}}
    relations: {berth: {entity: Berth}, owner: {entity: Skipper}, charges: {entity: Charge, many: true}}
  Berth: {fields: {label: {type: string, class: public}, length: {type: number, class: public}}}
  Skipper: {fields: {id: {type: integer, class: internal}, name: {type: string, class: personal}}}
  Charge: {fields: {id: {type: integer, class: internal}}}
endpoints:
  - endpoint: GET /list
    responses:
      - entity: Booking
        at: /items
        many: true
        grants: {id: , ref: , berth: {grants: {label: , length: }}, owner: {grants: {id: , name: }}, arrives_on: , charges: {reference: id}, note: }
`

// listSchema is the JSON Schema equivalent of listContract.
const listSchema = `{"type":"object","required":["items"],"additionalProperties":false,"properties":{"items":{"type":"array","items":{
 "type":"object","required":["id","ref","berth","owner","arrives_on","charges","note"],"additionalProperties":false,"properties":{
  "id":{"type":"integer"},"ref":{"type":"string","maxLength":12},"arrives_on":{"type":"string","format":"date"},"note":{"type":"string"},
  "berth":{"type":"object","required":["label","length"],"additionalProperties":false,"properties":{"label":{"type":"string"},"length":{"type":"number"}}},
  "owner":{"type":"object","required":["id","name"],"additionalProperties":false,"properties":{"id":{"type":"integer"},"name":{"type":"string"}}},
  "charges":{"type":"array","items":{"type":"integer"}}}}}}}`

// listBody returns a list of nested entities of about n bytes.
func listBody(n int) []byte {
	var b bytes.Buffer
	b.WriteString(`{"items":[`)
	for i := 0; b.Len() < n; i++ {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"id":%d,"ref":"FQ-%06d","berth":{"label":"A%d","length":%d.5},"owner":{"id":%d,"name":"Person %d"},"arrives_on":"2026-05-%02d","charges":[%d,%d],"note":"Arrives late on the tide, please keep the hose ready"}`,
			i, i, i%40, i%20, i, i, i%28+1, i, i+1)
	}
	b.WriteString(`]}`)
	return b.Bytes()
}

func capture(path string, body []byte) *exchange.Capture {
	return &exchange.Capture{Request: exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https",
		Host: "bench.example", Path: path}},
		Response: exchange.Response{Status: 200, Body: body,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}}
}

// sweepPatterns is a sweep as it would be written with regular expressions.
var sweepPatterns = []*regexp.Regexp{
	regexp.MustCompile(`\$2[aby]\$\d\d\$[./A-Za-z0-9]{53}`), regexp.MustCompile(`\$argon2(id|i|d)\$`),
	regexp.MustCompile(`eyJ[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.`),
	regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----`), regexp.MustCompile(`\b\d{13,16}\b`),
	regexp.MustCompile(`[A-Za-z0-9._%+-]+@[A-Za-z0-9.-]+\.[A-Za-z]{2,}`),
	regexp.MustCompile(`\+\d[\d ()-]{7,}`), regexp.MustCompile(`\b[A-Z]{2}\d{2}[A-Z0-9]{11,30}\b`),
	regexp.MustCompile(`(?i)"(password|secret|token|api_?key|email|phone)[^"]*":`),
}

func judge() error {
	contracts, err := contract.Read(contract.File{Name: "bench.yaml", Data: []byte(listContract)})
	if err != nil {
		return err
	}
	parsed, err := jsonschema.UnmarshalJSON(strings.NewReader(listSchema))
	if err != nil {
		return err
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("list.json", parsed); err != nil {
		return err
	}
	schema, err := compiler.Compile("list.json")
	if err != nil {
		return err
	}
	body := listBody(1 << 20)
	leaky := bytes.ReplaceAll(body, []byte(`"note"`), []byte(`"email"`))
	j, clean, leaks, swept := scan.NewJudge(contracts), capture("/list", body), capture("/list", leaky),
		capture("/other", body)
	if out := j.Capture(clean); len(out.Spots) > 0 || out.Skipped != "" {
		return fmt.Errorf("the body that should be clean has %d spots, skipped %q", len(out.Spots), out.Skipped)
	}

	j.Counts = true // as in a check
	in := bytes.NewReader(body)
	decoder := jsontext.NewDecoder(in)
	tokenise := func() {
		in.Reset(body)
		decoder.Reset(in)
		for {
			if _, err := decoder.ReadToken(); err != nil {
				if !errors.Is(err, io.EOF) {
					panic(err)
				}
				return
			}
		}
	}
	baseline := measure(tokenise)
	fmt.Printf("a list body of %.2f MB; tokenising it with jsontext: %.1f MB/s\n", float64(len(body))/1e6,
		float64(len(body))/1e6/baseline)
	row := func(name string, f func()) {
		fmt.Printf("  %-52s %6.2f of tokenising\n", name, ratio(f, tokenise))
	}
	row("judging it: contract, detectors and weights", func() { j.Capture(clean) })
	row("judging it with a leak in each element", func() { j.Capture(leaks) })
	row("sweeping it, no contract", func() { j.Capture(swept) })
	windowed := capture("/list", nil)
	windowed.Response.Long = exchange.NewLong(func() io.Reader { return bytes.NewReader(body) },
		windowed.Response.Header)
	row("judging it through a window, as if it were too long", func() { j.Capture(windowed) })
	row("encoding/json into any", func() {
		var v any
		if json.Unmarshal(body, &v) != nil {
			panic("not JSON")
		}
	})
	row("decoding it and validating by an equal JSON Schema", func() {
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		if err != nil || schema.Validate(v) != nil {
			panic("does not validate")
		}
	})
	row("a sweep of regular expressions", func() {
		for _, p := range sweepPatterns {
			p.FindAllIndex(body, -1)
		}
	})
	if err := independent(clean); err != nil {
		return err
	}
	return secondProcessor(contracts, clean)
}

// independent prints the cost with a thousand contracts, and with a hundred custom detectors, relative to one
// contract and none.
func independent(c *exchange.Capture) error {
	read := func(text string) (*scan.Judge, error) {
		contracts, err := contract.Read(contract.File{Name: "bench.yaml", Data: []byte(text)})
		return scan.NewJudge(contracts), err
	}
	one, err1 := read(listContract)
	many, err2 := read(listContract + strings.SplitN(string(contractDocument(1000)), "endpoints:\n", 2)[1])
	var detectors strings.Builder
	for i := range 100 {
		fmt.Fprintf(&detectors, "  - {name: key %d, class: secret, pattern: 'k%d_[0-9a-f]{16}'}\n", i, i)
	}
	taught, err3 := read(listContract + "detectors:\n" + detectors.String())
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	baseline := func() { one.Capture(c) }
	fmt.Printf("  a thousand contracts more: %.2f of judging it with one; a hundred detectors more: %.2f\n",
		ratio(func() { many.Capture(c) }, baseline), ratio(func() { taught.Capture(c) }, baseline))
	return nil
}

// secondProcessor prints the speed-up with a judge per processor, and the memory used for a body of 100 MB.
func secondProcessor(contracts *contract.Contracts, c *exchange.Capture) error {
	const captures = 24
	n := runtime.GOMAXPROCS(0)
	judges := make([]*scan.Judge, n)
	for i := range judges {
		judges[i] = scan.NewJudge(contracts)
	}
	alone := func() {
		for range captures {
			judges[0].Capture(c)
		}
	}
	together := func() {
		var all sync.WaitGroup
		for i := range judges {
			all.Go(func() {
				for k := i; k < captures; k += n {
					judges[i].Capture(c)
				}
			})
		}
		all.Wait()
	}
	fmt.Printf("  many captures on %d processors: %.2f times as fast as on one\n", n, ratio(alone, together))

	const long = 100 << 20
	var before, after runtime.MemStats
	item := bytes.TrimSuffix(c.Response.Body, []byte("]}"))[len(`{"items":[`):]
	huge := capture("/list", nil)
	huge.Response.Long = exchange.NewLong(func() io.Reader { return repeated(item, long) }, huge.Response.Header)
	runtime.GC()
	runtime.ReadMemStats(&before)
	out := judges[0].Capture(huge)
	runtime.ReadMemStats(&after)
	if out.Skipped != "" {
		return errors.New(out.Skipped)
	}
	fmt.Printf("  a body of %d MB through a window: %.1f MB were allocated for it\n", out.Bytes/1e6,
		float64(after.TotalAlloc-before.TotalAlloc)/1e6)
	return nil
}

// repeated repeats elements of a list until it has at least n bytes.
func repeated(elements []byte, n int) io.Reader {
	parts := []io.Reader{strings.NewReader(`{"items":[`), bytes.NewReader(elements)}
	for size := len(elements); size < n; size += len(elements) {
		parts = append(parts, strings.NewReader(","), bytes.NewReader(elements))
	}
	return io.MultiReader(append(parts, strings.NewReader(`]}`))...)
}

// contractDocument returns a contract document with n endpoints.
func contractDocument(n int) []byte {
	var b strings.Builder
	b.WriteString(strings.Split(listContract, "endpoints:")[0] + "endpoints:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - endpoint: GET /e%d/{id}\n    responses:\n      - entity: Booking\n        at: /items\n "+
			"       many: true\n        grants: {id: , ref: , berth: {grants: {label: , length: }}, owner: {grants: "+
			"{id: , name: }}, note: }\n", i)
	}
	return []byte(b.String())
}

func readContracts() error {
	var before float64
	for _, n := range []int{100, 1000} {
		text := contractDocument(n)
		seconds := measure(func() {
			if _, err := contract.Read(contract.File{Name: "bench.yaml", Data: text}); err != nil {
				panic(err)
			}
		})
		fmt.Printf("  reading and checking %4d endpoint contracts            %6.0f ms", n, seconds*1000)
		if before > 0 {
			fmt.Printf("   %.1f times that of a tenth of them", seconds/before)
		}
		fmt.Println()
		before = seconds
	}
	return nil
}

package main

import (
	"bytes"
	"fmt"

	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/contract"
	"inkret/core/draft"
	"inkret/core/exchange"
	"inkret/core/made"
	"inkret/core/observe"
	"inkret/core/schema"
)

// drafting measures drafts of one made-up API: from its description, relative to reading the description's tokens, and
// from its traffic, relative to reading the tokens of the bodies; and how much a person is asked.
func drafting() error {
	const paths, times = 800, 3
	api := made.New(1).API(paths)
	text := made.JSON(api.Description)
	var captures []*exchange.Capture
	api.Traffic(times, func(c *exchange.Capture) { captures = append(captures, c) })
	sketch, err := schema.Describe("wide.json", text)
	if err != nil {
		return err
	}
	d := draft.Write(sketch, draft.Options{})
	if _, err := contract.Read(contract.File{Name: "draft.yaml", Data: []byte(d.Text)}); err != nil {
		return err
	}
	fmt.Printf("  a description of %d paths, %d kB                  %d entities, %d questions, %d kB\n", paths,
		len(text)/1000, d.Entities, len(d.Questions), len(d.Text)/1000)
	fmt.Printf("  drafting from it, by reading its tokens              %.1f\n", ratio(func() {
		if s, err := schema.Describe("wide.json", text); err == nil {
			draft.Write(s, draft.Options{})
		}
	}, func() { tokens(text) }))
	fmt.Printf("  drafting from %d captures, by reading their tokens %.1f\n", len(captures), ratio(func() {
		o := observe.New(nil)
		for _, c := range captures {
			o.Add(c)
		}
		draft.Write(o.Sketch(), draft.Options{Callers: o.Callers()})
	}, func() {
		for _, c := range captures {
			tokens(c.Response.Body)
		}
	}))
	return nil
}

// tokens reads a JSON text to its end.
func tokens(text []byte) {
	dec := jsontext.NewDecoder(bytes.NewReader(text))
	for {
		if _, err := dec.ReadToken(); err != nil {
			return
		}
	}
}

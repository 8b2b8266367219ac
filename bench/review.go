package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"inkret/core/compare"
	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/exchange"
	"inkret/core/scan"
	"inkret/intake"
	"inkret/service"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

// reviewing measures what a reviewer waits for: comparing a revision, its effect on recorded traffic, the exposure
// map, and a draft from a description.
func reviewing() error {
	if err := widening(); err != nil {
		return err
	}
	if err := effect(); err != nil {
		return err
	}
	if err := exposureMap(); err != nil {
		return err
	}
	return nil
}

func widening() error {
	const endpoints = 1000
	text := contractDocument(endpoints)
	times := 0
	read := func(text []byte) *contract.Contracts {
		times++ // a text that was read before is not read again
		c, err := contract.Read(contract.File{Name: "bench.yaml", Data: fmt.Appendf(nil, "%s# %d\n", text, times)})
		if err != nil {
			panic(err)
		}
		return c
	}
	new := bytes.Replace(text, []byte("berth: {grants: {label: ,"), []byte("berth: {grants: {"), endpoints/2)
	reading := measure(func() { read(text) })
	both := measure(func() { compare.Contracts(read(text), read(new)) })
	fmt.Printf("  telling what a revision of %d endpoints widens           %6.0f ms   %.2f times reading both "+
		"documents\n", endpoints, (both-2*reading)*1000, (both-2*reading)/(2*reading))
	return ticking()
}

// ticking measures one tick in the editor of a large contract: edit, parse, compare.
func ticking() error {
	const endpoints = 5000
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, who, err := filled(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	text := strings.Replace(string(contractDocument(endpoints)), "service: bench", "service: large", 1)
	files := []base.ContractFile{{Name: "bench.yaml", Text: text}}
	if _, _, err := s.Review.Apply(context.Background(), who, "large", review.Proposed{Files: files,
		Reason: "bench"}); err != nil {
		return err
	}
	times := 0
	reading := measure(func() {
		times++
		if _, err := contract.Read(contract.File{Name: "bench.yaml", Data: fmt.Appendf(nil, "%s# %d\n", text,
			times)}); err != nil {
			panic(err)
		}
	})
	var failed error
	one := measure(func() {
		times++
		t, err := s.Review.Try(context.Background(), who, "large", review.Change{Files: files,
			Edits: review.Edits{"bench.yaml": {{Op: "add", Path: fmt.Sprintf("/endpoints/%d/x-tick", times%endpoints),
				Value: document.Count(times)}}}})
		if err != nil || len(t.Problems) > 0 {
			failed = errors.Join(err, failed)
			return
		}
		files = t.Files
	})
	fmt.Printf("  one tick in the editor of %d endpoints                   %6.0f ms   %.2f times reading "+
		"the document\n", endpoints, one*1000, one/reading)
	return failed
}

// effectCaptures is the number of captures for measuring the effect of a change.
const effectCaptures = 10_000

func effect() error {
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var har bytes.Buffer
	if err := recording(&har, effectCaptures, 0); err != nil {
		return err
	}
	s, who, err := filled(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Evidence.Upload(context.Background(), who, "bench", "bench.har", evidence.Said{},
		bytes.NewReader(har.Bytes())); err != nil {
		return err
	}
	begun := time.Now()
	judge := scan.NewJudge(nil)
	if err := intake.Read("bench.har", bytes.NewReader(har.Bytes()), intake.Options{},
		func(c *exchange.Capture) error { judge.Capture(c); return nil }); err != nil {
		return err
	}
	sweeping := time.Since(begun)
	begun = time.Now()
	t, err := s.Review.Try(context.Background(), base.Caller{Person: base.Person{Role: base.Administrator},
		Key: base.Key{Scope: base.ScopeEverything}}, "bench", review.Change{Effect: true,
		Files: []base.ContractFile{{Name: "bench.yaml", Text: strings.Replace(listContract,
			"{reference: id}, note: }", "{reference: id}, remark: note}", 1)}}})
	if err != nil {
		return err
	}
	took := time.Since(begun)
	if t.Effect == nil || t.Effect.Captures != effectCaptures {
		return fmt.Errorf("the effect was worked out on %+v, problems %v", t.Effect, t.Problems)
	}
	fmt.Printf("  effect of a change on %d recorded captures             %6.0f ms   %.2f times reading and sweeping "+
		"their recording\n", effectCaptures, took.Seconds()*1000, took.Seconds()/sweeping.Seconds())
	return nil
}

// wideContracts returns contracts with entities of ten fields each, and endpoints that grant them.
func wideContracts(fields, endpoints int) string {
	var b strings.Builder
	b.WriteString("inkret: 1\nservice: wide\naudiences: [{name: visitor, recognise: {credentials: none}}, {name: " +
		"staff}]\nentities:\n")
	for i := range fields / 10 {
		fmt.Fprintf(&b, "  E%d: {fields: {", i)
		for k := range 10 {
			fmt.Fprintf(&b, "f%d: {type: string, class: public}, ", k)
		}
		b.WriteString("}}\n")
	}
	b.WriteString("endpoints:\n")
	for i := range endpoints {
		fmt.Fprintf(&b, "  - endpoint: GET /e%d\n    responses: [{entity: E%d, grants: {f0: , f1: , f2: , f3: , f4: "+
			", f5: , f6: }}]\n", i, i%(fields/10))
	}
	return b.String()
}

func exposureMap() error {
	const fields, endpoints = 2000, 500
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	s, err := service.Open(ctx, service.Options{Dir: dir})
	if err != nil {
		return err
	}
	defer s.Close()
	who := base.Caller{Person: base.Person{ID: 1, Name: "bench"}}
	if _, _, err := s.Review.Apply(ctx, who, "wide",
		review.Proposed{Files: []base.ContractFile{{Name: "wide.yaml", Text: wideContracts(fields,
			endpoints)}}}); err != nil {
		return err
	}
	m, err := s.Review.Map(ctx, "wide", review.MapFilter{})
	if err != nil {
		return err
	}
	data, err := json.Marshal(m.Cells)
	if err != nil {
		return err
	}
	encoding := func() { json.Marshal(m.Cells) }
	query := func() { s.Review.Map(ctx, "wide", review.MapFilter{}) }
	fmt.Printf("  exposure map of %d fields by %d endpoints, %d cells    %6.1f ms   %.1f times writing its cells as "+
		"JSON (%d kB)\n", fields, endpoints, len(m.Cells), measure(query)*1000, ratio(query, encoding), len(data)/1000)
	return nil
}

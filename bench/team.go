package main

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing/fstest"
	"time"

	"inkret/httpapi"
	"inkret/service"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

const (
	teamEndpoints = 1000
	teamFields    = 100 // findings of each
	teamPeople    = 50
	teamAsked     = 60 // times each

	teamCaptures = 1_000_000 // in the service besides
	againEach    = 10        // captures of each endpoint in the recording that is merged: 10,000
	againFields  = 10        // findings that each of them shows
)

// manyLeaks returns contracts with many endpoints, and a HAR in which each responds the given number of times with
// the given number of ungranted members.
func manyLeaks(times, fields int) (contracts string, har []byte) {
	var c, h bytes.Buffer
	c.WriteString("inkret: 1\nservice: bench\nentities:\n  Thing: {fields: {id: {type: integer, class: internal}, " +
		"email: {type: string, class: personal}}}\nendpoints:\n")
	h.WriteString(`{"log":{"version":"1.2","creator":{"name":"bench","version":"1"},"entries":[`)
	for e := range teamEndpoints {
		fmt.Fprintf(&c, "  - {endpoint: GET /v1/things%d, team: team-%d, responses: [{entity: Thing, grants: "+
			"{id: }}]}\n", e, e%20)
		var body strings.Builder
		body.WriteString(`{"id":1`)
		for f := range fields {
			fmt.Fprintf(&body, `,"member_%d_of_%d":%d`, f, e%7, f)
		}
		body.WriteString("}")
		for n := range times {
			if e+n > 0 {
				h.WriteByte(',')
			}
			fmt.Fprintf(&h, `{"startedDateTime":"2026-05-01T10:00:00Z","time":1,"request":{"method":"GET","url":"https://bench.example/v1/things%d","headers":[]},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"content":{"size":1,"mimeType":"application/json","text":"%s"}}}`,
				e, strings.ReplaceAll(body.String(), `"`, `\"`))
		}
	}
	h.WriteString("]}}")
	return c.String(), h.Bytes()
}

// teamAsk is a page that people of a team look at.
type teamAsk struct{ name, path string }

// teamAsks lists what people of a team look at; id is a finding's.
func teamAsks(id string) []teamAsk {
	return []teamAsk{
		{"the first page", "/api/v1/findings"}, {"the 200th page by path", "/api/v1/findings?page=200&sort=path"},
		{"one severity and kind", "/api/v1/findings?severity=medium&kind=unexpected-field&sort=-last_seen"},
		{"of a team", "/api/v1/findings?assigned=team:team-7"}, {"a search", "/api/v1/findings?q=member_42"},
		{"a search that finds nothing", "/api/v1/findings?q=zebra"},
		{"one with its history", "/api/v1/findings/" + id}, {"home", "/api/v1/home"},
		{"how it stands", "/api/v1/findings/standing"}, {"by kind", "/api/v1/findings?sort=kind"},
		{"by endpoint, turned round", "/api/v1/findings?sort=-endpoint"}, {"by spots", "/api/v1/findings?sort=-spots"},
		{"by bytes", "/api/v1/findings?sort=-bytes"}, {"by due day", "/api/v1/findings?sort=due"},
		{"by first seen", "/api/v1/findings?sort=first_seen"},
		{"gathered by endpoint", "/api/v1/findings/groups?by=endpoint"},
		{"gathered by shape", "/api/v1/findings/groups?by=shape"},
		{"gathered by value", "/api/v1/findings/groups?by=value"},
		{"results of pipelines", "/api/v1/results"}, {"captures", "/api/v1/captures"}, {"captures of an audience",
			"/api/v1/captures?audience=anyone&status=200"}, {"batches", "/api/v1/batches"},
		{"the exposure map", "/api/v1/services/bench/exposure"},
		{"endpoints", "/api/v1/endpoints?sort=-open"}, {"labels", "/api/v1/findings/labels"},
	}
}

// team fills a service with 100,000 findings, and times reads, and changes during an upload.
func team() error {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "inkret-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := service.Open(ctx, service.Options{Dir: dir})
	if err != nil {
		return err
	}
	contracts, har := manyLeaks(1, teamFields)
	p, err := s.People.AddPerson(ctx, "Bench", "bench@bench.example", base.Administrator, "low tide at nine")
	if err != nil {
		return err
	}
	who := base.Caller{Person: p}
	if _, _, err := s.Review.Apply(ctx, who, "bench",
		review.Proposed{Files: []base.ContractFile{{Name: "bench.yaml", Text: contracts}}}); err != nil {
		return err
	}
	begun := time.Now()
	b, err := s.Evidence.Upload(ctx, who, "bench", "leaks.har", evidence.Said{}, bytes.NewReader(har))
	if err != nil {
		return err
	}
	fmt.Printf("  %d findings, found by one recording in %.1f s\n", b.Findings, time.Since(begun).Seconds())
	if s, err = withCaptures(ctx, s, dir); err != nil {
		return err
	}
	defer s.Close()
	handler, err := httpapi.NewHandler(s, httpapi.Options{Version: "bench",
		Console: fstest.MapFS{"index.html": {Data: []byte("x")}}, Public: "http://127.0.0.1",
		Stopping: make(chan struct{})})
	if err != nil {
		return err
	}
	site := httptest.NewServer(handler)
	defer site.Close()
	_, token, err := s.People.NewToken(ctx, base.Caller{}, p, base.Key{Name: "bench"}, 0)
	if err != nil {
		return err
	}
	ids, err := someIDs(ctx, s)
	if err != nil {
		return err
	}
	ask := asker(site.URL, token)
	for _, one := range teamAsks(ids[0]) {
		var took []time.Duration
		for range teamAsked {
			begun := time.Now()
			if err := ask("GET", one.path, ""); err != nil {
				return err
			}
			took = append(took, time.Since(begun))
		}
		fmt.Printf("  %-28s median %6.1f ms   95th percentile %6.1f ms\n", one.name, ms(took, 50), ms(took, 95))
	}
	begun = time.Now()
	if err := ask("POST", "/api/v1/findings/changes",
		`{"filter":"assigned=team:team-7","add_labels":["q3"],"person":"me"}`); err != nil {
		return err
	}
	fmt.Printf("  changing the 5,000 findings of a team in one step: %.0f ms\n", time.Since(begun).Seconds()*1000)
	_, again := manyLeaks(againEach, againFields)
	return atOnce(ctx, s, who, ask, ids, again)
}

// withCaptures adds a million captures, as rows only, and reopens the service.
func withCaptures(ctx context.Context, s *service.Service, dir string) (*service.Service, error) {
	if err := s.Close(); err != nil {
		return nil, err
	}
	begun := time.Now()
	db, err := sql.Open("sqlite", filepath.Join(dir, "inkret.db"))
	if err != nil {
		return nil, err
	}
	const each = 10_000 // captures of a batch
	for i := range teamCaptures / each {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return nil, err
		}
		defer tx.Rollback()
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO batches (service_id, name, digest, audience, author, started, done, captures, judged) SELECT 1, ?, ?, '', 'Bench', started, 1, ?, ? FROM batches WHERE id = 1`,
			fmt.Sprintf("night %d", i), fmt.Sprintf("%064d", i), each, each); err != nil {
			return nil, err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO captures (batch_id, entry, endpoint_id, method, url, audience, audience_by, status, started, bytes, excess, findings, skipped, sealed, holds)
			SELECT (SELECT max(id) FROM batches), entry + 1000 * value, endpoint_id, method, url, audience, audience_by, status, started - 3600000 * ?1, bytes, excess, findings, '', x'', 'nothing'
			FROM json_each('[0,1,2,3,4,5,6,7,8,9]'), captures WHERE batch_id = 1`, i); err != nil {
			return nil, err
		}
		if err := tx.Commit(); err != nil {
			return nil, err
		}
	}
	fmt.Printf("  %d captures written beside them in %.1f s\n", teamCaptures, time.Since(begun).Seconds())
	if err := db.Close(); err != nil {
		return nil, err
	}
	return service.Open(ctx, service.Options{Dir: dir})
}

// someIDs returns ids of findings.
func someIDs(ctx context.Context, s *service.Service) ([]string, error) {
	all, _, err := s.Findings.Findings(ctx, base.FindingFilter{Sort: "path"}, base.Page{Number: 3, Size: 500})
	var ids []string
	for _, f := range all {
		ids = append(ids, f.ID)
	}
	return ids, err
}

// asker returns a function that sends signed-in requests; anything but success is an error.
func asker(base, token string) func(method, path, body string) error {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: teamPeople}}
	return func(method, path, body string) error {
		r, err := http.NewRequest(method, base+path, strings.NewReader(body))
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+token)
		if body != "" {
			r.Header.Set("Content-Type", "application/json")
		}
		answer, err := client.Do(r)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if answer.StatusCode > 299 {
			return fmt.Errorf("%s %s: %s", method, path, text)
		}
		return err
	}
}

func ms(all []time.Duration, percentile int) float64 {
	sorted := slices.Clone(all)
	slices.Sort(sorted)
	return sorted[min(len(sorted)-1, len(sorted)*percentile/100)].Seconds() * 1000
}

// atOnce lets 50 people read and change findings during an upload. Nobody may be refused, and no change may be
// lost.
func atOnce(ctx context.Context, s *service.Service, who base.Caller, ask func(method, path, body string) error,
	ids []string, har []byte) error {
	var people sync.WaitGroup
	var stop atomic.Bool
	reads, writes := make([][]time.Duration, teamPeople), make([][]time.Duration, teamPeople)
	failed := make(chan error, teamPeople+1)
	for i := range teamPeople {
		people.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 1))
			for n := 0; !stop.Load(); n++ {
				begun := time.Now()
				id := ids[r.IntN(len(ids))]
				if n%5 > 0 {
					if err := ask("GET", "/api/v1/findings/"+id, ""); err != nil {
						failed <- err
						return
					}
					reads[i] = append(reads[i], time.Since(begun))
					continue
				}
				if err := ask("POST", "/api/v1/findings/"+id+"/comments", fmt.Sprintf(`{"text":"looked at by %d"}`,
					i)); err != nil {
					failed <- err
					return
				}
				writes[i] = append(writes[i], time.Since(begun))
			}
		})
	}
	begun := time.Now()
	_, err := s.Evidence.Upload(ctx, who, "bench", "again.har", evidence.Said{}, bytes.NewReader(har))
	took := time.Since(begun)
	stop.Store(true)
	people.Wait()
	close(failed)
	for one := range failed {
		return one
	}
	if err != nil {
		return err
	}
	allReads, allWrites := slices.Concat(reads...), slices.Concat(writes...)
	comments := 0
	for _, id := range ids {
		v, err := s.Findings.Finding(ctx, who, id)
		if err != nil {
			return err
		}
		for _, e := range v.History {
			if e.Kind == "comment" {
				comments++
			}
		}
	}
	if comments != len(allWrites) {
		return fmt.Errorf("%d comments were taken and %d are there", len(allWrites), comments)
	}
	fmt.Printf("  %d people at once while a recording that shows all of it again is taken in, %.1f s: %.0f reads/s, "+
		"99th percentile %.0f ms; %.0f writes/s, 99th percentile %.0f ms; none lost\n",
		teamPeople, took.Seconds(), float64(len(allReads))/took.Seconds(), ms(allReads, 99),
		float64(len(allWrites))/took.Seconds(), ms(allWrites, 99))
	return nil
}

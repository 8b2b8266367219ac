package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"sync"
	"time"

	"inkret/record"
)

// The cost of the recorder for the traffic that passes through it, in pairs with a plain reverse proxy of the
// standard library with the same transport settings.

const (
	// Many short pairs, so that other load on the machine affects both.
	recordRounds = 41
	recordFor    = 150 * time.Millisecond
)

// recordClients is the number of concurrent clients.
var recordClients = []int{1, 50, 500}

// passage is the result of a run of calls.
type passage struct{ perSecond, median, late float64 }

// drive sends calls from several clients as fast as they are answered.
func drive(address string, n int) passage {
	var mu sync.Mutex
	var all []time.Duration
	var clients sync.WaitGroup
	end := time.Now().Add(recordFor)
	begun := time.Now()
	for range n {
		clients.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			defer client.CloseIdleConnections()
			var mine []time.Duration
			for time.Now().Before(end) {
				at := time.Now()
				response, err := client.Get(address)
				if err != nil {
					panic(err)
				}
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
				mine = append(mine, time.Since(at))
			}
			mu.Lock()
			all = append(all, mine...)
			mu.Unlock()
		})
	}
	clients.Wait()
	took := time.Since(begun).Seconds()
	slices.Sort(all)
	return passage{float64(len(all)) / took, all[len(all)/2].Seconds(), all[len(all)*99/100].Seconds()}
}

// dropping receives captures and discards them.
type dropping struct{ bytes int }

func (d *dropping) Write(p []byte) (int, error) { d.bytes += len(p); return len(p), nil }

func recorderCost() error {
	for _, size := range []int{2 << 10, 50 << 10} {
		for _, clients := range recordClients {
			if err := passing(size, clients); err != nil {
				return err
			}
		}
	}
	return nil
}

func passing(size, clients int) error {
	body := listBody(size)
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(body)
	}))
	defer api.Close()
	upstream, err := url.Parse(api.URL)
	if err != nil {
		return err
	}
	plain := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(upstream) },
		FlushInterval: -1,
		Transport:     &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 512}})
	defer plain.Close()
	recorder := record.New(record.Options{Upstream: upstream})
	front := httptest.NewServer(recorder)
	defer front.Close()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- recorder.ToWriter(ctx, &dropping{}) }()

	drive(plain.URL, clients) // both warm
	drive(front.URL, clients)
	var throughput, median, late []float64
	var last passage
	for i := range recordRounds {
		first, second := plain.URL, front.URL
		if i%2 == 1 {
			first, second = second, first
		}
		a, b := drive(first, clients), drive(second, clients)
		if i%2 == 1 {
			a, b = b, a
		}
		last = b
		throughput, median, late = append(throughput, b.perSecond/a.perSecond), append(median, b.median/a.median),
			append(late, b.late/a.late)
	}
	stop()
	if err := <-ended; err != nil {
		return err
	}
	n := recorder.Counts()
	middle := func(all []float64) float64 { slices.Sort(all); return all[len(all)/2] }
	fmt.Printf("  answers of %2d kB, %3d clients, %6.0f calls/s: throughput %.3f, latency %.3f at the median and "+
		"%.3f at the 99th percentile of a plain proxy's; %d captured, %d dropped\n",
		size>>10, clients, last.perSecond, middle(throughput), middle(median), middle(late), n.Captured, n.Dropped)
	return nil
}

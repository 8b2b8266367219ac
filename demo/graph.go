package demo

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/graph-gophers/graphql-go"
	"github.com/graph-gophers/graphql-go/relay"
)

// The harbour answers GraphQL, too. It checks who may see a booking, and forgets what hangs on it: the
// skipper's account goes out by nesting, and the search hands out skippers to everybody.

// graphRoot resolves the root fields.
type graphRoot struct{ *Harbour }

// callerKey is the key of who asks in a request's context.
type callerKey struct{}

type graphCaller struct {
	office bool
	who    *skipper
}

// graph returns what answers GraphQL.
func (h *Harbour) graph() http.Handler {
	types, err := contracts.ReadFile("contracts/harbour.graphql")
	if err != nil {
		panic(err) // it is embedded
	}
	answers := &relay.Handler{Schema: graphql.MustParseSchema(string(types), &graphRoot{h}, graphql.MaxDepth(12))}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		office, who := h.caller(r)
		answers.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, graphCaller{office, who})))
	})
}

func callerIn(ctx context.Context) graphCaller {
	c, _ := ctx.Value(callerKey{}).(graphCaller)
	return c
}

func graphID(n int) graphql.ID { return graphql.ID(strconv.Itoa(n)) }

// Berths resolves Query.berths.
func (g *graphRoot) Berths(args struct{ First *int32 }) []*graphBerth {
	n := len(g.berths)
	if args.First != nil && int(*args.First) < n {
		n = max(0, int(*args.First))
	}
	var all []*graphBerth
	for _, b := range g.berths[:n] {
		all = append(all, &graphBerth{b})
	}
	return all
}

// Booking resolves Query.booking.
func (g *graphRoot) Booking(ctx context.Context, args struct{ ID graphql.ID }) (*graphBooking, error) {
	c := callerIn(ctx)
	for _, b := range g.bookings {
		if graphID(b.ID) == args.ID && (c.office || c.who == b.Skipper) {
			return &graphBooking{g.Harbour, b}, nil
		}
	}
	return nil, errors.New("no such booking")
}

// Search resolves Query.search.
func (g *graphRoot) Search(ctx context.Context, args struct{ Text string }) []*graphFound {
	var all []*graphFound
	for _, b := range g.berths {
		if strings.Contains(strings.ToLower(b.Label), strings.ToLower(args.Text)) {
			all = append(all, &graphFound{&graphBerth{b}})
		}
	}
	if c := callerIn(ctx); g.release == 1 || c.office { // for everybody, in release 1
		for _, s := range g.skippers {
			if strings.Contains(strings.ToLower(s.DisplayName), strings.ToLower(args.Text)) {
				all = append(all, &graphFound{&graphSkipper{g.Harbour, s}})
			}
		}
	}
	return all
}

// graphFound is a berth or a skipper.
type graphFound struct{ one any }

// ToBerth returns the berth, if it is one.
func (f *graphFound) ToBerth() (*graphBerth, bool) { b, is := f.one.(*graphBerth); return b, is }

// ToSkipper returns the skipper, if it is one.
func (f *graphFound) ToSkipper() (*graphSkipper, bool) { s, is := f.one.(*graphSkipper); return s, is }

type graphBerth struct{ b *berth }

// The fields of Berth.
func (g *graphBerth) ID() graphql.ID  { return graphID(g.b.ID) }
func (g *graphBerth) Label() string   { return g.b.Label }
func (g *graphBerth) Length() float64 { return g.b.LengthM }
func (g *graphBerth) Price() float64  { return g.b.PriceEUR }

type graphBooking struct {
	h *Harbour
	b *booking
}

// The fields of Booking.
func (g *graphBooking) ID() graphql.ID         { return graphID(g.b.ID) }
func (g *graphBooking) Ref() string            { return g.b.Reference }
func (g *graphBooking) ArrivesOn() string      { return g.b.ArrivesOn }
func (g *graphBooking) LeavesOn() string       { return g.b.LeavesOn }
func (g *graphBooking) Nights() int32          { return int32(g.b.nights) }
func (g *graphBooking) Berth() *graphBerth     { return &graphBerth{g.b.berth} }
func (g *graphBooking) Skipper() *graphSkipper { return &graphSkipper{g.h, g.b.Skipper} }

type graphSkipper struct {
	h *Harbour
	s *skipper
}

// The fields of Skipper.
func (g *graphSkipper) ID() graphql.ID { return graphID(g.s.ID) }
func (g *graphSkipper) Name() string   { return g.s.DisplayName }
func (g *graphSkipper) Email() *string { return &g.s.Email }

// Account resolves Skipper.account: for everybody in release 1, and for nobody after it.
func (g *graphSkipper) Account() (*graphAccount, error) {
	if g.h.release > 1 {
		return nil, errors.New("accounts are not shown here")
	}
	return &graphAccount{g.s.Account}, nil
}

type graphAccount struct{ a *account }

// The fields of Account.
func (g *graphAccount) ID() graphql.ID    { return graphID(g.a.ID) }
func (g *graphAccount) Iban() *string     { return &g.a.IBAN }
func (g *graphAccount) Balance() *float64 { return &g.a.Balance }

// Package demo is the made-up harbour of Fennick Quay: a stand-in API that really answers over HTTP and really
// leaks, its contracts, and a recorder that calls it as three audiences.
//
// docs/demo.md lists the leaks.
package demo

import (
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// The entities in the harbour's database.
type (
	berth struct {
		ID         int        `json:"id"`
		Label      string     `json:"label"`
		LengthM    float64    `json:"length_m"`
		DepthM     float64    `json:"depth_m"`
		PriceEUR   float64    `json:"price_eur"`
		Services   string     `json:"services"`
		RepairNote *string    `json:"repair_note"`
		Bookings   []*booking `json:"bookings,omitempty"`
	}
	boat struct {
		ID          int     `json:"id"`
		Name        string  `json:"name"`
		LengthM     float64 `json:"length_m"`
		HullNumber  string  `json:"hull_number"`
		InsuranceNo string  `json:"insurance_no"`
	}
	account struct {
		ID      int     `json:"id"`
		IBAN    string  `json:"iban"`
		Balance float64 `json:"balance"`
		APIKey  string  `json:"api_key"`
	}
	skipper struct {
		ID           int      `json:"id"`
		DisplayName  string   `json:"display_name"`
		Email        string   `json:"email"`
		Phone        string   `json:"phone"`
		PasswordHash string   `json:"password_hash"`
		BornOn       string   `json:"born_on"`
		LoyaltyTier  string   `json:"loyalty_tier"`
		Account      *account `json:"account,omitempty"`
		Boats        []*boat  `json:"-"`
	}
	booking struct {
		ID        int      `json:"id"`
		Reference string   `json:"reference"`
		ArrivesOn string   `json:"arrives_on"`
		LeavesOn  string   `json:"leaves_on"`
		DeskNote  *string  `json:"desk_note"`
		CreatedAt string   `json:"created_at"`
		Skipper   *skipper `json:"skipper,omitempty"`
		berth     *berth
		charges   []int
		nights    int
	}
	staff struct {
		ID          int    `json:"id"`
		DisplayName string `json:"display_name"`
		Phone       string `json:"phone"`
		DeskPIN     string `json:"desk_pin"`
	}
)

//go:embed page.html
var page string

// Harbour is the stand-in API. It is immutable and safe for concurrent use.
type Harbour struct {
	release  int
	berths   []*berth
	skippers []*skipper
	bookings []*booking
	staff    []*staff
	mux      *http.ServeMux
}

// The amounts of data.
const (
	berthCount   = 24
	skipperCount = 12
	bookingCount = 40
)

// firstDay is the first day of the season.
var firstDay = time.Date(2026, time.May, 1, 0, 0, 0, 0, time.UTC)

var givenNames = []string{"Sol", "Ines", "Tamsin", "Ruark", "Odile", "Pell", "Marit", "Joss", "Vesna", "Corin", "Lida",
	"Bram"}
var familyNames = []string{"Harrow", "Vantongeren", "Quill", "Askew", "Merrow", "Tarn", "Lisle", "Fenwright", "Oster",
	"Pike", "Dovall", "Crane"}
var boatNames = []string{"Gull", "Second Tide", "Marigold", "Slack Water", "Pale Heron", "Osprey Lane", "Winterlight",
	"Foxglove", "Little Wren", "Copperhead", "Northing", "Plover"}

// NewHarbour returns the stand-in API in release 1, which leaks, or release 2, which fixes most leaks, renames one
// member and brings one leak back.
func NewHarbour(release int) *Harbour {
	h := &Harbour{release: release, mux: http.NewServeMux()}
	for i := 1; i <= berthCount; i++ {
		b := &berth{ID: 100 + i, Label: fmt.Sprintf("%c%02d", 'A'+(i-1)/8, (i-1)%8+1), LengthM: 8 + float64(i%5)*1.5,
			DepthM:   2 + float64(i%3)*0.4,
			PriceEUR: 18 + float64(i%5)*4.5, Services: "water, power"}
		if i%6 == 0 {
			note := "Cleat 2 loose; quote from the smith is 240, hold it back until June"
			b.RepairNote = &note
		}
		h.berths = append(h.berths, b)
	}
	for i := 1; i <= skipperCount; i++ {
		given, family := givenNames[i-1], familyNames[i-1]
		s := &skipper{ID: 500 + i, DisplayName: given + " " + family, Email: strings.ToLower(given+"."+family) +
			"@sails.example",
			Phone: fmt.Sprintf("+44 1632 960%03d", 100+i*7), PasswordHash: fakeHash(i),
			BornOn:      fmt.Sprintf("19%02d-0%d-1%d", 60+i*2, i%9+1, i%9),
			LoyaltyTier: []string{"sand", "slate", "brass"}[i%3]}
		s.Account = &account{ID: 900 + i, IBAN: fakeIBAN(i), Balance: float64(i) * 12.5, APIKey: "fqk_" +
			strings.Repeat(fmt.Sprintf("%02x", 37*i%251), 12)}
		s.Boats = []*boat{{ID: 700 + i, Name: boatNames[i-1], LengthM: 7.5 + float64(i%6),
			HullNumber: fmt.Sprintf("XX-FQY%05dK626", 31*i), InsuranceNo: fmt.Sprintf("COVER-%06d", 7919*i%1000000)}}
		h.skippers = append(h.skippers, s)
	}
	for i := 1; i <= bookingCount; i++ {
		from, nights := firstDay.AddDate(0, 0, i*2), 1+i%5
		b := &booking{ID: 7000 + i, Reference: fmt.Sprintf("FQ-%05d", 10000+i*37),
			ArrivesOn: from.Format(time.DateOnly), LeavesOn: from.AddDate(0, 0, nights).Format(time.DateOnly),
			CreatedAt: from.AddDate(0, 0, -30).Add(9 * time.Hour).Format(time.RFC3339),
			Skipper:   h.skippers[i%skipperCount], berth: h.berths[i%berthCount],
			charges: []int{30000 + 2*i, 30001 + 2*i}, nights: nights}
		if i%4 == 0 {
			note := "Asked twice for a discount; says the pontoon is noisy. Do not put next to the ferry crew"
			b.DeskNote = &note
		}
		b.berth.Bookings = append(b.berth.Bookings, b)
		h.bookings = append(h.bookings, b)
	}
	for i, name := range []string{"Wil Harker", "Anselm Roe", "Petra Sand"} {
		h.staff = append(h.staff, &staff{ID: 40 + i, DisplayName: name, Phone: fmt.Sprintf("+44 1632 960%03d", 20+i),
			DeskPIN: fmt.Sprintf("%04d", 4711+i*1213)})
	}
	h.routes()
	return h
}

// fakeHash is text in bcrypt notation that is no hash of anything.
func fakeHash(i int) string {
	const alphabet = "./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
	var b strings.Builder
	for k := range 53 {
		b.WriteByte(alphabet[(i*31+k*k*7+k*13)%len(alphabet)])
	}
	return "$2b$12$" + b.String()
}

// fakeIBAN is a well-formed IBAN of a bank that does not exist.
func fakeIBAN(i int) string {
	bban := fmt.Sprintf("FNCK%010d", 1234567*i)
	n := new(big.Int)
	text := ""
	for _, c := range bban + "NL00" {
		if c >= 'A' {
			text += strconv.Itoa(int(c-'A') + 10)
		} else {
			text += string(c)
		}
	}
	n.SetString(text, 10)
	return fmt.Sprintf("NL%02d%s", 98-new(big.Int).Mod(n, big.NewInt(97)).Int64(), bban)
}

// ServeHTTP implements [http.Handler].
func (h *Harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) { h.mux.ServeHTTP(w, r) }

type object = map[string]any

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, detail string) {
	answer(w, status, object{"title": http.StatusText(status), "status": status, "detail": detail})
}

// caller returns who sends a request: the office by its desk, a skipper by the claim in an unsigned token,
// otherwise a visitor.
func (h *Harbour) caller(r *http.Request) (office bool, who *skipper) {
	if r.Header.Get("X-Desk") != "" {
		return true, nil
	}
	_, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return false, nil
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Sub string `json:"sub"`
	}
	if err != nil || json.Unmarshal(payload, &claims) != nil {
		return false, nil
	}
	for _, s := range h.skippers {
		if strconv.Itoa(s.ID) == claims.Sub {
			return false, s
		}
	}
	return false, nil
}

// berthCard is what clients need to know of a berth. Release 2 renames its price.
func (h *Harbour) berthCard(b *berth) object {
	price := "price"
	if h.release > 1 {
		price = "berth_price"
	}
	return object{"id": b.ID, "label": b.Label, "length": b.LengthM, price: b.PriceEUR}
}

func (b *booking) line() object {
	return object{"id": b.ID, "ref": b.Reference, "arrives_on": b.ArrivesOn, "leaves_on": b.LeavesOn,
		"nights": b.nights}
}

func (h *Harbour) routes() {
	repaired := h.release > 1
	h.mux.HandleFunc("GET /v1/berths", func(w http.ResponseWriter, _ *http.Request) {
		data := []any{}
		for _, b := range h.berths {
			card := h.berthCard(b)
			if !repaired { // the stored berth, whole, with its bookings and all that hangs on them
				card["repair_note"], card["depth_m"], card["bookings"] = b.RepairNote, b.DepthM, b.Bookings
			}
			data = append(data, card)
		}
		answer(w, http.StatusOK, object{"data": data, "meta": object{"count": len(data), "next": nil}})
	})
	h.mux.HandleFunc("GET /v1/berths/{id}", func(w http.ResponseWriter, r *http.Request) {
		for _, b := range h.berths {
			if strconv.Itoa(b.ID) == r.PathValue("id") {
				card := h.berthCard(b)
				card["depth"], card["services"] = b.DepthM, b.Services
				if !repaired {
					card["repair_note"] = b.RepairNote
				}
				answer(w, http.StatusOK, object{"data": card})
				return
			}
		}
		refuse(w, http.StatusNotFound, "no such berth")
	})
	h.mux.HandleFunc("GET /v1/bookings", h.listBookings)
	h.mux.HandleFunc("GET /v1/bookings/{id}", h.oneBooking)
	h.mux.HandleFunc("POST /v1/bookings", func(w http.ResponseWriter, r *http.Request) {
		if _, who := h.caller(r); who == nil {
			refuse(w, http.StatusUnauthorized, "sign in to book")
			return
		}
		var in map[string]any
		if json.NewDecoder(r.Body).Decode(&in) != nil {
			refuse(w, http.StatusBadRequest, "the body is not JSON")
			return
		}
		data := object{"id": 7099, "reference": "FQ-19999"}
		if !repaired && in["discount"] != nil { // read straight into the row, which is echoed
			data["discount"] = in["discount"]
		}
		answer(w, http.StatusCreated, object{"data": data})
	})
	h.mux.HandleFunc("DELETE /v1/bookings/{id}", func(w http.ResponseWriter,
		_ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
	})
	h.mux.HandleFunc("POST /v1/skippers", func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			Name, Email string
		}
		if json.NewDecoder(r.Body).Decode(&in) != nil {
			refuse(w, http.StatusBadRequest, "the body is not JSON")
			return
		}
		data := object{"id": 599, "name": in.Name}
		if !repaired { // the row that was just written, hash included
			data["email"], data["password_hash"] = in.Email, fakeHash(99)
		}
		answer(w, http.StatusCreated, object{"data": data})
	})
	h.mux.HandleFunc("GET /v1/skippers/{id}", h.oneSkipper)
	h.mux.Handle("/graphql", h.graph())
	h.officeRoutes()
	h.openRoutes()
}

// officeRoutes are about money, boats and what the office keeps.
func (h *Harbour) officeRoutes() {
	repaired := h.release > 1
	// nobody wrote a contract for this
	h.mux.HandleFunc("GET /v1/boats/{id}", func(w http.ResponseWriter, r *http.Request) {
		for _, s := range h.skippers {
			for _, b := range s.Boats {
				if strconv.Itoa(b.ID) == r.PathValue("id") {
					answer(w, http.StatusOK,
						object{"boat": object{"id": b.ID, "name": b.Name, "owner": object{"name": s.DisplayName,
							"phone": s.Phone}}})
					return
				}
			}
		}
		refuse(w, http.StatusNotFound, "no such boat")
	})
	h.mux.HandleFunc("GET /v1/charges", func(w http.ResponseWriter, r *http.Request) {
		if office, _ := h.caller(r); !office {
			refuse(w, http.StatusForbidden, "for the office only")
			return
		}
		data := []any{}
		for _, b := range h.bookings[:10] {
			one := object{"id": b.charges[0], "kind": "mooring", "amount": 22.5 * float64(b.nights),
				"booking": b.Reference}
			if !repaired { // promised as a reference and sent as the whole booking
				one["booking"] = object{"id": b.ID, "reference": b.Reference, "desk_note": b.DeskNote}
			}
			data = append(data, one)
		}
		answer(w, http.StatusOK, object{"data": data})
	})
	h.mux.HandleFunc("GET /v1/inspections/{id}", func(w http.ResponseWriter, r *http.Request) {
		data := object{"id": 1, "day": "2026-05-04", "passed": true}
		if office, _ := h.caller(r); office || !repaired { // the office's remarks, for everybody
			data["remarks"] = "Fender rotten on the port side. Owner was rude; check again unannounced"
		}
		answer(w, http.StatusOK, object{"data": data})
	})
}

// openRoutes are for everybody.
func (h *Harbour) openRoutes() {
	repaired := h.release > 1
	h.mux.HandleFunc("GET /v1/notices", func(w http.ResponseWriter, r *http.Request) {
		office, _ := h.caller(r)
		notice := object{"id": 3, "text": "Fuel dock closed on Thursday"}
		w.Header().Set("Cache-Control", "private, no-store")
		if office || !repaired { // a shared cache hands the office's answer to everybody
			notice["duty"] = object{"name": h.staff[0].DisplayName, "phone": h.staff[0].Phone}
		}
		if !repaired {
			w.Header().Set("Cache-Control", "public, max-age=300")
			if !office {
				w.Header().Set("Age", "41")
			}
		}
		answer(w, http.StatusOK, object{"data": []any{notice}})
	})
	h.mux.HandleFunc("GET /v1/staff", func(w http.ResponseWriter, _ *http.Request) {
		data := []any{}
		for _, s := range h.staff {
			one := object{"id": s.ID, "name": s.DisplayName}
			if repaired { // the old leak that comes back with release 2
				one["desk_pin"] = s.DeskPIN
			}
			data = append(data, one)
		}
		answer(w, http.StatusOK, object{"data": data})
	})
	h.mux.HandleFunc("GET /v1/tides", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, object{"station": "Fennick Quay", "tides": []any{
			object{"at": "2026-05-04T03:12:00Z", "height_m": 4.1}, object{"at": "2026-05-04T09:31:00Z",
				"height_m": 0.9}}})
	})
	h.mux.HandleFunc("GET /v1/search", func(w http.ResponseWriter, r *http.Request) {
		body := object{"title": "Internal Server Error", "status": 500, "detail": "the search failed"}
		if !repaired {
			body["query"] = "SELECT * FROM skippers WHERE display_name LIKE '%" + r.URL.Query().Get("q") + "%'"
		}
		answer(w, http.StatusInternalServerError, body)
	})
	h.mux.HandleFunc("GET /arrivals", h.arrivals)
	h.mux.HandleFunc("GET /favicon.ico", func(w http.ResponseWriter,
		_ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
	})
	h.mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { // to click through
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		io.WriteString(w, page)
	})
}

func (h *Harbour) listBookings(w http.ResponseWriter, r *http.Request) {
	office, who := h.caller(r)
	if !office && who == nil {
		refuse(w, http.StatusUnauthorized, "sign in to see bookings")
		return
	}
	fields := r.URL.Query().Get("fields")
	data := []any{}
	for _, b := range h.bookings { // everybody's, in both releases
		line := b.line()
		line["skipper_id"] = b.Skipper.ID
		if fields != "" && h.release > 1 {
			for name := range line {
				if !strings.Contains(","+fields+",", ","+name+",") {
					delete(line, name)
				}
			}
		}
		if h.release == 1 {
			line["desk_note"] = b.DeskNote
		}
		data = append(data, line)
	}
	answer(w, http.StatusOK, object{"data": data, "meta": object{"count": len(data)}})
}

func (h *Harbour) oneBooking(w http.ResponseWriter, r *http.Request) {
	office, who := h.caller(r)
	if !office && who == nil {
		refuse(w, http.StatusUnauthorized, "sign in to see a booking")
		return
	}
	for _, b := range h.bookings {
		if strconv.Itoa(b.ID) != r.PathValue("id") || h.release > 1 && !office && b.Skipper != who {
			continue
		}
		data := b.line()
		owner := object{"id": b.Skipper.ID, "name": b.Skipper.DisplayName}
		if office || h.release == 1 {
			data["note"] = b.DeskNote
		}
		if b.DeskNote == nil {
			delete(data, "note")
		}
		if h.release == 1 {
			owner["email"], owner["born_on"], owner["loyalty_tier"] = b.Skipper.Email, b.Skipper.BornOn,
				b.Skipper.LoyaltyTier
		}
		data["berth"], data["owner"], data["charges"] = h.berthCard(b.berth), owner, b.charges
		data["weather"] = object{"wind": "SW 4", "sea": "moderate"}
		answer(w, http.StatusOK, object{"data": data, "links": object{"self": r.URL.Path}})
		return
	}
	refuse(w, http.StatusNotFound, "no such booking")
}

func (h *Harbour) oneSkipper(w http.ResponseWriter, r *http.Request) {
	office, who := h.caller(r)
	for _, s := range h.skippers {
		if strconv.Itoa(s.ID) != r.PathValue("id") {
			continue
		}
		if !office && who != s {
			break
		}
		boats := []any{}
		for _, b := range s.Boats {
			one := object{"id": b.ID, "name": b.Name}
			if office {
				one["length"] = b.LengthM
			}
			if h.release == 1 {
				one["insurance_no"] = b.InsuranceNo
			}
			boats = append(boats, one)
		}
		data := object{"id": s.ID, "name": s.DisplayName, "phone": s.Phone, "boats": boats}
		if !office || h.release == 1 { // the office needs no e-mail addresses
			data["email"] = s.Email
		}
		answer(w, http.StatusOK, object{"data": data})
		return
	}
	refuse(w, http.StatusNotFound, "no such skipper")
}

// arrivals is a page with its data embedded.
func (h *Harbour) arrivals(w http.ResponseWriter, _ *http.Request) {
	state := []any{}
	for _, b := range h.bookings[:5] {
		one := object{"berth": b.berth.Label, "boat": b.Skipper.Boats[0].Name, "day": b.ArrivesOn}
		if h.release == 1 {
			one["skipper"] = object{"name": b.Skipper.DisplayName, "email": b.Skipper.Email}
		}
		state = append(state, one)
	}
	baked, _ := json.Marshal(object{"arrivals": state})
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html><title>Arrivals at Fennick Quay</title><link rel=icon "+
		"href=data:,><h1>Arrivals</h1><script id=\"state\" "+
		"type=\"application/json\">%s</script>\n", baked)
}

package httpapi

import (
	"strings"

	"inkret/api/wire"
	"inkret/service"
	"inkret/service/base"
)

// handlers implements the operations, one struct per room of the service. Each handler decodes, calls one use case,
// and encodes.
type handlers struct {
	*frame
	peopleHandlers
	reviewHandlers
	evidenceHandlers
	findingHandlers
	reportHandlers
	notifyHandlers
	upkeepHandlers
}

// The operations of each room.
type (
	peopleHandlers   struct{ *frame }
	reviewHandlers   struct{ *frame }
	evidenceHandlers struct{ *frame }
	findingHandlers  struct{ *frame }
	reportHandlers   struct{ *frame }
	notifyHandlers   struct{ *frame }
	upkeepHandlers   struct{ *frame }
)

// frame is shared by all operations.
type frame struct {
	service *service.Service
	options Options
	numbers *numbers
}

func newHandlers(f *frame) *handlers {
	return &handlers{f, peopleHandlers{f}, reviewHandlers{f}, evidenceHandlers{f}, findingHandlers{f},
		reportHandlers{f},
		notifyHandlers{f}, upkeepHandlers{f}}
}

// SetupLink returns the address for using a one-time code. The code is in the fragment, which browsers do not send.
func SetupLink(public, code string) string { return public + "/set-up#" + code }

// pageOf returns the requested page. The description limits both numbers.
func pageOf(number *wire.PageNumber, size *wire.PageSize) base.Page {
	const defaultSize = 50
	p := base.Page{Number: 1, Size: defaultSize}
	if number != nil {
		p.Number = *number
	}
	if size != nil {
		p.Size = *size
	}
	return p
}

func list(s *string) []string {
	var out []string
	for _, part := range strings.Split(value(s), ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

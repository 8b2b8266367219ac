package review

import (
	"context"

	"inkret/service/base"
	"inkret/store"
)

// ExportFor returns the contracts in force and logs the export on the trail.
func (s *Review) ExportFor(ctx context.Context, who base.Caller, service string) (store.Revision, error) {
	r, err := s.Export(ctx, service)
	if err == nil {
		s.base.NoteRead(ctx, who, "export contracts", service, "as they are")
	}
	return r, err
}

package service

import (
	"context"
	"sync"
	"time"

	"inkret/service/notify"
)

const (
	// purgeEvery is how often old bodies are purged, waiversEvery how often waivers are checked for their end.
	purgeEvery   = time.Hour
	waiversEvery = time.Minute
	watchesEvery = 20 * time.Second
)

// Run runs the periodic tasks until ctx ends. public is the service's public address.
func (s *Service) Run(ctx context.Context, public string) {
	s.Notify.ReachedAt(public)
	var all sync.WaitGroup
	for _, task := range []struct {
		every time.Duration
		what  string
		do    func(context.Context) error
	}{
		{purgeEvery, "dropping bodies whose time is over", func(ctx context.Context) error {
			_,
				err := s.Evidence.Purge(ctx)
			return err
		}},
		{waiversEvery, "ending waivers", s.Findings.EndWaivers},
		{purgeEvery, "looking at proofs of earlier rules", s.Evidence.LookAgain},
		{watchesEvery, "running watches", s.Evidence.RunWatches},
		{waiversEvery, "deciding what quiet recordings prove", s.Evidence.Quiet},
		{waiversEvery, "making a backup", s.backUpOnce},
		{notify.HooksEvery, "telling hooks", s.Notify.DeliverOnce},
		{notify.MailEvery, "telling those who follow views", s.Notify.TellOfViews},
		{notify.MailEvery, "sending mail", s.Notify.MailOnce},
	} {
		all.Go(func() {
			for ctx.Err() == nil {
				if err := task.do(ctx); err != nil && ctx.Err() == nil {
					s.Base.Log.Error("it failed and is tried again", "what", task.what, "error", err.Error())
				}
				select {
				case <-time.After(task.every):
				case <-ctx.Done():
				}
			}
		})
	}
	all.Wait()
}

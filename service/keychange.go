package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"inkret/sealing"
	"inkret/service/vault"
	"inkret/store"
)

// KeyChange is the progress of a change of key.
type KeyChange struct {
	Captures    int // sealed anew
	Credentials int // sealed anew
}

// resealAt is how many captures are encrypted again per transaction.
const resealAt = 500

// ChangeKey encrypts everything in a data folder with a new key. No service may have the folder open. If it is
// interrupted, calling it again continues where it stopped; until the end, the key file holds both keys. progress
// is called now and then.
func ChangeKey(ctx context.Context, dir string, progress func(KeyChange)) (KeyChange, error) {
	var done KeyChange
	if _, err := os.Stat(filepath.Join(dir, vault.KeyName)); err != nil {
		return done, fmt.Errorf("the key file cannot be read: %w", err)
	}
	s, err := Open(ctx, Options{Dir: dir})
	if err != nil {
		return done, err
	}
	defer s.Close()
	path := filepath.Join(dir, vault.KeyName)
	keys, err := sealing.ReadKeys(path)
	if err != nil {
		return done, err
	}
	if len(keys) == 1 {
		keys = append([][]byte{sealing.NewKey()}, keys...)
		if err := sealing.WriteKeys(path, keys); err != nil {
			return done, fmt.Errorf("the key file cannot be written: %w", err)
		}
	}
	if err := s.vault.Take(keys); err != nil {
		return done, err
	}
	if err := s.store.SetSetting(ctx, store.TrailEntry{}, vault.KeyCheck,
		sealing.Proof(keys[0], vault.KeyCheck)); err != nil {
		return done, err
	}
	for last := int64(0); ; {
		some, err := s.store.Captures.Sealed(ctx, last, resealAt)
		if err != nil {
			return done, err
		}
		if len(some) == 0 {
			break
		}
		last = some[len(some)-1].ID
		some, err = s.vault.Resealed(some)
		if err != nil {
			return done, err
		}
		if err := s.store.Captures.Reseal(ctx, some); err != nil {
			return done, err
		}
		if done.Captures += len(some); progress != nil {
			progress(done)
		}
	}
	if err := errors.Join(s.People.ResealFactors(ctx), s.Notify.ResealHooks(ctx), s.Begin.Reseal(ctx)); err != nil {
		return done, err
	}
	if done.Credentials, err = s.resealCredentials(ctx); err != nil {
		return done, err
	}
	if err := s.resealWatches(ctx); err != nil {
		return done, err
	}
	entry := s.Base.ByItself("change key", "data folder", fmt.Sprintf("%d captures and %d credentials were sealed anew",
		done.Captures, done.Credentials))
	entry.Author = "command line"
	if err := s.vault.ResealPrintKey(ctx, s.store, entry); err != nil {
		return done, err
	}
	return done, sealing.WriteKeys(path, keys[:1])
}

func (s *Service) resealCredentials(ctx context.Context) (int, error) {
	services, err := s.store.Contracts.Services(ctx)
	if err != nil {
		return 0, err
	}
	count := 0
	for _, api := range services {
		all, err := s.store.Captures.AllCredentials(ctx, api.Name)
		if err != nil {
			return count, err
		}
		for i := range all {
			data, _, err := s.vault.Open(all[i].Sealed, vault.SecretAs)
			if err != nil {
				return count, fmt.Errorf("credentials of %s: %w", all[i].Audience, err)
			}
			all[i].Sealed = s.vault.Seal(data, vault.SecretAs)
		}
		if err := s.store.Captures.ReplaceSecrets(ctx, api.Name, all); err != nil {
			return count, err
		}
		count += len(all)
	}
	return count, nil
}

func (s *Service) resealWatches(ctx context.Context) error {
	all, err := s.store.Watches.All(ctx, "")
	if err != nil {
		return err
	}
	for _, w := range all {
		calls, err := s.store.Watches.WatchCalls(ctx, w.ID)
		if err != nil {
			return err
		}
		if calls, err = s.vault.Resealed(calls); err != nil {
			return fmt.Errorf("the watch %s: %w", w.Name, err)
		}
		var sealed [][]byte
		for _, c := range calls {
			sealed = append(sealed, c.Sealed)
		}
		if err := s.store.Watches.ReplaceWatchCalls(ctx, w.ID, sealed); err != nil {
			return err
		}
	}
	return nil
}

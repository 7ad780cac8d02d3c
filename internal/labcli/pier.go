package labcli

import (
	"context"
	"errors"
	"path/filepath"

	"plumbbob/demo"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/lab"
	"plumbbob/internal/service"
	"plumbbob/internal/store"
)

const (
	pierDir    = "pier" // in the demo's directory: what belongs to the second service
	pierListen = "127.0.0.1:8026"

	pierWords = `
At the pier Skarvoe stands a second service, which acts there. Its ladder way-out
rehearses; the log-in is admin as well.

  console    %s
  password   in %s/admin-password

  bin/plumb-lab fault line-stuck skarvoe-cell   and watch it from there
`
)

// besides has the lab seen from the pier.
func besides(l *lab.Lab, text string) error {
	e, err := estatefile.Parse("pier", []byte(text))
	if err == nil {
		err = l.Beside(e)
	}
	return err
}

// openPier opens the service that stands at the pier, with what it works with. The office is at a URL.
func openPier(ctx context.Context, o service.Options, l *lab.Lab, text, office string) (*service.Service, error) {
	o = service.Options{
		DataDir: filepath.Join(o.DataDir, pierDir), Listen: pierListen, Console: o.Console, Connect: o.Connect, Log: o.Log.With("service", demo.Post), Hurry: o.Hurry, Notice: o.Notice,
	}
	if taken(o.Listen) {
		o.Listen = "127.0.0.1:0"
	}
	s, err := service.Open(ctx, o)
	if err != nil {
		return nil, err
	}
	if err := furnishPier(ctx, s, o.DataDir, text, l.Post.Address); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := errors.Join(l.Runs(demo.Post, s.URL), l.Runs(demo.Office, office)); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func furnishPier(ctx context.Context, s *service.Service, dir, text, mailAt string) error {
	if _, err := keepPassword(s, dir); err != nil {
		return err
	}
	if err := giveSecrets(ctx, s); err != nil {
		return err
	}
	switch v, err := s.Store.Estate(ctx); {
	case errors.Is(err, store.ErrNotFound):
		if err := importEstate(ctx, s.Store, 0, dir, text); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		if err := renew(ctx, s.Store, v, dir, text); err != nil {
			return err
		}
	}
	if err := appoint(ctx, s.Store, mailAt); err != nil {
		return err
	}
	e, err := estatefile.Parse(estateFile, []byte(text))
	if err != nil {
		return err
	}
	return rehearse(ctx, s.Store, e, demo.PierLadders)
}

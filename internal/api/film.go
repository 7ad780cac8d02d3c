package api

import (
	"bytes"
	"cmp"
	"context"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
)

// What watched screens showed, as it is kept.

// filmSpan is how far back is looked when nobody says: as far as it is kept, usually.
const filmSpan = 14 * 24 * time.Hour

// ListPictures implements the contract.
func (s *Server) ListPictures(ctx context.Context, req contract.ListPicturesRequestObject) (contract.ListPicturesResponseObject, error) {
	k := estate.Key(req.Key)
	if err := s.knows(k); err != nil {
		return nil, err
	}
	to := time.Now()
	if t := req.Params.Until; t != nil {
		to = *t
	}
	from := to.Add(-filmSpan)
	if t := req.Params.Since; t != nil {
		from = *t
	}
	if !from.Before(to) {
		return nil, usage("since is %s, and that is not before %s", from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	all, err := s.Store.Pictures(ctx, k, from, to, cmp.Or(orZero(req.Params.Limit), 200))
	out := contract.ListPictures200JSONResponse{}
	for _, p := range all {
		out = append(out, contract.KeptPicture{At: p.At, Why: p.Why, Bytes: p.Bytes})
	}
	return out, err
}

// GetKeptPicture implements the contract.
func (s *Server) GetKeptPicture(ctx context.Context, req contract.GetKeptPictureRequestObject) (contract.GetKeptPictureResponseObject, error) {
	k := estate.Key(req.Key)
	if err := s.knows(k); err != nil {
		return nil, err
	}
	p, err := s.Store.Picture(ctx, k, req.Params.At)
	if err != nil {
		return nil, err
	}
	return contract.GetKeptPicture200ImagePngResponse{Body: bytes.NewReader(p.Content), ContentLength: int64(len(p.Content))}, nil
}

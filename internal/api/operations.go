package api

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/store"
)

func usage(format string, args ...any) error {
	return &operation.UsageError{Text: fmt.Sprintf(format, args...)}
}

// intent reads what previews and requests have in common.
func intent(b contract.Intent) (operation.Intent, error) {
	in := operation.Intent{Kind: operation.Kind(b.Kind), Device: estate.Key(b.Device), Force: b.Force != nil && *b.Force, Endpoint: text(b.Endpoint), Into: operation.Into(orZero(b.Into))}
	if b.Means != nil {
		in.Means = operation.Means(*b.Means)
	}
	if b.Button != nil {
		in.Button = sending.Button(*b.Button)
	}
	in.Hold, in.Within = seconds(b.HoldSeconds), seconds(b.WithinSeconds)
	var err error
	in.Outlets, err = outletEnds(b.Outlets)
	return in, err
}

// asker is who wants something done, and from where.
func (s *Server) asker(ctx context.Context) operation.Asker {
	w := whoIs(ctx)
	remote, _ := ctx.Value(remoteKey{}).(string)
	from, _ := netip.ParseAddr(remote) // one that is none is in no network
	return operation.Asker{Name: w.Account, Role: operation.Role(w.Role), Via: s.Keeper.Estate().WayOf(from)}
}

func nowUTC() time.Time { return time.Now().UTC() }

// PreviewOperation implements the contract.
func (s *Server) PreviewOperation(ctx context.Context, req contract.PreviewOperationRequestObject) (contract.PreviewOperationResponseObject, error) {
	in, err := intent(*req.Body)
	if err != nil {
		return nil, err
	}
	p, err := s.Actor.Preview(ctx, in, s.asker(ctx))
	if err != nil {
		return nil, err
	}
	out := previewView(p)
	out.Lines = append(s.attended(p.Device), out.Lines...)
	return contract.PreviewOperation200JSONResponse(out), nil
}

const maxWhy = 500

// RequestOperation implements the contract.
func (s *Server) RequestOperation(ctx context.Context, req contract.RequestOperationRequestObject) (contract.RequestOperationResponseObject, error) {
	b := req.Body
	in, err := intent(b.Intent)
	if err != nil {
		return nil, err
	}
	r := act.Request{Intent: in, Digest: b.Digest, By: s.asker(ctx), ID: onceID(ctx, req.Params.IdempotencyKey)}
	if r.Consent, err = consent(b.Why, b.Names, b.Override); err != nil {
		return nil, err
	}
	o, err := s.Actor.Request(ctx, r)
	if errors.Is(err, store.ErrConflict) {
		return nil, fmt.Errorf("another operation has just begun on the same device or outlet: look at it with plumb op list: %w", err)
	}
	if err != nil {
		return nil, err
	}
	return contract.RequestOperation202JSONResponse(s.operationNow(ctx, o)), nil
}

// orZero is what was given, or the zero value.
func orZero[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func deref[T any](p *[]T) []T {
	if p == nil {
		return nil
	}
	return *p
}

func (s *Server) operationNow(ctx context.Context, o *operation.Operation) contract.Operation {
	return operationView(o, cmp.Or(gateOf(ctx).zone, s.Keeper.Estate().Zone(o.Device)))
}

func limitOf(n *int) int {
	if n == nil {
		return 50
	}
	return min(500, max(1, *n))
}

// ListOperations implements the contract.
func (s *Server) ListOperations(ctx context.Context, req contract.ListOperationsRequestObject) (contract.ListOperationsResponseObject, error) {
	f := store.OperationFilter{Before: text(req.Params.Before), Limit: limitOf(req.Params.Limit)}
	if req.Params.Device != nil {
		f.Device = estate.Key(*req.Params.Device)
	}
	if req.Params.State != nil {
		f.State = operation.State(*req.Params.State)
	}
	ops, err := s.Actor.List(ctx, f)
	if err != nil {
		return nil, err
	}
	out := contract.ListOperations200JSONResponse{Body: []contract.Operation{}}
	for _, o := range ops {
		out.Body = append(out.Body, s.operationNow(ctx, o))
	}
	if len(ops) == 0 && f.Before == "" {
		err = s.knows(f.Device)
	}
	out.Headers.Link = nextPage(ctx, ops, f.Limit, func(o *operation.Operation) string { return o.ID })
	if len(ops) == 0 && f.Before != "" {
		_, err = s.Actor.Find(ctx, f.Before)
	}
	return out, noOperation(f.Before, err)
}

func noOperation(id string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &missing{fmt.Sprintf("there is no operation %q: plumb op list shows them", id)}
	}
	return err
}

// GetOperation implements the contract.
func (s *Server) GetOperation(ctx context.Context, req contract.GetOperationRequestObject) (contract.GetOperationResponseObject, error) {
	o, err := s.Actor.Find(ctx, req.ID)
	if err != nil {
		return nil, noOperation(req.ID, err)
	}
	out := s.operationNow(ctx, o)
	out.Proof = proofView(o.Proof, seat.May(operation.Role(whoIs(ctx).Role), seat.See))
	return contract.GetOperation200JSONResponse(out), nil
}

// GetOperationFile implements the contract. It is only ever saved, and never shown by
// a browser as what its maker may have meant it to be.
func (s *Server) GetOperationFile(ctx context.Context, req contract.GetOperationFileRequestObject) (contract.GetOperationFileResponseObject, error) {
	f, err := s.Actor.File(ctx, req.ID, req.File)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &missing{fmt.Sprintf("operation %q has no file %q, or it is not kept any more: plumb op show %s --proof lists them", req.ID, req.File, req.ID)}
	}
	if err != nil {
		return nil, err
	}
	if f.Type == "image/png" {
		return contract.GetOperationFile200ImagePngResponse{Body: bytes.NewReader(f.Content), ContentLength: int64(len(f.Content))}, nil
	}
	return contract.GetOperationFile200ApplicationOctetStreamResponse{Body: bytes.NewReader(f.Content), ContentLength: int64(len(f.Content))}, nil
}

// CancelOperation implements the contract.
func (s *Server) CancelOperation(ctx context.Context, req contract.CancelOperationRequestObject) (contract.CancelOperationResponseObject, error) {
	o, err := s.Actor.Cancel(ctx, req.ID, whoIs(ctx).Account)
	if err != nil {
		return nil, noOperation(req.ID, err)
	}
	return contract.CancelOperation202JSONResponse(s.operationNow(ctx, o)), nil
}

package api

import (
	"context"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/version"
)

// GetVersion implements the contract.
func (s *Server) GetVersion(context.Context, contract.GetVersionRequestObject) (contract.GetVersionResponseObject, error) {
	v := version.This()
	return contract.GetVersion200JSONResponse{Version: v.Version, Revision: optional(v.Revision), At: timeOf(v.At), Changed: &v.Changed, Go: v.Go}, nil
}

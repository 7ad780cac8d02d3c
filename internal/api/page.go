package api

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"strings"
)

// nextPage is the link to what comes behind a full page (RFC 8288), or nil.
func nextPage[T any](ctx context.Context, page []T, limit int, id func(T) string) *string {
	if len(page) < limit {
		return nil
	}
	at := gateOf(ctx).url
	q := at.Query()
	q.Set("before", id(page[len(page)-1]))
	q.Set("limit", fmt.Sprint(limit))
	link := fmt.Sprintf("<%s?%s>; rel=\"next\"", at.Path, q.Encode())
	return &link
}

// onceID is the id of what is begun with a key that whoever asks has made up: the same
// key of the same person is always the same id, in this service and in the next.
func onceID(ctx context.Context, key *string) string {
	if key == nil {
		return ""
	}
	sum := sha256.Sum256([]byte(whoIs(ctx).Account + "\x00" + *key))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:10])
}

package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"

	"plumbbob/internal/core/plain"
)

// files are the operations whose bodies carry one, which is looked at by what reads it.
var files = []string{"importEstate", "diffEstate", "setProfile", "tryProfile", "setCalendar", "setSecret"}

// typedUnseen are members that are no text for anybody to read.
var typedUnseen = []string{"password", "old", "new"}

// readable refuses texts with what nobody can read, and what acts on whoever is shown it.
func readable(r *http.Request, operation string) error {
	if slices.Contains(files, operation) || r.Body == nil || r.Body == http.NoBody {
		return nil
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return err
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	var doc any
	if json.Unmarshal(body, &doc) != nil {
		return nil // the handler says so
	}
	return textsOf(doc, "")
}

func textsOf(doc any, at string) error {
	switch x := doc.(type) {
	case string:
		if bad, found := plain.Find(x); found {
			return &invalidError{at, fmt.Sprintf("has a character that is no text (%U): take it out", bad)}
		}
	case []any:
		for i, m := range x {
			if err := textsOf(m, fmt.Sprintf("%s/%d", at, i)); err != nil {
				return err
			}
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if slices.Contains(typedUnseen, k) {
				continue
			}
			if err := textsOf(x[k], at+"/"+k); err != nil {
				return err
			}
		}
	}
	return nil
}

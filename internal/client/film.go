package client

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"time"

	"plumbbob/internal/api/contract"
)

// film shows what is kept of what a screen showed, or writes it into a directory.
func (a *app) film(ctx context.Context, s *service, device string, back time.Duration, export string) error {
	since := time.Now().Add(-back)
	all, err := ask[[]contract.KeptPicture](s)(s.ListPictures(ctx, device, &contract.ListPicturesParams{Since: &since, Limit: new(mostFilm)}))
	if err != nil {
		return err
	}
	if len(all) == 0 && (a.output == "table" || export != "") {
		fmt.Fprintf(a.err, "Nothing is kept of the screen of %s since %s: it is when it falls silent, with watch: true at the endpoint of its screen in the estate.\n", device, since.Local().Format(time.DateTime))
		return nil
	}
	if len(all) == mostFilm {
		fmt.Fprintf(a.err, "These are the newest %d: ask for a shorter --past.\n", mostFilm)
	}
	if export != "" {
		for i := len(all) - 1; i >= 0; i-- {
			if err := a.exportPicture(ctx, s, device, all[i].At, export); err != nil {
				return err
			}
		}
		return nil
	}
	return a.show(all, func() table {
		t := table{columns: []string{inZone("WHEN"), "WHY", "KB"}}
		for _, p := range all {
			t.rows = append(t.rows, row(logged(&p.At), p.Why, (p.Bytes+999)/1000))
		}
		return t
	})
}

const mostFilm = 1000

func (a *app) exportPicture(ctx context.Context, s *service, device string, at time.Time, dir string) error {
	res, err := s.GetKeptPicture(ctx, device, &contract.GetKeptPictureParams{At: at})
	if err != nil {
		return s.unreachable(err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return s.refused(res)
	}
	return a.saveNew(res.Body, "--export", filepath.Join(dir, device+"-"+at.UTC().Format("20060102T150405.000Z")+".png"))
}

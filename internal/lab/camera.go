package lab

import (
	"bytes"
	"context"
	"fmt"
	"image/jpeg"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/video"
)

// serveCamera answers for a camera that looks at what stands where it does: one JPEG for each
// request, or with a path that ends in .mjpeg one after the other.
func (l *Lab) serveCamera(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	return l.serveWeb(ctx, d, ep, asUser(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, ".mjpeg") {
			w.Header().Set("Content-Type", "image/jpeg")
			_, _ = w.Write(l.filmed(d)) // or they have gone
			return
		}
		parts := multipart.NewWriter(w)
		w.Header().Set("Content-Type", "multipart/x-mixed-replace; boundary="+parts.Boundary())
		tick := time.NewTicker(l.o.Frame * 5)
		defer tick.Stop()
		for {
			text := l.filmed(d)
			part, err := parts.CreatePart(textproto.MIMEHeader{"Content-Type": {"image/jpeg"}, "Content-Length": {fmt.Sprint(len(text))}})
			if err == nil {
				_, err = part.Write(text)
			}
			_ = http.NewResponseController(w).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-tick.C:
			}
			if on, _ := l.answers(d.Key, ep.Name); err != nil || !on {
				return
			}
		}
	})))
}

// filmed is a picture of what stands where a camera does.
func (l *Lab) filmed(camera *estate.Device) []byte {
	scene := video.Cupboard{Title: string(camera.Key), At: time.Now()}
	l.mu.Lock()
	for i := range l.e.Devices {
		d := &l.e.Devices[i]
		if d.Site != camera.Site || d.Key == camera.Key || !near(d, camera) {
			continue
		}
		if b := l.boxes[d.Key]; d.Role == "light" {
			scene.Light = scene.Light || !b.powered.IsZero()
		} else {
			scene.Boxes = append(scene.Boxes, video.Box{Name: string(d.Key), Lit: l.lit(b)})
		}
	}
	l.mu.Unlock()
	var out bytes.Buffer
	p := scene.Draw()
	_ = jpeg.Encode(&out, p.Image(p.All()), &jpeg.Options{Quality: 85}) // a buffer takes all
	return out.Bytes()
}

// near says whether two stand in the same place: up to the first comma.
func near(a, b *estate.Device) bool {
	at, _, _ := strings.Cut(a.Place, ",")
	is, _, _ := strings.Cut(b.Place, ",")
	return at != "" && at == is
}

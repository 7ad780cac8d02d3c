package api

import (
	"bufio"
	"io"
	"net/http"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// leastSqueezed is how long an answer is at the least that is worth compressing: one
// packet is one packet.
const leastSqueezed = 1200

// squeeze compresses what is worth it. The stream and the board do so themselves: the
// one has to be sent at once, the other is compressed once for all who ask.
var squeeze = middleware.GzipWithConfig(middleware.GzipConfig{
	MinLength: leastSqueezed,
	Skipper: func(c *echo.Context) bool {
		path := c.Request().URL.Path
		return path == basePath+"/events" || path == basePath+"/board" || strings.HasSuffix(path, ".woff2") || c.Request().Header.Get("Upgrade") != "" || c.Request().Header.Get("Range") != ""
	},
})

func takesGzip(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept-Encoding"), "gzip")
}

// squeezed is a writer for a stream, and what sends out all that was written. A stream
// keeps no memory of its own for that: what belongs together is compressed together.
func squeezed(c *echo.Context, rc *http.ResponseController) (w io.Writer, flush func() error) {
	to := c.Response()
	to.Header().Add("Vary", "Accept-Encoding")
	if !takesGzip(c.Request()) {
		return to, rc.Flush
	}
	to.Header().Set("Content-Encoding", "gzip")
	gz, _ := gzip.NewWriterLevel(to, gzip.StatelessCompression)
	gathered := bufio.NewWriterSize(gz, 4<<10)
	return gathered, func() error {
		if err := gathered.Flush(); err != nil {
			return err
		}
		if err := gz.Flush(); err != nil {
			return err
		}
		return rc.Flush()
	}
}

package api

import (
	"bytes"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"oakbarrel/console"
)

// pages serves the console. Its files are compressed when they are built; an
// address that is none of them is a page, which the console finds itself.
func pages(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if c.Request.Method != http.MethodGet || strings.HasPrefix(name, "api/") {
		answer(c, problem(http.StatusNotFound, "there is nothing at this address", ""))
		return
	}
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
	} else {
		name = "index.html"
		h.Set("Cache-Control", "no-cache")
	}
	if strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		if b, err := fs.ReadFile(console.Files, "dist/"+name+".gz"); err == nil {
			h.Set("Content-Encoding", "gzip")
			http.ServeContent(c.Writer, c.Request, name, time.Time{}, bytes.NewReader(b))
			return
		}
	}
	b, err := fs.ReadFile(console.Files, "dist/"+name)
	if err != nil {
		answer(c, problem(http.StatusNotFound, "there is nothing at this address", ""))
		return
	}
	http.ServeContent(c.Writer, c.Request, name, time.Time{}, bytes.NewReader(b))
}

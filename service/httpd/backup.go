package httpd

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/service/clock"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// This file serves backups.

func (s *Server) registerBackup(a huma.API) {
	o := op("make-backup", http.MethodGet, "/api/backup", "A backup of the whole server, in one file", "service", permit.Access)
	o.Responses = map[string]*huma.Response{"200": {Description: "A gzipped tar archive; it is whole if it ends with sums.json",
		Content: map[string]*huma.MediaType{"application/gzip": {}}}}
	huma.Register(a, o, func(ctx context.Context, in *struct {
		History bool `query:"history" doc:"With the history of leases"`
	}) (*huma.StreamResponse, error) {
		// Written to a file first: whoever reads slowly holds no snapshot of the database open.
		f, err := os.CreateTemp("", "yarnpost-backup-")
		if err != nil {
			return nil, failure(fmt.Errorf("there is no room for a backup: %w", err))
		}
		_ = os.Remove(f.Name()) // its name is not needed
		m := store.Manifest{Made: s.Clock.Now().UTC().Truncate(time.Second), Server: s.Pair.Name(), Version: Version, History: in.History}
		err = s.Store.Backup(ctx, f, m)
		if err == nil {
			_, err = f.Seek(0, 0)
		}
		if err != nil {
			f.Close()
			return nil, failure(err)
		}
		s.Trail.Add(ctx, store.Deed{At: s.Clock.Now(), Who: who(ctx).Name, Source: source(ctx), Deed: "took a backup"})
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer f.Close()
			c.SetHeader("Content-Type", "application/gzip")
			c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", m.FileName()))
			send(c.BodyWriter(), f)
		}}, nil
	})
}

// send sends a file however long it takes, as long as whoever reads it takes a part of it in time.
// Whoever is cut off sees that its end is missing.
func send(w io.Writer, f io.Reader) {
	const part = 1 << 20
	reply, ok := w.(http.ResponseWriter)
	for {
		if ok { // it is a connection, unless a test asks
			_ = http.NewResponseController(reply).SetWriteDeadline(clock.Deadline(sendTime))
		}
		if _, err := io.CopyN(w, f, part); err != nil {
			return
		}
	}
}

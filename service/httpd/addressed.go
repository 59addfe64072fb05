package httpd

import (
	"net/http"
	"strings"
)

// atPath is how a path of the API begins that says whose things it names; the server's name
// follows. Pages of the console do the same without /api.
const atPath = "/api/at/"

// addressed takes requests that say which server they are meant for, /api/at/NAME/… for
// /api/…: revisions and items have their numbers from one pair, so a link that is kept, or
// sent, can name one of its two servers. Either answers for the other; one of another pair
// says so, before it does anything.
func (s *Server) addressed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rest, named := strings.CutPrefix(r.URL.Path, atPath)
		if !named {
			next.ServeHTTP(w, r)
			return
		}
		name, path, _ := strings.Cut(rest, "/")
		own, partner := s.Pair.Name(), ""
		if v, paired := s.Pair.View(); paired {
			partner = v.Partner.Name
		}
		if name == "" || name != own && name != partner {
			text := "this is " + own
			if partner != "" {
				text += ", which is a pair with " + partner
			}
			problem(w, http.StatusMisdirectedRequest, text+"; ask "+name+" itself, whose numbers mean other things")
			return
		}
		r = r.Clone(r.Context())
		if _, raw, ok := strings.Cut(strings.TrimPrefix(r.URL.RawPath, atPath), "/"); ok && r.URL.RawPath != "" {
			r.URL.RawPath = "/api/" + raw
		}
		r.URL.Path = "/api/" + path
		next.ServeHTTP(w, r)
	})
}

package httpd

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
)

// WriteOpenAPI writes the OpenAPI 3.1 document, indented.
func WriteOpenAPI(w io.Writer) error {
	doc := NewAPI(http.NewServeMux(), &Server{}).OpenAPI()
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	if err := e.Encode(doc); err != nil {
		return fmt.Errorf("write OpenAPI: %w", err)
	}
	return nil
}

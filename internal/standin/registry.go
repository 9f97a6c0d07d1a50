package standin

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
)

// Registry is a stand-in for a schema registry: it takes any schema, and keeps
// them in memory.
type Registry struct {
	Address string
	Secure
}

type registry struct {
	mu       sync.Mutex
	schemas  []string
	subjects map[string][]int
}

// Run serves until ctx is done.
func (r Registry) Run(ctx context.Context, ready func(address string)) error {
	return serve(ctx, r.Address, r.Secure, &registry{subjects: make(map[string][]int)}, ready)
}

// ServeHTTP answers POST /subjects/S/versions, GET /schemas/ids/N and GET /subjects.
func (r *registry) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	parts := strings.Split(strings.Trim(q.URL.Path, "/"), "/")
	w.Header().Set("Content-Type", "application/json")
	answer := func(status int, body any) {
		w.WriteHeader(status)
		json.NewEncoder(w).Encode(body) //nolint:errcheck // the caller has gone
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case q.Method == http.MethodPost && len(parts) == 3 && parts[0] == "subjects" && parts[2] == "versions":
		var body struct{ Schema string }
		if json.NewDecoder(q.Body).Decode(&body) != nil || !json.Valid([]byte(body.Schema)) {
			answer(http.StatusUnprocessableEntity, map[string]any{"error_code": 42201, "message": "no Avro schema"})
			return
		}
		answer(http.StatusOK, map[string]int{"id": r.register(parts[1], body.Schema)})
	case q.Method == http.MethodGet && len(parts) == 3 && parts[0] == "schemas" && parts[1] == "ids":
		n, err := strconv.Atoi(parts[2])
		if err != nil || n < 1 || n > len(r.schemas) {
			answer(http.StatusNotFound, map[string]any{"error_code": 40403, "message": "no such schema"})
			return
		}
		answer(http.StatusOK, map[string]string{"schema": r.schemas[n-1]})
	case q.Method == http.MethodGet && len(parts) == 1 && parts[0] == "subjects":
		names := []string{}
		for name := range r.subjects {
			names = append(names, name)
		}
		answer(http.StatusOK, names)
	default:
		answer(http.StatusNotFound, map[string]any{"error_code": 404, "message": "not here"})
	}
}

func (r *registry) register(subject, schema string) int {
	for i, known := range r.schemas {
		if known == schema {
			return i + 1
		}
	}
	r.schemas = append(r.schemas, schema)
	r.subjects[subject] = append(r.subjects[subject], len(r.schemas))
	return len(r.schemas)
}

package standin

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"github.com/hamba/avro/v2"
)

// Registry is a stand-in for a schema registry: it takes any schema, and keeps
// them in memory.
type Registry struct {
	Address string
	// Backward has it refuse a version by which what the one before wrote cannot be read.
	Backward bool
	Secure
}

type registry struct {
	mu       sync.Mutex
	schemas  []string
	subjects map[string][]int
	backward bool
}

// Run serves until ctx is done.
func (r Registry) Run(ctx context.Context, ready func(address string)) error {
	return serve(ctx, r.Address, r.Secure, &registry{subjects: make(map[string][]int), backward: r.Backward}, ready)
}

// ServeHTTP answers POST /subjects/S/versions, GET /schemas/ids/N, GET /subjects, GET
// /subjects/S/versions/latest, POST
// /compatibility/subjects/S/versions/latest and GET /config.
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
		if why := r.incompatible(parts[1], body.Schema); why != "" {
			answer(http.StatusConflict, map[string]any{"error_code": 409, "message": "the schema is incompatible with an earlier one: " + why})
			return
		}
		answer(http.StatusOK, map[string]int{"id": r.register(parts[1], body.Schema)})
	case q.Method == http.MethodPost && len(parts) == 5 && parts[0] == "compatibility" && parts[4] == "latest":
		var body struct{ Schema string }
		if json.NewDecoder(q.Body).Decode(&body) != nil || !json.Valid([]byte(body.Schema)) {
			answer(http.StatusUnprocessableEntity, map[string]any{"error_code": 42201, "message": "no Avro schema"})
			return
		}
		if len(r.subjects[parts[2]]) == 0 {
			answer(http.StatusNotFound, map[string]any{"error_code": 40401, "message": "no such subject"})
			return
		}
		found := map[string]any{"is_compatible": true}
		if why := r.incompatible(parts[2], body.Schema); why != "" {
			found = map[string]any{"is_compatible": false, "messages": []string{why}}
		}
		answer(http.StatusOK, found)
	case q.Method == http.MethodGet && len(parts) == 4 && parts[0] == "subjects" && parts[3] == "latest":
		known := r.subjects[parts[1]]
		if len(known) == 0 {
			answer(http.StatusNotFound, map[string]any{"error_code": 40401, "message": "no such subject"})
			return
		}
		id := known[len(known)-1]
		answer(http.StatusOK, map[string]any{"subject": parts[1], "version": len(known), "id": id, "schema": r.schemas[id-1]})
	case q.Method == http.MethodGet && len(parts) <= 2 && parts[0] == "config":
		answer(http.StatusOK, map[string]string{"compatibilityLevel": map[bool]string{true: "BACKWARD", false: "NONE"}[r.backward]})
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

// incompatible says why a subject's newest schema forbids another one; empty where it does not.
func (r *registry) incompatible(subject, schema string) string {
	known := r.subjects[subject]
	if !r.backward || len(known) == 0 {
		return ""
	}
	parse := func(text string) (avro.Schema, error) {
		return avro.ParseBytesWithCache([]byte(text), "", &avro.SchemaCache{})
	}
	before, err := parse(r.schemas[known[len(known)-1]-1])
	if err != nil {
		return err.Error()
	}
	now, err := parse(schema)
	if err != nil {
		return err.Error()
	}
	if err := avro.NewSchemaCompatibility().Compatible(now, before); err != nil {
		return err.Error()
	}
	return ""
}

package standin

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"sync"
	"time"
)

// Function is a stand-in for an HTTP function: it writes each request that it
// takes to Out as a line of JSON.
type Function struct {
	Address string
	Out     io.Writer
}

// Taken is a request as it is written down.
type Taken struct {
	At      time.Time         `json:"at"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
}

// Run serves until ctx is done.
func (f Function) Run(ctx context.Context, ready func(address string)) error {
	var mu sync.Mutex
	return serve(ctx, f.Address, Secure{}, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost {
			w.Header().Set("Allow", "POST")
			w.WriteHeader(http.StatusNoContent)
			return
		}
		body, err := io.ReadAll(io.LimitReader(r.Body, 64<<20))
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		one := Taken{At: time.Now().UTC(), Headers: make(map[string]string), Body: string(body)}
		for name := range r.Header {
			one.Headers[name] = r.Header.Get(name)
		}
		mu.Lock()
		err = json.NewEncoder(f.Out).Encode(one)
		mu.Unlock()
		if err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	}), ready)
}

// Command go reads a pull outlet and commits what is dealt with. It needs nothing
// but the standard library.
//
//	RILLMARK_SERVER=http://127.0.0.1:7450 go run . desk
//
// With --once it ends when it has caught up, for a schedule.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
)

type event struct {
	ID   string `json:"id"`
	Data struct {
		Operation string          `json:"operation"`
		Table     string          `json:"table"`
		Key       json.RawMessage `json:"key"`
	} `json:"data"`
}

// dealWith is yours. A repeat has the id of the first time, so remember ids or
// write by key.
func dealWith(e event) error {
	key := e.Data.Key
	if len(key) == 0 {
		key = []byte("null")
	}
	_, err := fmt.Println(e.ID, e.Data.Operation, e.Data.Table, string(key))
	return err
}

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "usage: go run . OUTLET [--once]")
		os.Exit(2)
	}
	if err := consume(os.Args[1], slices.Contains(os.Args, "--once")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func consume(outlet string, once bool) error {
	wait := 20 // seconds, for a first event
	if once {
		wait = 0
	}
	for {
		var page struct {
			Events            []event
			Passed, Committed int64
		}
		if err := call(http.MethodGet, fmt.Sprintf("/v1/outlets/%s/events?limit=500&wait=%d", outlet, wait), nil, &page); err != nil {
			return err
		}
		for _, e := range page.Events {
			if err := dealWith(e); err != nil {
				return err // what is not committed comes again
			}
		}
		if page.Passed > page.Committed {
			if err := call(http.MethodPost, "/v1/outlets/"+outlet+"/commit", map[string]int64{"committed": page.Passed}, nil); err != nil {
				return err
			}
		} else if once {
			return nil
		}
	}
}

func call(method, path string, body, into any) error {
	server := os.Getenv("RILLMARK_SERVER")
	if server == "" {
		server = "http://127.0.0.1:7450"
	}
	var sent io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return err
		}
		sent = bytes.NewReader(raw)
	}
	r, err := http.NewRequest(method, server+path, sent)
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	if token := os.Getenv("RILLMARK_TOKEN"); token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close() //nolint:errcheck // it was only read
	if answer.StatusCode >= 300 {
		said, _ := io.ReadAll(answer.Body)
		return fmt.Errorf("%s: %s %s", path, answer.Status, said)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(into)
}

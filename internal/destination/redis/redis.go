// Package redis delivers to streams of a Redis server: one entry a message, with
// the fields id, type, key, body and the message's headers.
package redis

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/redis/go-redis/v9"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/farend"
	"rillmark/internal/netguard"
)

// Destination is a Redis server.
type Destination struct {
	settings *Settings
	options  *OutletSettings
	dial     netguard.Dial
}

var _ destination.Destination = (*Destination)(nil)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Key: true, Order: true, Headers: true, Topic: true}
}

func (d *Destination) client() (*redis.Client, error) {
	config, err := destination.TLSConfig(d.settings.TLS)
	if err != nil {
		return nil, err
	}
	// An entry must not be added twice without our knowing: no retries here.
	return redis.NewClient(&redis.Options{Addr: d.settings.Address, Username: d.settings.User, Password: d.settings.Password, DB: d.settings.Database,
		Dialer: farend.Redis(destination.Secure(d.dial, config)), MaxRetries: -1, DialTimeout: 5 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: 30 * time.Second, PoolSize: 1, ClientName: "rillmark"}), nil
}

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	reached := change.Check{Name: "server", Verdict: change.Good}
	client, err := d.client()
	if err == nil {
		defer client.Close() //nolint:errcheck // it was only asked
		err = client.Ping(ctx).Err()
	}
	if err != nil {
		reached.Verdict, reached.Found, reached.Why, reached.Fix = change.Missing, fault(err).Error(), "nothing can be delivered", "check address, user, password and the section tls"
		return []change.Check{reached}
	}
	reached.Found = "answers"
	if info, err := client.Info(ctx, "server").Result(); err == nil {
		for line := range strings.Lines(info) {
			if version, is := strings.CutPrefix(strings.TrimSpace(line), "redis_version:"); is {
				reached.Found = "version " + version + " answers"
			}
		}
	}
	return []change.Check{reached, d.checkWrite(ctx, client), d.checkMemory(ctx, client)}
}

// checkWrite tries an entry in a transaction that is given up, so that nothing
// is left there.
func (d *Destination) checkWrite(ctx context.Context, client *redis.Client) change.Check {
	c := change.Check{Name: "right to write", Verdict: change.Good, Found: "entries can be added"}
	const probe = "rillmark-check"
	_, err := client.TxPipelined(ctx, func(p redis.Pipeliner) error {
		p.XAdd(ctx, &redis.XAddArgs{Stream: probe, Values: []any{"check", "1"}})
		p.Del(ctx, probe)
		return nil
	})
	if err != nil {
		c.Verdict, c.Found, c.Fix = change.Missing, fault(err).Error(), "give the user the commands XADD, MULTI and EXEC on the streams"
	}
	return c
}

func (d *Destination) checkMemory(ctx context.Context, client *redis.Client) change.Check {
	c := change.Check{Name: "memory", Verdict: change.Good, Found: "about " + fmt.Sprint(d.options.Keep) + " entries are kept in each stream"}
	if d.options.Keep == 0 {
		c.Verdict, c.Found, c.Why, c.Fix = change.Note, "streams are not trimmed by us", "they grow until the server's memory is full", "say redis.keep in the outlet, or trim them elsewhere"
	}
	if policy, err := client.ConfigGet(ctx, "maxmemory-policy").Result(); err == nil {
		if p := policy["maxmemory-policy"]; strings.HasPrefix(p, "allkeys") {
			c.Verdict, c.Found, c.Why, c.Fix = change.Note, "the server drops keys by itself when its memory is full ("+p+")", "whole streams can vanish", "set maxmemory-policy to noeviction"
		}
	}
	return c
}

func fault(err error) error {
	text := err.Error()
	switch {
	case strings.HasPrefix(text, "WRONGPASS"), strings.HasPrefix(text, "NOAUTH"):
		return &engine.Fault{Code: "login-refused", Message: "the server refuses user or password", Cause: err}
	case strings.HasPrefix(text, "NOPERM"):
		return &engine.Fault{Code: "not-allowed", Message: "the user may not add entries", Cause: err, Fix: "give it the command XADD on the streams"}
	case strings.HasPrefix(text, "OOM"):
		return &engine.Fault{Code: "destination-full", Message: "the server's memory is full", Cause: err, Fix: "trim streams (redis.keep in the outlet), or raise maxmemory; delivery goes on by itself"}
	case strings.HasPrefix(text, "WRONGTYPE"):
		return &engine.Fault{Code: "wrong-type", Message: "a key with the stream's name is there, and is no stream", Cause: err, Fix: "choose another topic, or remove that key; delivery goes on by itself"}
	}
	return &engine.Fault{Code: "unreachable", Message: "the server does not take events", Cause: err}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	client, err := d.client()
	if err != nil {
		return nil, err
	}
	if err := client.Ping(ctx).Err(); err != nil {
		client.Close() //nolint:errcheck // the first error is the one to tell
		return nil, fault(err)
	}
	return &writer{Destination: d, outlet: o, client: client, at: o.Committed}, nil
}

type writer struct {
	*Destination
	outlet destination.Outlet
	client *redis.Client
	at     int64
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// pipeline bounds how many commands go out before the answers are read.
const pipeline = 1000

// Send implements [destination.Writer]. One connection keeps the order.
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	behind := destination.NewBehind(w.outlet.Wait)
	var refused []destination.Refusal
	pipe := w.client.Pipeline()
	flush := func() error {
		if pipe.Len() == 0 {
			return nil
		}
		_, err := pipe.Exec(ctx)
		if err != nil && ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return fault(err)
		}
		return nil
	}
	for i := range batch.Messages {
		m := &batch.Messages[i]
		if behind.Waits(m) {
			refused = append(refused, destination.Refusal{Index: i})
			continue
		}
		err := checkStream(string(m.Topic))
		if err == nil && len(m.Body) > largest {
			err = fmt.Errorf("the event has %d bytes, and Redis takes %d in a field", len(m.Body), largest)
		}
		if err != nil {
			behind.Refused(m)
			refused = append(refused, destination.Refusal{Index: i, Err: err})
			continue
		}
		values := make([]any, 0, 8+2*len(m.Headers))
		values = append(values, "id", m.ID, "type", m.Type, "key", m.Key, "body", m.Body)
		for _, h := range m.Headers {
			switch {
			case h.Attribute && h.Name != "id" && h.Name != "type":
				values = append(values, "ce_"+h.Name, h.Value)
			case !h.Attribute && h.Name != "rillmark-id" && h.Name != "rillmark-type":
				values = append(values, h.Name, h.Value)
			}
		}
		pipe.XAdd(ctx, &redis.XAddArgs{Stream: string(m.Topic), MaxLen: w.options.Keep, Approx: w.options.Keep > 0, Values: values})
		if pipe.Len() >= pipeline {
			if err := flush(); err != nil {
				return nil, err
			}
		}
	}
	if err := flush(); err != nil {
		return nil, err
	}
	w.at = batch.Last
	return refused, nil
}

// largest is what a field of an entry can hold (proto-max-bulk-len).
const largest = 512 << 20

// Flush implements [destination.Writer].
func (w *writer) Flush(context.Context, bool) (int64, error) { return w.at, nil }

// Close implements [destination.Writer].
func (w *writer) Close() error {
	if err := w.client.Close(); err != nil && !errors.Is(err, redis.ErrClosed) {
		return err
	}
	return nil
}

// silent drops what the client writes to the standard error: its callers are given each error, and the
// lines repeat addresses that nobody may see.
type silent struct{}

// Printf implements the client's logger.
func (silent) Printf(context.Context, string, ...any) {}

func init() { redis.SetLogger(silent{}) }

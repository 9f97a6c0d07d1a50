// Package nats delivers to JetStream: one message an event, acknowledged once
// the stream has stored it. Each carries its id in Nats-Msg-Id, so that the
// server itself leaves repeats out while it remembers ids.
package nats

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/farend"
	"rillmark/internal/netguard"
)

// Destination is a NATS server with JetStream.
type Destination struct {
	settings *Settings
	dial     netguard.Dial
	// subjects are those that are known beforehand, for the check.
	subjects []string
}

var _ destination.Destination = (*Destination)(nil)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Order: true, Headers: true, Topic: true}
}

func (d *Destination) connect() (*nats.Conn, error) {
	config, err := destination.TLSConfig(d.settings.TLS)
	if err != nil {
		return nil, err
	}
	options := []nats.Option{nats.Name("rillmark"), nats.Timeout(5 * time.Second), nats.NoReconnect(), nats.SetCustomDialer(&farend.NATS{Dialer: d.dial, TLS: config}), nats.DrainTimeout(3 * time.Second)}
	if config != nil {
		options = append(options, nats.Secure(config))
	}
	if d.settings.User != "" {
		options = append(options, nats.UserInfo(d.settings.User, d.settings.Password))
	}
	return nats.Connect(strings.Join(d.settings.Servers, ","), options...)
}

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	reached := change.Check{Name: "server", Verdict: change.Good}
	conn, err := d.connect()
	if err != nil {
		reached.Verdict, reached.Found, reached.Why, reached.Fix = change.Missing, fault(err).Error(), "nothing can be delivered", "check the addresses, user, password and the section tls"
		return []change.Check{reached}
	}
	defer conn.Close()
	reached.Found = fmt.Sprintf("version %s answers, takes messages of up to %d bytes", conn.ConnectedServerVersion(), conn.MaxPayload())
	checks := []change.Check{reached}
	js, err := jetstream.New(conn)
	if err == nil {
		_, err = js.AccountInfo(ctx)
	}
	if err != nil {
		return append(checks, change.Check{Name: "JetStream", Verdict: change.Missing, Found: err.Error(), Why: "messages would not be stored, and nobody could say that they arrived",
			Fix: "start the server with -js, or switch JetStream on for the account"})
	}
	return append(checks, d.checkStream(ctx, js))
}

func (d *Destination) checkStream(ctx context.Context, js jetstream.JetStream) change.Check {
	c := change.Check{Name: "stream", Verdict: change.Good}
	if d.settings.Stream == "" {
		c.Found = "each subject's own stream takes the messages"
		for _, subject := range d.subjects {
			if _, err := js.StreamNameBySubject(ctx, subject); err != nil {
				c.Verdict, c.Found, c.Fix = change.Missing, "no stream takes the subject "+subject, "create a stream for it, or name one with create_stream"
			}
		}
		return c
	}
	stream, err := js.Stream(ctx, d.settings.Stream)
	switch {
	case err == nil:
		info := stream.CachedInfo()
		c.Found = fmt.Sprintf("%s is there, for %s; it remembers ids for %s", d.settings.Stream, strings.Join(info.Config.Subjects, ", "), info.Config.Duplicates)
	case errors.Is(err, jetstream.ErrStreamNotFound) && d.settings.Create:
		c.Verdict, c.Found = change.Note, d.settings.Stream+" is not there yet and will be created for "+d.settings.Stream+".>"
	default:
		c.Verdict, c.Found, c.Fix = change.Missing, fmt.Sprintf("%s: %v", d.settings.Stream, err), "create the stream, or allow it with create_stream"
	}
	return c
}

func fault(err error) error {
	var ready *engine.Fault
	switch {
	case err == nil, errors.As(err, &ready), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, nats.ErrAuthorization):
		return &engine.Fault{Code: "login-refused", Message: "the server refuses user or password", Cause: err}
	case errors.Is(err, jetstream.ErrNoStreamResponse), errors.Is(err, nats.ErrNoResponders):
		return &engine.Fault{Code: "topic-missing", Message: "no stream takes the subject", Cause: err, Fix: "create a stream for the outlet's subjects, or allow it with create_stream in the destination; delivery goes on by itself"}
	}
	return &engine.Fault{Code: "unreachable", Message: "the server does not take events", Cause: err}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	conn, err := d.connect()
	if err != nil {
		return nil, fault(err)
	}
	w := &writer{Destination: d, outlet: o, conn: conn, at: o.Committed}
	if w.js, err = jetstream.New(conn, jetstream.WithPublishAsyncMaxPending(1<<20)); err == nil && d.settings.Create {
		_, err = w.js.Stream(ctx, d.settings.Stream)
		if errors.Is(err, jetstream.ErrStreamNotFound) {
			_, err = w.js.CreateStream(ctx, jetstream.StreamConfig{Name: d.settings.Stream, Subjects: []string{d.settings.Stream + ".>"}, Storage: jetstream.FileStorage})
		}
	}
	if err == nil && d.settings.Stream != "" {
		if stream, err := w.js.Stream(ctx, d.settings.Stream); err == nil {
			w.most = int64(stream.CachedInfo().Config.MaxMsgSize)
		}
	}
	if err != nil {
		conn.Close()
		return nil, fault(err)
	}
	return w, nil
}

type writer struct {
	*Destination
	outlet destination.Outlet
	conn   *nats.Conn
	js     jetstream.JetStream
	at     int64
	most   int64 // bytes that the stream takes of a message; not above 0 where it does not say
}

// sent is a message that waits for its acknowledgement.
type sent struct {
	index int
	ack   jetstream.PubAckFuture
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// window bounds the messages that wait for their acknowledgement.
const window = 4096

// Send implements [destination.Writer]. Messages go out in order over one
// connection; a stream stores them in that order.
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	behind := destination.NewBehind(w.outlet.Wait)
	var refused []destination.Refusal
	var acks []sent
	for i := range batch.Messages {
		m := &batch.Messages[i]
		if behind.Waits(m) {
			refused = append(refused, destination.Refusal{Index: i})
			continue
		}
		// Within one run only: after a rewind the server must store it again.
		id := fmt.Sprintf("%s@%d", m.ID, w.outlet.Run)
		msg, err := w.message(m, id)
		if err != nil {
			behind.Refused(m)
			refused = append(refused, destination.Refusal{Index: i, Err: err})
			continue
		}
		ack, err := w.js.PublishMsgAsync(msg)
		if err != nil {
			return nil, fault(err)
		}
		if acks = append(acks, sent{i, ack}); len(acks) >= window {
			if refused, err = w.wait(ctx, acks, refused); err != nil {
				return nil, err
			}
			acks = acks[:0]
		}
	}
	refused, err := w.wait(ctx, acks, refused)
	if err != nil {
		return nil, err
	}
	w.at = batch.Last
	slices.SortFunc(refused, func(a, b destination.Refusal) int { return a.Index - b.Index })
	return refused, nil
}

// tooLarge is a stream's answer to a message above its max_msg_size.
const tooLarge jetstream.ErrorCode = 10054

func (w *writer) wait(ctx context.Context, acks []sent, refused []destination.Refusal) ([]destination.Refusal, error) {
	deadline := time.NewTimer(20 * time.Second)
	defer deadline.Stop()
	for _, one := range acks {
		select {
		case <-one.ack.Ok():
		case err := <-one.ack.Err():
			var answer *jetstream.APIError
			if errors.As(err, &answer) && answer.ErrorCode == tooLarge {
				refused = append(refused, destination.Refusal{Index: one.index, Err: fmt.Errorf("the event is larger than the stream takes: raise its max_msg_size, or leave columns out: %w", err)})
				continue
			}
			return nil, fault(err)
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-deadline.C:
			return nil, fault(errors.New("the stream has not acknowledged within 20 seconds"))
		}
	}
	return refused, nil
}

// message makes a NATS message, with its id for the server's own deduplication.
func (w *writer) message(m *encode.Message, id string) (*nats.Msg, error) {
	subject := strings.ToValidUTF8(string(m.Topic), "_")
	if err := checkSubject(subject); err != nil {
		return nil, err
	}
	msg := nats.NewMsg(subject)
	msg.Data = append([]byte(nil), m.Body...) // the client sends it later
	for _, h := range m.Headers {
		name := h.Name
		if h.Attribute {
			name = "ce-" + name
		}
		msg.Header[name] = []string{oneLine(h.Value)}
	}
	if m.ContentType != "" {
		msg.Header["content-type"] = []string{m.ContentType}
	}
	msg.Header.Set(jetstream.MsgIDHeader, id)
	size := int64(len(msg.Data) + len("NATS/1.0\r\n\r\n"))
	for name, values := range msg.Header {
		size += int64(len(name) + len(values[0]) + len(": \r\n"))
	}
	if w.most > 0 && size > w.most {
		return nil, fmt.Errorf("the event has %d bytes, and the stream %s takes %d: raise its max_msg_size, or leave columns out", size, w.settings.Stream, w.most)
	}
	if size > w.conn.MaxPayload() {
		return nil, fmt.Errorf("the event has about %d bytes, and the server takes %d: raise its max_payload, or leave columns out", size, w.conn.MaxPayload())
	}
	return msg, nil
}

// oneLine keeps a header's value from ending its line.
func oneLine(value []byte) string {
	return strings.NewReplacer("\r", "%0D", "\n", "%0A").Replace(string(value))
}

// Flush implements [destination.Writer].
func (w *writer) Flush(context.Context, bool) (int64, error) { return w.at, nil }

// Close implements [destination.Writer].
func (w *writer) Close() error {
	w.conn.Close()
	return nil
}

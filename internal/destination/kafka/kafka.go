// Package kafka delivers to brokers of the Kafka protocol.
//
// Messages of one partition text go to one partition. A message counts as
// delivered once the broker has acknowledged it. With exactly once, each batch
// is a transaction that also holds the outlet's offset, in a topic of its own:
// after a crash the broker itself says how far delivery was.
package kafka

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
	"github.com/twmb/franz-go/pkg/sasl/scram"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/farend"
	"rillmark/internal/netguard"
)

// Destination is a set of brokers.
type Destination struct {
	settings *Settings
	options  *OutletSettings
	// topics are those that are known beforehand, for the check.
	topics []string
	dial   netguard.Dial
}

var _ destination.Destination = (*Destination)(nil)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Key: true, Order: true, Headers: true, Topic: true}
}

// client connects with more options.
func (d *Destination) client(more ...kgo.Opt) (*kgo.Client, error) {
	options := []kgo.Opt{kgo.SeedBrokers(d.settings.Brokers...), kgo.ClientID("rillmark"), kgo.DialTimeout(5 * time.Second),
		kgo.RequestTimeoutOverhead(5 * time.Second), kgo.RetryTimeout(15 * time.Second), kgo.MetadataMinAge(250 * time.Millisecond)}
	config, err := destination.TLSConfig(d.settings.TLS)
	if err != nil {
		return nil, err
	}
	options = append(options, kgo.Dialer(destination.Secure(d.dial, config)))
	if login := d.settings.Login; login != nil {
		switch login.Mechanism {
		case "plain":
			options = append(options, kgo.SASL(plain.Auth{User: login.User, Pass: login.Password}.AsMechanism()))
		case "scram-sha-256":
			options = append(options, kgo.SASL(farend.SCRAM(scram.Auth{User: login.User, Pass: login.Password}.AsSha256Mechanism())))
		default:
			options = append(options, kgo.SASL(farend.SCRAM(scram.Auth{User: login.User, Pass: login.Password}.AsSha512Mechanism())))
		}
	}
	return kgo.NewClient(append(options, more...)...)
}

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	reached := change.Check{Name: "brokers", Verdict: change.Good}
	client, err := d.client(kgo.RetryTimeout(3*time.Second), kgo.RequestRetries(1))
	if err == nil {
		defer client.Close()
		err = client.Ping(ctx)
	}
	if err != nil {
		reached.Verdict, reached.Found, reached.Why = change.Missing, describe(err), "nothing can be delivered"
		reached.Fix = "check the addresses, the section tls and the login; the broker's own log says more"
		return []change.Check{reached}
	}
	admin := kadm.NewClient(client)
	meta, err := admin.Metadata(ctx, d.topics...)
	if err != nil {
		reached.Verdict, reached.Found = change.Missing, describe(err)
		return []change.Check{reached}
	}
	reached.Found = fmt.Sprintf("%d brokers answer", len(meta.Brokers))
	checks := []change.Check{reached, d.encrypted()}
	for _, topic := range d.topics {
		checks = append(checks, d.checkTopic(ctx, admin, topic, meta.Topics[topic]))
	}
	return checks
}

func (d *Destination) encrypted() change.Check {
	c := change.Check{Name: "connection", Verdict: change.Good, Found: "encrypted, and the server's certificate is checked"}
	if d.settings.TLS == nil {
		c.Verdict, c.Found, c.Why, c.Fix = change.Note, "in the clear", "events and login can be read on the way", "add a section tls, unless the network is trusted"
	}
	return c
}

func (d *Destination) checkTopic(ctx context.Context, admin *kadm.Client, topic string, found kadm.TopicDetail) change.Check {
	c := change.Check{Name: "topic " + topic, Verdict: change.Good}
	switch {
	case found.Err == nil && len(found.Partitions) > 0:
		c.Found = fmt.Sprintf("is there, with %d partitions", len(found.Partitions))
		if most := maxMessage(ctx, admin, topic); most > 0 {
			c.Found += fmt.Sprintf(", takes messages of up to %d bytes", most)
		}
	case errors.Is(found.Err, kerr.UnknownTopicOrPartition) || found.Err == nil:
		if create := d.settings.Create; create != nil {
			c.Verdict, c.Found = change.Note, fmt.Sprintf("is not there yet and will be created with %d partitions", create.Partitions)
			break
		}
		c.Verdict, c.Found, c.Why = change.Missing, "is not there", "events for it would wait"
		c.Fix = fmt.Sprintf("create the topic %s, or allow it with create_topics", topic)
	default:
		c.Verdict, c.Found = change.Missing, describe(found.Err)
		c.Fix = "give the login the right to write to the topic " + topic
	}
	return c
}

// maxMessage is the largest batch that a topic takes; 0 where the broker does
// not say.
func maxMessage(ctx context.Context, admin *kadm.Client, topic string) int {
	found, err := admin.DescribeTopicConfigs(ctx, topic)
	if err != nil {
		return 0
	}
	for _, one := range found {
		for _, config := range one.Configs {
			if config.Key == "max.message.bytes" && config.Value != nil {
				n, _ := strconv.Atoi(*config.Value)
				return n
			}
		}
	}
	return 0
}

// describe is an error in a sentence that says what to look at.
func describe(err error) string {
	switch {
	case errors.Is(err, kerr.SaslAuthenticationFailed):
		return "the broker refuses user or password"
	case errors.Is(err, kerr.TopicAuthorizationFailed):
		return "the login may not write to the topic"
	}
	return err.Error()
}

// fault turns a broker's error into one that a person can act on.
func fault(err error) error {
	var ready *engine.Fault
	switch {
	case err == nil, errors.As(err, &ready), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, kerr.SaslAuthenticationFailed), errors.Is(err, kerr.UnsupportedSaslMechanism):
		return &engine.Fault{Code: "login-refused", Message: "the broker refuses user or password", Cause: err, Fix: "`rillmark destination edit` with the right ones"}
	case errors.Is(err, kerr.TopicAuthorizationFailed), errors.Is(err, kerr.ClusterAuthorizationFailed), errors.Is(err, kerr.TransactionalIDAuthorizationFailed):
		return &engine.Fault{Code: "not-allowed", Message: "the broker does not allow the login to do this", Cause: err, Fix: "give the login the right to write (and, with exactly once, to use transactions)"}
	}
	return &engine.Fault{Code: "unreachable", Message: "the broker does not take events", Cause: err}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	w := &writer{d: d, outlet: o, at: o.Committed, topics: make(map[string]*topic), names: make(map[string]string), typed: make(map[string][]kgo.RecordHeader)}
	options := []kgo.Opt{kgo.RecordPartitioner(kgo.BasicConsistentPartitioner(func(string) func(*kgo.Record, int) int {
		return func(r *kgo.Record, n int) int { return int(uint32(r.Partition) % uint32(n)) }
	})), kgo.ProducerLinger(0), kgo.MaxBufferedRecords(1 << 30), kgo.RecordRetries(20),
		kgo.ProducerBatchMaxBytes(1_000_000), kgo.ProducerBatchCompression(codec(d.options.Compression))}
	if d.options.Acks == "leader" {
		options = append(options, kgo.RequiredAcks(kgo.LeaderAck()), kgo.DisableIdempotentWrite())
	}
	if d.options.ExactlyOnce {
		if err := w.resume(ctx); err != nil {
			return nil, fault(err)
		}
		options = append(options, kgo.TransactionalID(w.name()), kgo.TransactionTimeout(time.Minute))
	}
	client, err := d.client(options...)
	if err != nil {
		return nil, fault(err)
	}
	w.client, w.admin = client, kadm.NewClient(client)
	if err := client.Ping(ctx); err != nil {
		client.Close()
		return nil, fault(err)
	}
	return w, nil
}

func codec(name string) kgo.CompressionCodec {
	switch name {
	case "gzip":
		return kgo.GzipCompression()
	case "snappy":
		return kgo.SnappyCompression()
	case "lz4":
		return kgo.Lz4Compression()
	case "zstd":
		return kgo.ZstdCompression()
	}
	return kgo.NoCompression()
}

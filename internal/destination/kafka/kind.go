package kafka

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// Kind is that of brokers of the Kafka protocol.
var Kind = destination.Kind{
	Name: "kafka", Title: "Broker of the Kafka protocol", About: "One message an event, in a topic for each table or as a template says",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Topic:    "topic", CheckTopic: checkTopicName, AttributePrefix: "ce_", Markers: true,
	Formats: []encode.Format{encode.FormatCloudEvents, encode.FormatCloudEventsBinary, encode.FormatData, encode.FormatRow, encode.FormatAvro},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		return &Destination{settings: d.Settings.(*Settings), options: d.Outlet.(*OutletSettings), topics: d.Topics, dial: env.Dial}, nil
	},
}

// Settings is a broker of the Kafka protocol.
type Settings struct {
	Brokers []string      `json:"brokers" minItems:"1" title:"Brokers" doc:"Addresses to begin with, host:port" example:"127.0.0.1:9092" flag:"broker"`
	Create  *NewTopics    `json:"create_topics,omitempty" title:"Create missing topics" doc:"Missing topics are created like this; without it they are asked for by name"`
	Login   *Login        `json:"login,omitempty" title:"Login (SASL)" doc:"How to log in; without it nobody does"`
	TLS     *settings.TLS `json:"tls,omitempty" flag:"tls" title:"TLS" doc:"Encrypts the connection, and says how the server is checked; without it the connection is in the clear"`
}

// Login is how a broker knows us.
type Login struct {
	Mechanism string `json:"mechanism" enum:"plain,scram-sha-256,scram-sha-512" title:"Mechanism" doc:"How to log in; plain sends the password as it is, which needs TLS"`
	User      string `json:"user" minLength:"1" title:"User" doc:"Whom to log in as"`
	Password  string `json:"password" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_HUB}"`
}

// NewTopics says how missing topics are created.
type NewTopics struct {
	Partitions  int `json:"partitions,omitempty" minimum:"1" maximum:"10000" default:"6" title:"Partitions" doc:"Missing topics are created with so many partitions" flag:"create-topics"`
	Replication int `json:"replication,omitempty" minimum:"1" maximum:"9" default:"1" title:"Copies of each" doc:"Missing topics are created with so many copies of each partition" flag:"create-replication" advanced:"yes"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	for i, broker := range s.Brokers {
		if err := settings.HostPort(fmt.Sprintf("kafka.brokers[%d]", i), broker); err != nil {
			return err
		}
	}
	if len(s.Brokers) == 0 {
		return settings.Wrong("kafka.brokers", "at least one address of a broker is needed, host:port")
	}
	if s.Login != nil {
		if !slices.Contains([]string{"plain", "scram-sha-256", "scram-sha-512"}, s.Login.Mechanism) {
			return settings.Wrong("kafka.login.mechanism", "%q is none of plain, scram-sha-256 and scram-sha-512", s.Login.Mechanism)
		}
		if s.Login.Mechanism == "plain" && s.TLS == nil && !settings.LoopbackOnly(s.Brokers) && !slices.ContainsFunc(s.Brokers, settings.Refers) {
			return settings.Wrong("kafka.login.mechanism", "plain sends the password as it is: add a section tls, or use scram-sha-512")
		}
	}
	if s.Create != nil {
		if s.Create.Partitions == 0 {
			s.Create.Partitions = 6
		}
		if s.Create.Replication == 0 {
			s.Create.Replication = 1
		}
	}
	return s.TLS.Validate("kafka.tls")
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return strings.Join(s.Brokers, " ") }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any {
	if s.Login == nil {
		return []any{s.Brokers, s.TLS}
	}
	return []any{s.Brokers, s.TLS, s.Login.Mechanism, s.Login.User}
}

// OutletSettings is how an outlet writes to a broker.
type OutletSettings struct {
	Compression string `json:"compression,omitempty" enum:"none,gzip,snappy,lz4,zstd" default:"none" title:"Compression" doc:"How batches are compressed"`
	Acks        string `json:"acks,omitempty" enum:"all,leader" default:"all" title:"Acknowledged by" doc:"Who acknowledges a message: all brokers of its partition, or the leader: then it counts once one broker has it, which may lose it" advanced:"yes"`
	ExactlyOnce bool   `json:"exactly_once,omitempty" title:"Exactly once" doc:"Each batch is a transaction with the outlet's offset in it: a reader of committed messages sees no repeat"`
	OffsetTopic string `json:"offset_topic,omitempty" title:"Topic of the offset" doc:"The topic that holds the outlet's offset; default rillmark.offsets. Outlets may share it: one that starts waits until the others' open transactions have ended" when:"exactly_once" advanced:"yes"`
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(encode.Format, destination.Settings) error {
	if o.ExactlyOnce && o.Acks == "leader" {
		return settings.Wrong("kafka.acks", "exactly once needs all brokers to acknowledge")
	}
	if o.OffsetTopic == "" {
		o.OffsetTopic = "rillmark.offsets"
	}
	return nil
}

var topicName = regexp.MustCompile(`^[a-zA-Z0-9._-]{1,249}$`)

func checkTopicName(name string) error {
	if !topicName.MatchString(name) || name == "." || name == ".." {
		return fmt.Errorf("%q is no name of a topic: 1 to 249 letters, digits, dots, hyphens and underscores", name)
	}
	return nil
}

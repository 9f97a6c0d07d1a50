package definition

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"
)

// The kinds of destinations.
const (
	KindFile  = "file"
	KindKafka = "kafka"
	KindNATS  = "nats"
	KindRedis = "redis"
	KindHTTP  = "http"
)

// Kinds lists the kinds of destinations.
var Kinds = []string{KindFile, KindKafka, KindNATS, KindRedis, KindHTTP}

// Destination is the connection to where events go. The section of its kind is
// there, and no other.
type Destination struct {
	Kind        string            `json:"kind" enum:"file,kafka,nats,redis,http" doc:"What it is"`
	File        *FileDestination  `json:"file,omitempty"`
	Kafka       *KafkaDestination `json:"kafka,omitempty"`
	NATS        *NATSDestination  `json:"nats,omitempty"`
	Redis       *RedisDestination `json:"redis,omitempty"`
	HTTP        *HTTPDestination  `json:"http,omitempty"`
	Description string            `json:"description,omitempty" maxLength:"500"`
}

// FileDestination is a directory, or a bucket of an object storage.
type FileDestination struct {
	Directory string  `json:"directory,omitempty" doc:"Below the service's files_root; a relative path starts there"`
	Bucket    *Bucket `json:"bucket,omitempty" doc:"A bucket of an S3-compatible object storage instead of a directory"`
}

// Bucket is a place in an S3-compatible object storage.
type Bucket struct {
	Name      string `json:"name" minLength:"1"`
	Endpoint  string `json:"endpoint" minLength:"1" doc:"The storage's address, such as https://objects.example.org"`
	Region    string `json:"region,omitempty" default:"us-east-1"`
	Prefix    string `json:"prefix,omitempty" doc:"What the names of all objects begin with"`
	AccessKey string `json:"access_key" minLength:"1"`
	SecretKey string `json:"secret_key" doc:"A reference, ${env:NAME} or ${file:/path}, or the key itself, which is sealed and never shown again"`
	TLS       *TLS   `json:"tls,omitempty" doc:"How an https endpoint is checked; the system's own certificates are trusted without it"`
	HostStyle bool   `json:"host_style,omitempty" doc:"The bucket's name is part of the host name instead of the path"`
}

// KafkaDestination is a broker of the Kafka protocol.
type KafkaDestination struct {
	Brokers []string   `json:"brokers" minItems:"1" doc:"Addresses to begin with, host:port"`
	TLS     *TLS       `json:"tls,omitempty" doc:"Without it the connection is in the clear"`
	Login   *SASLLogin `json:"login,omitempty"`
	Create  *NewTopics `json:"create_topics,omitempty" doc:"Missing topics are created like this; without it they are asked for by name"`
}

// SASLLogin is how a broker knows us.
type SASLLogin struct {
	Mechanism string `json:"mechanism" enum:"plain,scram-sha-256,scram-sha-512"`
	User      string `json:"user" minLength:"1"`
	Password  string `json:"password" doc:"A reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again"`
}

// NewTopics says how missing topics are created.
type NewTopics struct {
	Partitions  int `json:"partitions,omitempty" minimum:"1" maximum:"10000" default:"6"`
	Replication int `json:"replication,omitempty" minimum:"1" maximum:"9" default:"1"`
}

// NATSDestination is a NATS server with JetStream.
type NATSDestination struct {
	Servers  []string `json:"servers" minItems:"1" doc:"Addresses, such as nats://127.0.0.1:4222"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty" doc:"A reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again"`
	TLS      *TLS     `json:"tls,omitempty"`
	Stream   string   `json:"stream,omitempty" doc:"The stream that stores the messages; it is created where create_stream says so"`
	Create   bool     `json:"create_stream,omitempty" doc:"Create the stream, for the subjects below its name, where it is missing"`
}

// RedisDestination is a Redis server, whose streams are written to.
type RedisDestination struct {
	Address  string `json:"address" minLength:"1" doc:"host:port"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty" doc:"A reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again"`
	Database int    `json:"database,omitempty" minimum:"0" maximum:"1000"`
	TLS      *TLS   `json:"tls,omitempty"`
}

// HTTPDestination is a function that takes events by POST.
type HTTPDestination struct {
	URL     string            `json:"url" minLength:"1" doc:"Where events are posted"`
	Headers map[string]string `json:"headers,omitempty" doc:"Sent with each request"`
	Token   string            `json:"token,omitempty" doc:"Sent as a bearer token: a reference, ${env:NAME} or ${file:/path}, or the token itself, which is sealed and never shown again"`
	SignKey string            `json:"sign_key,omitempty" doc:"Requests are signed by the Standard Webhooks scheme under this key, whsec_ and base64: a reference, or the key itself, which is sealed"`
	Timeout string            `json:"timeout,omitempty" doc:"How long one request may take (default 30s)"`
	TLS     *TLS              `json:"tls,omitempty"`
}

// TLS is how an encrypted connection is checked; the empty object stands for
// the system's own certificates.
type TLS struct {
	Root        string `json:"root,omitempty" doc:"File of the certificates to trust, on the service's machine; the system's own without it"`
	ServerName  string `json:"server_name,omitempty" doc:"The name that the server's certificate must have, where it is not the address"`
	Certificate string `json:"certificate,omitempty" doc:"File of a certificate that we show"`
	Key         string `json:"key,omitempty" doc:"File of that certificate's private key"`
}

// secretHeader are words in the names of headers whose values are secrets.
var secretHeader = regexp.MustCompile(`(?i)(token|secret|key|pass|auth|cookie|credential|signature|session)`)

// SecretHeader reports whether a header's value is a secret, by its name.
func SecretHeader(name string) bool { return secretHeader.MatchString(name) }

// EachSecret puts what change makes of each secret in its place. Names tell the secrets
// of one definition apart; an empty secret is none.
func (d *Destination) EachSecret(change func(name, secret string) string) {
	one := func(name string, secret *string) {
		if *secret != "" {
			*secret = change(name, *secret)
		}
	}
	if d.File != nil && d.File.Bucket != nil {
		one("file.bucket.secret_key", &d.File.Bucket.SecretKey)
	}
	if d.Kafka != nil && d.Kafka.Login != nil {
		one("kafka.login.password", &d.Kafka.Login.Password)
	}
	if d.NATS != nil {
		one("nats.password", &d.NATS.Password)
	}
	if d.Redis != nil {
		one("redis.password", &d.Redis.Password)
	}
	if d.HTTP != nil {
		one("http.token", &d.HTTP.Token)
		one("http.sign_key", &d.HTTP.SignKey)
		for name, value := range d.HTTP.Headers {
			if secretHeader.MatchString(name) {
				one("http.headers."+strings.ToLower(name), &value)
				d.HTTP.Headers[name] = value
			}
		}
	}
}

// Reaches is what decides to whom the secrets are shown: where the destination is, as
// whom, and how that is checked.
func (d *Destination) Reaches() string {
	var parts []any
	switch {
	case d.File != nil && d.File.Bucket != nil:
		b := d.File.Bucket
		parts = []any{b.Endpoint, b.AccessKey, b.HostStyle, b.HostStyle && b.Name != "", b.TLS}
	case d.Kafka != nil:
		parts = []any{d.Kafka.Brokers, d.Kafka.TLS}
		if d.Kafka.Login != nil {
			parts = append(parts, d.Kafka.Login.Mechanism, d.Kafka.Login.User)
		}
	case d.NATS != nil:
		parts = []any{d.NATS.Servers, d.NATS.User, d.NATS.TLS}
	case d.Redis != nil:
		parts = []any{d.Redis.Address, d.Redis.User, d.Redis.TLS}
	case d.HTTP != nil:
		parts = []any{d.HTTP.URL, d.HTTP.TLS}
	}
	encoded, err := json.Marshal(append(parts, d.Kind))
	if err != nil {
		panic(err) // strings always marshal
	}
	return string(encoded)
}

// Reaches is what decides to whom the password is shown.
func (c *Connection) Reaches() string {
	return fmt.Sprintf("%q %d %q %q %q", c.Host, c.Port, c.User, c.TLS, c.Root)
}

// refers reports whether a text refers to a variable or a file: what it is shows when
// it is used.
func refers(text string) bool {
	return strings.Contains(text, "${env:") || strings.Contains(text, "${file:")
}

// Clone is a definition whose sections nobody else holds.
func (d Destination) Clone() Destination {
	if d.File != nil {
		copied := *d.File
		if copied.Bucket != nil {
			bucket := *copied.Bucket
			bucket.TLS = cloned(bucket.TLS)
			copied.Bucket = &bucket
		}
		d.File = &copied
	}
	if d.Kafka != nil {
		copied := *d.Kafka
		copied.Brokers, copied.TLS = slices.Clone(copied.Brokers), cloned(copied.TLS)
		if copied.Login != nil {
			login := *copied.Login
			copied.Login = &login
		}
		d.Kafka = &copied
	}
	if d.NATS != nil {
		copied := *d.NATS
		copied.Servers, copied.TLS = slices.Clone(copied.Servers), cloned(copied.TLS)
		d.NATS = &copied
	}
	if d.Redis != nil {
		copied := *d.Redis
		copied.TLS = cloned(copied.TLS)
		d.Redis = &copied
	}
	if d.HTTP != nil {
		copied := *d.HTTP
		copied.Headers, copied.TLS = maps.Clone(copied.Headers), cloned(copied.TLS)
		d.HTTP = &copied
	}
	return d
}

func cloned(t *TLS) *TLS {
	if t == nil {
		return nil
	}
	copied := *t
	return &copied
}

// Where is the destination in a few words, for lists.
func (d *Destination) Where() string {
	switch {
	case d.File != nil && d.File.Bucket != nil:
		return strings.TrimSuffix("bucket "+d.File.Bucket.Name+"/"+d.File.Bucket.Prefix, "/")
	case d.File != nil:
		return d.File.Directory
	case d.Kafka != nil:
		return strings.Join(d.Kafka.Brokers, " ")
	case d.NATS != nil:
		return strings.Join(d.NATS.Servers, " ")
	case d.Redis != nil:
		return d.Redis.Address
	case d.HTTP != nil:
		return d.HTTP.URL
	}
	return ""
}

// Validate checks what can be checked without reaching the destination, and
// fills in what is left to us.
func (d *Destination) Validate() error {
	if !slices.Contains(Kinds, d.Kind) {
		return &Invalid{"kind", fmt.Sprintf("unknown kind %q: there are %s", d.Kind, strings.Join(Kinds, ", "))}
	}
	for kind, there := range map[string]bool{KindFile: d.File != nil, KindKafka: d.Kafka != nil, KindNATS: d.NATS != nil, KindRedis: d.Redis != nil, KindHTTP: d.HTTP != nil} {
		if kind == d.Kind && !there {
			return &Invalid{kind, fmt.Sprintf("a destination of kind %s needs the section %s", kind, kind)}
		}
		if kind != d.Kind && there {
			return &Invalid{kind, fmt.Sprintf("a destination of kind %s has no section %s", d.Kind, kind)}
		}
	}
	switch d.Kind {
	case KindFile:
		return d.File.validate()
	case KindKafka:
		return d.Kafka.validate()
	case KindNATS:
		return d.NATS.validate()
	case KindRedis:
		if err := hostPort("redis.address", d.Redis.Address); err != nil {
			return err
		}
		return d.Redis.TLS.validate("redis.tls")
	default:
		return d.HTTP.validate()
	}
}

func (f *FileDestination) validate() error {
	if (f.Directory == "") == (f.Bucket == nil) {
		return &Invalid{"file", "a destination of kind file needs either file.directory or file.bucket"}
	}
	if f.Bucket == nil {
		return nil
	}
	if f.Bucket.Region == "" {
		f.Bucket.Region = "us-east-1"
	}
	if f.Bucket.SecretKey == "" {
		return &Invalid{"file.bucket.secret_key", "an object storage wants a key: a reference such as ${env:RILLMARK_SECRET_STORAGE_KEY}, or the key itself"}
	}
	if err := absolute("file.bucket.endpoint", f.Bucket.Endpoint); err != nil {
		return err
	}
	return f.Bucket.TLS.validate("file.bucket.tls")
}

func (k *KafkaDestination) validate() error {
	for i, broker := range k.Brokers {
		if err := hostPort(fmt.Sprintf("kafka.brokers[%d]", i), broker); err != nil {
			return err
		}
	}
	if len(k.Brokers) == 0 {
		return &Invalid{"kafka.brokers", "at least one address of a broker is needed, host:port"}
	}
	if k.Login != nil {
		if !slices.Contains([]string{"plain", "scram-sha-256", "scram-sha-512"}, k.Login.Mechanism) {
			return &Invalid{"kafka.login.mechanism", fmt.Sprintf("%q is none of plain, scram-sha-256 and scram-sha-512", k.Login.Mechanism)}
		}
		if k.Login.Mechanism == "plain" && k.TLS == nil && !loopbackOnly(k.Brokers) && !slices.ContainsFunc(k.Brokers, refers) {
			return &Invalid{"kafka.login.mechanism", "plain sends the password as it is: add a section tls, or use scram-sha-512"}
		}
	}
	if k.Create != nil {
		if k.Create.Partitions == 0 {
			k.Create.Partitions = 6
		}
		if k.Create.Replication == 0 {
			k.Create.Replication = 1
		}
	}
	return k.TLS.validate("kafka.tls")
}

func (n *NATSDestination) validate() error {
	if len(n.Servers) == 0 {
		return &Invalid{"nats.servers", "at least one address is needed, such as nats://127.0.0.1:4222"}
	}
	for i, server := range n.Servers {
		if refers(server) {
			continue
		}
		u, err := url.Parse(server)
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "nats" && u.Scheme != "tls" {
			return &Invalid{fmt.Sprintf("nats.servers[%d]", i), fmt.Sprintf("%q is no address: write nats://host:port; user and password have fields of their own", server)}
		}
	}
	if n.Create && n.Stream == "" {
		return &Invalid{"nats.stream", "to be created, the stream needs a name"}
	}
	if strings.ContainsAny(n.Stream, " .*>\t\n/\\") {
		return &Invalid{"nats.stream", fmt.Sprintf("%q is no name of a stream: no spaces, dots, slashes, * or >", n.Stream)}
	}
	return n.TLS.validate("nats.tls")
}

func (h *HTTPDestination) validate() error {
	if err := absolute("http.url", h.URL); err != nil {
		return err
	}
	if u, _ := url.Parse(h.URL); u != nil && u.User != nil {
		return &Invalid{"http.url", "an address with a password in it would be shown: use token or headers"}
	}
	for name := range h.Headers {
		if strings.EqualFold(name, "authorization") {
			return &Invalid{"http.headers", "Authorization is a secret: use token, which is sealed"}
		}
	}
	if strings.HasPrefix(h.SignKey, "whsec_") && !refers(h.SignKey) {
		if key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(h.SignKey, "whsec_")); err != nil || len(key) < 24 || len(key) > 64 {
			return &Invalid{"http.sign_key", "a key for signing is whsec_ and 24 to 64 bytes in base64: `openssl rand -base64 32` makes one"}
		}
	} else if h.SignKey != "" && !refers(h.SignKey) && !strings.HasPrefix(h.SignKey, "sealed:") && h.SignKey != "(sealed)" {
		return &Invalid{"http.sign_key", "a key for signing is whsec_ and 24 to 64 bytes in base64, or a reference to one"}
	}
	if _, err := h.Limit(); err != nil {
		return err
	}
	return h.TLS.validate("http.tls")
}

// Limit is how long one request may take.
func (h *HTTPDestination) Limit() (time.Duration, error) {
	if h.Timeout == "" {
		return 30 * time.Second, nil
	}
	return durationOf("http.timeout", h.Timeout, 10*time.Millisecond, 10*time.Minute)
}

func (t *TLS) validate(at string) error {
	if t == nil {
		return nil
	}
	if (t.Certificate == "") != (t.Key == "") {
		return &Invalid{at + ".certificate", "a certificate that we show and its key go together"}
	}
	return nil
}

// checkFiles looks whether the files that the section names can be read here, which
// is asked when a definition is written and not each time it is used.
func (t *TLS) checkFiles(at string) error {
	if t == nil {
		return nil
	}
	for _, one := range []struct{ name, file string }{{"root", t.Root}, {"certificate", t.Certificate}, {"key", t.Key}} {
		if one.file == "" || refers(one.file) {
			continue
		}
		if _, err := os.Stat(one.file); err != nil {
			return &Invalid{at + "." + one.name, fmt.Sprintf("the file %s cannot be read on the service's machine: %v", one.file, err)}
		}
	}
	return nil
}

// CheckFiles looks whether the files that the definition names can be read here.
func (d *Destination) CheckFiles() error {
	switch {
	case d.File != nil && d.File.Bucket != nil:
		return d.File.Bucket.TLS.checkFiles("file.bucket.tls")
	case d.Kafka != nil:
		return d.Kafka.TLS.checkFiles("kafka.tls")
	case d.NATS != nil:
		return d.NATS.TLS.checkFiles("nats.tls")
	case d.Redis != nil:
		return d.Redis.TLS.checkFiles("redis.tls")
	case d.HTTP != nil:
		return d.HTTP.TLS.checkFiles("http.tls")
	}
	return nil
}

func hostPort(at, address string) error {
	if refers(address) {
		return nil
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil || host == "" || port == "" {
		return &Invalid{at, fmt.Sprintf("%q is no address: write host:port", address)}
	}
	return nil
}

func absolute(at, address string) error {
	if refers(address) {
		return nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return &Invalid{at, fmt.Sprintf("%q is no absolute address: write https://host/path", address)}
	}
	return nil
}

func loopbackOnly(addresses []string) bool {
	for _, one := range addresses {
		host, _, _ := net.SplitHostPort(one)
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return false
		}
	}
	return true
}

func durationOf(at, text string, least, most time.Duration) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d < least || d > most {
		return 0, &Invalid{at, fmt.Sprintf("%q is no duration from %s to %s: write 500ms, 90s, 15m or 24h", text, least, most)}
	}
	return d, nil
}

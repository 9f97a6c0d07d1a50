package file

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// Kind is that of files.
var Kind = destination.Kind{
	Name: "file", Title: "Files", About: "Lines of JSON, Avro or Parquet files, in a directory or a bucket, listed in a manifest",
	Settings:     func() destination.Settings { return new(Settings) },
	Outlet:       func() destination.OutletSettings { return new(OutletSettings) },
	SchemaInside: true, AttributePrefix: "ce-",
	Formats: []encode.Format{encode.FormatCloudEvents, encode.FormatData, encode.FormatRow, encode.FormatAvro, encode.FormatParquet},
	Make:    makeDestination,
}

func makeDestination(env destination.Environment, d destination.Definition) (destination.Destination, error) {
	to := d.Settings.(*Settings)
	made := &Destination{bucket: to.Bucket, options: d.Outlet.(*OutletSettings), format: d.Format, dial: env.Dial, mode: env.FileMode,
		spool: filepath.Join(os.TempDir(), fmt.Sprintf("rillmark-spool-%d", os.Getuid()))}
	if env.FilesRoot != "" {
		made.spool = filepath.Join(env.FilesRoot, ".spool")
	}
	if to.Bucket != nil {
		return made, nil
	}
	var err error
	made.directory, err = Place(env.FilesRoot, to.Directory)
	return made, err
}

// Settings is a directory, or a bucket of an object storage.
type Settings struct {
	Directory string  `json:"directory,omitempty" title:"Directory" doc:"Below the service's files_root; a relative path starts there" example:"archive"`
	Bucket    *Bucket `json:"bucket,omitempty" title:"A bucket instead of a directory" doc:"A bucket of an S3-compatible object storage instead of a directory" instead:"directory"`
}

// Bucket is a place in an S3-compatible object storage.
type Bucket struct {
	Name      string        `json:"name" minLength:"1" title:"Name of the bucket" doc:"The bucket's name" example:"events"`
	Endpoint  string        `json:"endpoint" minLength:"1" title:"Address of the storage" doc:"The storage's address, such as https://objects.example.org" example:"https://objects.example.org"`
	Prefix    string        `json:"prefix,omitempty" title:"Prefix" doc:"What the names of all objects begin with"`
	AccessKey string        `json:"access_key" minLength:"1" title:"Access key" doc:"The key's public part"`
	SecretKey string        `json:"secret_key" title:"Secret key" secret:"yes" doc:"The key's secret part: a reference, ${env:NAME} or ${file:/path}, or the key itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_STORAGE_KEY}"`
	Region    string        `json:"region,omitempty" default:"us-east-1" title:"Region" doc:"The storage's region" advanced:"yes"`
	TLS       *settings.TLS `json:"tls,omitempty" flag:"bucket-tls" title:"TLS" doc:"How an https endpoint is checked; the system's own certificates are trusted without it" advanced:"yes"`
	HostStyle bool          `json:"host_style,omitempty" title:"Bucket in the host name" doc:"The bucket's name is part of the host name instead of the path" advanced:"yes"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	b := s.Bucket
	if (s.Directory == "") == (b == nil) {
		return settings.Wrong("file", "a destination of kind file needs either file.directory or file.bucket")
	}
	if b == nil {
		return nil
	}
	if b.Region == "" {
		b.Region = "us-east-1"
	}
	if b.SecretKey == "" {
		return settings.Wrong("file.bucket.secret_key", "an object storage needs a key: a reference such as ${env:RILLMARK_SECRET_STORAGE_KEY}, or the key itself")
	}
	if err := settings.AbsoluteURL("file.bucket.endpoint", b.Endpoint); err != nil {
		return err
	}
	return b.TLS.Validate("file.bucket.tls")
}

// CheckHere implements [destination.HereChecker].
func (s *Settings) CheckHere(env destination.Environment) error {
	if s.Bucket != nil {
		return nil
	}
	_, err := Place(env.FilesRoot, s.Directory)
	return err
}

// Where implements [destination.Settings].
func (s *Settings) Where() string {
	if s.Bucket != nil {
		return strings.TrimSuffix("bucket "+s.Bucket.Name+"/"+s.Bucket.Prefix, "/")
	}
	return s.Directory
}

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any {
	b := s.Bucket
	if b == nil {
		return nil
	}
	host := ""
	if b.HostStyle {
		host = b.Name
	}
	return []any{b.Endpoint, b.AccessKey, b.HostStyle, host, b.TLS}
}

// OutletSettings is how an outlet writes files.
type OutletSettings struct {
	Name         string `json:"name,omitempty" maxLength:"300" title:"Names of files" flag:"file-name" doc:"Names of files, built from {outlet}, {run}, {first}, {table}, {date} and {hour}; {outlet}.{run}.{first} without it" example:"{date}/{table}/{outlet}.{run}.{first}" advanced:"yes"`
	Compression  string `json:"compression,omitempty" enum:"none,gzip,zstd,snappy" title:"Compression" doc:"Of lines: none, gzip or zstd; avro and parquet: none, snappy or zstd"`
	Model        string `json:"model,omitempty" maxLength:"300" title:"Model of Parquet files" flag:"file-model" example:"models/{table}.parquet" doc:"A Parquet file below the destination's directory or bucket, built from {table}: files have its columns and types, to which rows are fitted by their names; without it each table has its own" advanced:"yes"`
	RotateEvery  string `json:"rotate_every,omitempty" title:"Close a file that is this old" doc:"A file that is this old is closed: 90s, 15m, 24h; default 1h, and 1m for parquet and for object storage" example:"15m"`
	RotateBytes  int64  `json:"rotate_bytes,omitempty" minimum:"1024" title:"Close a file at this size" doc:"A file that reaches this size is closed and the next one begun; default 64 MiB" unit:"bytes"`
	RotateEvents int64  `json:"rotate_events,omitempty" minimum:"1" title:"Close a file with so many events" doc:"A file with so many events is closed; no such bound without it" unit:"events" advanced:"yes"`
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(format encode.Format, to destination.Settings) error {
	rows := format == encode.FormatParquet || format == encode.FormatAvro
	if o.Name == "" {
		o.Name = "{outlet}.{run}.{first}"
		if rows {
			o.Name = "{table}/{outlet}.{run}.{first}"
		}
	}
	if o.Compression == "" {
		o.Compression = "none"
		if format == encode.FormatParquet {
			o.Compression = "zstd"
		}
	}
	allowed := []string{"none", "gzip", "zstd"}
	if rows {
		allowed = []string{"none", "snappy", "zstd"}
	}
	if !slices.Contains(allowed, o.Compression) {
		return settings.Wrong("file.compression", "%q is no compression of format %s: there are %s", o.Compression, format, strings.Join(allowed, ", "))
	}
	if err := checkName(o.Name); err != nil {
		return settings.Wrong("file.name", "%s", err)
	}
	if o.RotateBytes == 0 {
		o.RotateBytes = 64 << 20
	}
	if o.RotateEvery == "" {
		o.RotateEvery = "1h"
		if s, is := to.(*Settings); format == encode.FormatParquet || is && s.Bucket != nil {
			o.RotateEvery = "1m"
		}
	}
	if o.Model != "" {
		rest := strings.ReplaceAll(o.Model, "{table}", "x")
		switch {
		case format != encode.FormatParquet:
			return settings.Wrong("file.model", "goes with format parquet")
		case strings.ContainsAny(rest, "{}"):
			return settings.Wrong("file.model", "%q names a field that models do not have: there is {table}", o.Model)
		case !filepath.IsLocal(rest):
			return settings.Wrong("file.model", "%q is no name below a directory: no leading slash, no ..", o.Model)
		}
	}
	_, err := settings.Duration("file.rotate_every", o.RotateEvery, time.Second, 7*24*time.Hour)
	return err
}

// FitsRows implements [destination.RowsFitted].
func (o *OutletSettings) FitsRows() bool { return o.Model != "" }

// PlaceTemplate implements [destination.Placer].
func (o *OutletSettings) PlaceTemplate() string { return o.Name }

var nameField = regexp.MustCompile(`\{[^}]*\}`)

func checkName(name string) error {
	rest := nameField.ReplaceAllStringFunc(name, func(field string) string {
		switch field {
		case "{outlet}", "{run}", "{first}", "{table}", "{date}", "{hour}":
			return "x"
		}
		return field
	})
	switch {
	case strings.ContainsAny(rest, "{}"):
		return fmt.Errorf("%q names a field that files do not have: there are {outlet}, {run}, {first}, {table}, {date} and {hour}", name)
	case strings.HasPrefix(rest, "/") || strings.Contains("/"+rest+"/", "/../") || strings.Contains(rest, "//") || strings.HasSuffix(rest, "/") || strings.HasPrefix(rest, "."):
		return fmt.Errorf("%q is no name below a directory: no leading slash or dot, no .., no empty part", name)
	case !strings.Contains(name, "{first}") || !strings.Contains(name, "{run}") || !strings.Contains(name, "{outlet}"):
		return fmt.Errorf("%q could name two files alike: it must hold {outlet}, {run} and {first}", name)
	}
	return nil
}

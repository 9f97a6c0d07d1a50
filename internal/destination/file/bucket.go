package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	awshttp "github.com/aws/aws-sdk-go-v2/aws/transport/http"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/farend"
	"rillmark/internal/netguard"
)

// bucket is a place in an S3-compatible object storage. An object is there whole
// or not at all.
type bucket struct {
	client *s3.Client
	name   string
	prefix string
}

func newBucket(d *Bucket, dial netguard.Dial) (*bucket, error) {
	prefix := strings.Trim(d.Prefix, "/")
	if prefix != "" {
		prefix += "/"
	}
	secure, err := destination.TLSConfig(d.TLS)
	if err != nil {
		return nil, err
	}
	caller := awshttp.NewBuildableClient().WithTransportOptions(func(t *http.Transport) {
		t.DialContext, t.Proxy = dial, nil // the address that is dialled is looked at
		if secure != nil {
			t.TLSClientConfig = secure
		}
	})
	client := s3.New(s3.Options{Region: d.Region, BaseEndpoint: aws.String(d.Endpoint), UsePathStyle: !d.HostStyle,
		Credentials:                credentials.NewStaticCredentialsProvider(d.AccessKey, d.SecretKey, ""),
		RequestChecksumCalculation: aws.RequestChecksumCalculationWhenRequired, ResponseChecksumValidation: aws.ResponseChecksumValidationWhenRequired,
		RetryMaxAttempts: 2, HTTPClient: farend.HTTP(caller, largestGet+1)})
	return &bucket{client, d.Name, prefix}, nil
}

func (b *bucket) aside(spool, name string) string {
	return filepath.Join(spool, strings.NewReplacer("%", "%25", "/", "%2F").Replace(name)+openSuffix)
}

func (b *bucket) place(ctx context.Context, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close() //nolint:errcheck // it was only read
	_, err = b.client.PutObject(ctx, &s3.PutObjectInput{Bucket: &b.name, Key: aws.String(b.prefix + name), Body: f})
	if err != nil {
		return bucketFault(b.name, err)
	}
	return os.Remove(path)
}

func (b *bucket) put(ctx context.Context, name string, content []byte) error {
	_, err := b.client.PutObject(ctx, &s3.PutObjectInput{Bucket: &b.name, Key: aws.String(b.prefix + name), Body: bytes.NewReader(content)})
	return bucketFault(b.name, err)
}

// largestGet bounds what is read of an object.
const largestGet = 64 << 20

func (b *bucket) get(ctx context.Context, name string) ([]byte, error) {
	found, err := b.client.GetObject(ctx, &s3.GetObjectInput{Bucket: &b.name, Key: aws.String(b.prefix + name)})
	if err != nil {
		return nil, bucketFault(b.name, err)
	}
	defer found.Body.Close() //nolint:errcheck // it was only read
	return io.ReadAll(io.LimitReader(found.Body, largestGet))
}

// maxPages of up to a thousand names each are listed: a part of the manifest has a
// thousand lines, so that a million files are a thousand names.
const maxPages = 1000

func (b *bucket) list(ctx context.Context, folder string) ([]string, error) {
	var names []string
	pages := s3.NewListObjectsV2Paginator(b.client, &s3.ListObjectsV2Input{Bucket: &b.name, Prefix: aws.String(b.prefix + folder + "/")})
	for n := 0; pages.HasMorePages(); n++ {
		if n == maxPages {
			return nil, &engine.Fault{Code: "bucket-listing", Message: fmt.Sprintf("the object storage lists more than %d pages of names below %s: its listing does not end", maxPages, b.prefix+folder), Fix: "see whether the storage keeps to its protocol; an outlet with a prefix of its own lists less"}
		}
		page, err := pages.NextPage(ctx)
		if err != nil {
			return nil, bucketFault(b.name, err)
		}
		for _, o := range page.Contents {
			names = append(names, strings.TrimPrefix(aws.ToString(o.Key), b.prefix))
		}
	}
	sort.Strings(names)
	return names, nil
}

func (b *bucket) remove(ctx context.Context, name string) error {
	_, err := b.client.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &b.name, Key: aws.String(b.prefix + name)})
	return bucketFault(b.name, err)
}

func bucketFault(name string, err error) error {
	if err == nil {
		return nil
	}
	var missing *types.NoSuchBucket
	var none *types.NoSuchKey
	var answered smithy.APIError
	switch {
	case errors.As(err, &missing):
		return &engine.Fault{Code: "bucket-missing", Message: "there is no bucket " + name, Fix: "create the bucket; delivery goes on by itself"}
	case errors.As(err, &none):
		return &engine.Fault{Code: "bucket-object", Message: "there is no such object in the bucket " + name, Cause: none}
	case errors.As(err, &answered):
		switch answered.ErrorCode() {
		case "NoSuchBucket", "NotFound":
			return &engine.Fault{Code: "bucket-missing", Message: "there is no bucket " + name, Fix: "create the bucket; delivery goes on by itself"}
		case "AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch":
			return &engine.Fault{Code: "login-refused", Message: "the object storage refuses the key", Cause: answered, Fix: "give the destination a key that may list, read and write the bucket " + name}
		}
	}
	return &engine.Fault{Code: "unreachable", Message: "the object storage does not take files", Cause: err}
}

// checkBucket writes, reads, lists and removes a small object.
func (d *Destination) checkBucket(ctx context.Context) []change.Check {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	c := change.Check{Name: "bucket", Verdict: change.Good}
	b, err := newBucket(d.bucket, d.dial)
	if err == nil {
		_, err = b.client.HeadBucket(ctx, &s3.HeadBucketInput{Bucket: &b.name})
		err = bucketFault(b.name, err)
	}
	if err != nil {
		c.Verdict, c.Found, c.Why, c.Fix = change.Missing, err.Error(), "nothing can be delivered", "check endpoint, bucket and keys"
		return []change.Check{c}
	}
	c.Found = d.bucket.Name + " is there"
	rights := change.Check{Name: "rights", Verdict: change.Good, Found: "objects can be written, read, listed and removed"}
	name := fmt.Sprintf(".rillmark-check/%d", time.Now().UnixNano())
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"written", func() error { return b.put(ctx, name, []byte("check")) }},
		{"read", func() error { _, err := b.get(ctx, name); return err }},
		{"listed", func() error { _, err := b.list(ctx, ".rillmark-check"); return err }},
		{"removed", func() error { return b.remove(ctx, name) }},
	} {
		if err := step.do(); err != nil {
			rights.Verdict, rights.Found = change.Missing, "an object cannot be "+step.what+": "+err.Error()
			rights.Fix = "give the key the rights to list, read, write and remove objects below the prefix"
			break
		}
	}
	return []change.Check{c, rights}
}

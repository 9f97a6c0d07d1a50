package file

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/engine"
)

// TestListingWithoutAnEnd: an object storage whose listing never ends is left with a
// sentence, after as many pages as a million files would have.
func TestListingWithoutAnEnd(t *testing.T) {
	asked := 0
	storage := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		require.NotEmpty(t, r.URL.Query().Get("prefix"))
		fmt.Fprintf(w, `<?xml version="1.0"?><ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>%d</NextContinuationToken><Contents><Key>lake/part-%[1]d</Key></Contents></ListBucketResult>`, asked) //nolint:errcheck // the caller tells
	}))
	defer storage.Close()
	b, err := newBucket(&Bucket{Name: "b", Endpoint: storage.URL, Region: "us-east-1", AccessKey: "a", SecretKey: "s"}, new(net.Dialer).DialContext)
	require.NoError(t, err)
	_, err = b.list(t.Context(), "lake")
	var fault *engine.Fault
	require.ErrorAs(t, err, &fault)
	require.Equal(t, "bucket-listing", fault.Code)
	require.Equal(t, maxPages, asked)
}

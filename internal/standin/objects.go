package standin

import (
	"bytes"
	"context"
	"crypto/md5" //nolint:gosec // an ETag is an MD5 by that interface's definition
	"encoding/hex"
	"encoding/xml"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// Objects is a stand-in for an S3-compatible object storage: buckets are folders
// below Folder, and must be there; objects are files in them. It knows one access
// key, and does not check signatures.
type Objects struct {
	Address   string
	Folder    string
	AccessKey string
	Secure
}

// Run serves until ctx is done.
func (o Objects) Run(ctx context.Context, ready func(address string)) error {
	return serve(ctx, o.Address, o.Secure, http.HandlerFunc(o.answer), ready)
}

type objectError struct {
	XMLName xml.Name `xml:"Error"`
	Code    string
	Message string
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	xml.NewEncoder(w).Encode(objectError{Code: code, Message: code}) //nolint:errcheck // the caller has gone
}

func (o Objects) answer(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.Header.Get("Authorization"), "Credential="+o.AccessKey+"/") {
		refuse(w, http.StatusForbidden, "InvalidAccessKeyId")
		return
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	root := filepath.Join(o.Folder, filepath.Clean("/"+bucket))
	if info, err := os.Stat(root); bucket == "" || err != nil || !info.IsDir() {
		refuse(w, http.StatusNotFound, "NoSuchBucket")
		return
	}
	path := filepath.Join(root, filepath.Clean("/"+key))
	switch {
	case key == "" && r.Method == http.MethodHead:
		w.WriteHeader(http.StatusOK)
	case key == "" && r.Method == http.MethodGet:
		o.list(w, r, root)
	case r.Method == http.MethodPut:
		put(w, r, path)
	case r.Method == http.MethodGet, r.Method == http.MethodHead:
		get(w, path)
	case r.Method == http.MethodDelete:
		os.Remove(path) //nolint:errcheck // to remove what is not there is no error
		w.WriteHeader(http.StatusNoContent)
	default:
		refuse(w, http.StatusMethodNotAllowed, "MethodNotAllowed")
	}
}

func put(w http.ResponseWriter, r *http.Request, path string) {
	content, err := io.ReadAll(io.LimitReader(r.Body, 1<<30))
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o755)
	}
	aside := path + ".aside"
	if err == nil {
		err = os.WriteFile(aside, content, 0o644)
	}
	if err == nil {
		err = os.Rename(aside, path)
	}
	if err != nil {
		refuse(w, http.StatusInternalServerError, "InternalError")
		return
	}
	sum := md5.Sum(content) //nolint:gosec // see above
	w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:])+`"`)
	w.WriteHeader(http.StatusOK)
}

func get(w http.ResponseWriter, path string) {
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		refuse(w, http.StatusNotFound, "NoSuchKey")
		return
	}
	if err != nil {
		refuse(w, http.StatusInternalServerError, "InternalError")
		return
	}
	io.Copy(w, bytes.NewReader(content)) //nolint:errcheck // the caller has gone
}

type listed struct {
	XMLName               xml.Name `xml:"ListBucketResult"`
	Name                  string
	Prefix                string
	KeyCount              int
	MaxKeys               int
	IsTruncated           bool
	NextContinuationToken string `xml:",omitempty"`
	Contents              []listedObject
}

type listedObject struct {
	Key  string
	Size int64
}

const listPage = 1000

func (o Objects) list(w http.ResponseWriter, r *http.Request, root string) {
	prefix, after := r.URL.Query().Get("prefix"), r.URL.Query().Get("continuation-token")
	out := listed{Name: filepath.Base(root), Prefix: prefix, MaxKeys: listPage}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		key, _ := filepath.Rel(root, path)
		key = filepath.ToSlash(key)
		if info, err := d.Info(); err == nil && strings.HasPrefix(key, prefix) && key > after && !strings.HasSuffix(key, ".aside") {
			out.Contents = append(out.Contents, listedObject{key, info.Size()})
		}
		return nil
	})
	if err != nil {
		refuse(w, http.StatusInternalServerError, "InternalError")
		return
	}
	sort.Slice(out.Contents, func(i, j int) bool { return out.Contents[i].Key < out.Contents[j].Key })
	if len(out.Contents) > listPage {
		out.Contents, out.IsTruncated = out.Contents[:listPage], true
		out.NextContinuationToken = out.Contents[listPage-1].Key
	}
	out.KeyCount = len(out.Contents)
	w.Header().Set("Content-Type", "application/xml")
	xml.NewEncoder(w).Encode(out) //nolint:errcheck // the caller has gone
}

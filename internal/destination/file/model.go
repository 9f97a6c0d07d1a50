package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/aws/aws-sdk-go-v2/service/s3/types"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode/parquetfile"
	"rillmark/internal/engine"
	"rillmark/internal/localfile"
)

// FitRow implements [destination.RowFitter]: rows are fitted to a Parquet file that is there.
func (d *Destination) FitRow(ctx context.Context, s *change.Schema) (destination.RowFit, error) {
	name := strings.ReplaceAll(d.options.Model, "{table}", safe(s.Table))
	fit := destination.RowFit{To: "the model " + name}
	model, err := d.model(ctx, name)
	if err != nil {
		return fit, err
	}
	fit.Text = model.String()
	form, notes := parquetfile.Fit(s, model)
	if fit.Notes = notes; form != nil {
		fit.Form = form
	}
	return fit, nil
}

// largestModel is the size of a file that is read for its schema alone, in bytes.
const largestModel = 1 << 30

// model reads the schema of a Parquet file in the directory or the bucket.
func (d *Destination) model(ctx context.Context, name string) (*parquetfile.Model, error) {
	wrong := func(err error) error {
		return &engine.Fault{Code: "model", Message: fmt.Sprintf("the model %s of Parquet files cannot be read", name), Cause: err,
			Fix: "put a Parquet file with the columns and types that are wanted there, or change file.model; delivery goes on by itself"}
	}
	if d.bucket != nil {
		b, err := newBucket(d.bucket, d.dial)
		if err != nil {
			return nil, err
		}
		whole, err := b.get(ctx, name)
		var missing *types.NoSuchKey
		switch {
		case errors.As(err, &missing):
			return nil, wrong(errors.New("there is none"))
		case err != nil:
			return nil, err
		case len(whole) == largestGet:
			return nil, wrong(fmt.Errorf("of an object of more than %d MiB; one row is enough", largestGet>>20))
		}
		model, err := parquetfile.ReadModel(bytes.NewReader(whole), int64(len(whole)))
		if err != nil {
			return nil, wrong(err)
		}
		return model, nil
	}
	root, err := os.OpenRoot(d.directory)
	if err != nil {
		return nil, wrong(plain(err))
	}
	defer root.Close() //nolint:errcheck // it was only read
	f, size, err := localfile.Open(root, filepath.FromSlash(name), largestModel)
	if err != nil {
		return nil, wrong(plain(err))
	}
	defer f.Close() //nolint:errcheck // it was only read
	model, err := parquetfile.ReadModel(f, size)
	if err != nil {
		return nil, wrong(err)
	}
	return model, nil
}

// plain is an error of the file system without the path, which is named already.
func plain(err error) error { return errors.New(bare(err)) }

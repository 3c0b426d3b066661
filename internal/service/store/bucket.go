package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"nestseed/internal/core/archive"
)

// bucket is a bucket of an S3 server that archives are kept in.
type bucket struct {
	client *minio.Client
	name   string
}

// openBucket reads an address like s3://HOST[:PORT]/BUCKET[?tls=off&region=REGION]. The account comes from
// AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, as for other programs that speak S3.
func openBucket(ctx context.Context, address string) (*bucket, error) {
	u, err := url.Parse(address)
	name := strings.Trim(u.Path, "/")
	if err != nil || u.Scheme != "s3" || u.Host == "" || name == "" || u.User != nil {
		return nil, errors.New("NESTSEED_STORE should be a folder, or s3://host:port/bucket with the account in AWS_ACCESS_KEY_ID and " +
			"AWS_SECRET_ACCESS_KEY")
	}
	client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewEnvAWS(), Secure: u.Query().Get("tls") != "off",
		Region: u.Query().Get("region")})
	if err != nil {
		return nil, fmt.Errorf("NESTSEED_STORE: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	there, err := client.BucketExists(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("the store at %s does not answer as it should: %w; look at NESTSEED_STORE, AWS_ACCESS_KEY_ID and "+
			"AWS_SECRET_ACCESS_KEY", u.Host, err)
	}
	if !there {
		return nil, fmt.Errorf("the store at %s has no bucket %q; make it, or name another in NESTSEED_STORE", u.Host, name)
	}
	return &bucket{client, name}, nil
}

// rangeTime is how long a range of an object may take, half a megabyte at most.
const rangeTime = time.Minute

// Put copies a file into the bucket. An object is there whole or not at all.
func (b *bucket) Put(ctx context.Context, file, name string) error {
	_, err := b.client.StatObject(ctx, b.name, name, minio.StatObjectOptions{})
	if err == nil {
		return fmt.Errorf("%s: %w", name, ErrTaken)
	}
	if minio.ToErrorResponse(err).StatusCode != http.StatusNotFound {
		return fmt.Errorf("copy a file into the store: %w", err)
	}
	_, err = b.client.FPutObject(ctx, b.name, name, file, minio.PutObjectOptions{})
	if err != nil {
		return fmt.Errorf("copy a file into the store: %w", err)
	}
	return nil
}

func (b *bucket) Open(ctx context.Context, name string) (File, int64, error) {
	info, err := b.client.StatObject(ctx, b.name, name, minio.StatObjectOptions{})
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return nil, 0, fmt.Errorf("%s %w", name, ErrNotFound)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("open %s: %w", name, err)
	}
	r := &archive.Ranges{SizeBytes: info.Size, Fetch: func(p []byte, off int64) error {
		ctx, cancel := context.WithTimeout(ctx, rangeTime)
		defer cancel()
		opts := minio.GetObjectOptions{}
		if err := opts.SetRange(off, off+int64(len(p))-1); err != nil {
			return err
		}
		if info.ETag != "" { // not all servers give one
			if err := opts.SetMatchETag(info.ETag); err != nil {
				return err
			}
		}
		o, err := b.client.GetObject(ctx, b.name, name, opts)
		if err != nil {
			return err
		}
		defer o.Close()
		_, err = io.ReadFull(o, p)
		return err
	}}
	return object{io.NewSectionReader(r, 0, info.Size)}, info.Size, nil
}

// object is a file in a bucket; nothing of it is open between reads.
type object struct{ *io.SectionReader }

func (object) Close() error { return nil }

func (b *bucket) Remove(ctx context.Context, name string) (freed int64, err error) {
	info, err := b.client.StatObject(ctx, b.name, name, minio.StatObjectOptions{})
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		return 0, fmt.Errorf("%s %w", name, ErrNotFound)
	}
	if err != nil {
		return 0, fmt.Errorf("remove %s: %w", name, err)
	}
	return info.Size, b.client.RemoveObject(ctx, b.name, name, minio.RemoveObjectOptions{})
}

func (b *bucket) List(ctx context.Context, group string) (out []Entry, err error) {
	for o := range b.client.ListObjects(ctx, b.name, minio.ListObjectsOptions{Prefix: group + "/", Recursive: true}) {
		if o.Err != nil {
			return nil, o.Err
		}
		out = append(out, Entry{o.Key, o.Size, o.LastModified})
	}
	return out, nil
}

package outlet

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"gocloud.dev/blob"
	"gocloud.dev/blob/s3blob"
	"gocloud.dev/gcerrors"

	"gentlepiston.example/piston/world"
)

// Bucket is an outlet that is an S3-compatible bucket, or a part of one below a prefix.
type Bucket struct {
	shelf
	bucket *blob.Bucket
}

// BucketSettings say where a bucket is, and who writes there.
type BucketSettings struct {
	URL    string // https://HOST/BUCKET, or with a prefix below it
	Region string
	Client string // the access key's id
	Secret string // and the key
	Inside bool   // it may be on this machine, or in its network
}

// BucketAddress checks the address of a bucket, and takes it apart.
func BucketAddress(text string) (host *url.URL, bucket, prefix string, err error) {
	u, err := Address(text)
	if err != nil {
		return nil, "", "", err
	}
	bucket, prefix, _ = strings.Cut(strings.Trim(u.Path, "/"), "/")
	if !partForm.MatchString(bucket) {
		return nil, "", "", fmt.Errorf("%.200q names no bucket: write it as https://HOST/BUCKET", text)
	}
	if prefix != "" {
		if err := FolderName(prefix); err != nil {
			return nil, "", "", err
		}
		prefix += "/"
	}
	return &url.URL{Scheme: u.Scheme, Host: u.Host}, bucket, prefix, nil
}

// OpenBucket opens one; nothing is said to it yet.
func OpenBucket(ctx context.Context, s BucketSettings) (*Bucket, error) {
	host, name, prefix, err := BucketAddress(s.URL)
	if err != nil {
		return nil, err
	}
	by := world.Speaker(host, s.Inside)
	client := s3.New(s3.Options{BaseEndpoint: aws.String(host.String()), Region: s.Region, UsePathStyle: true,
		Credentials: credentials.NewStaticCredentialsProvider(s.Client, s.Secret, ""), RetryMaxAttempts: 3,
		HTTPClient: by})
	b, err := s3blob.OpenBucket(ctx, client, name, nil)
	if err != nil {
		return nil, err
	}
	if prefix != "" {
		b = blob.PrefixedBucket(b, prefix)
	}
	return &Bucket{shelf{objects{b}, "a bucket"}, b}, nil
}

// Close lets go of it.
func (b *Bucket) Close() error { return b.bucket.Close() }

// objects is a bucket as a place. An object is there whole or not at all; a version is, once its release.json is.
type objects struct{ bucket *blob.Bucket }

// smallWithin is how long a small object may take.
const smallWithin = time.Minute

func (o objects) try(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, smallWithin)
	defer cancel()
	ok, err := o.bucket.IsAccessible(ctx)
	if err == nil && !ok {
		err = fmt.Errorf("there is no such bucket")
	}
	return err
}

func (o objects) read(ctx context.Context, name string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, smallWithin)
	defer cancel()
	in, err := o.bucket.NewReader(ctx, name, nil)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil, fs.ErrNotExist
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return io.ReadAll(io.LimitReader(in, maxAnswer))
}

func (o objects) write(ctx context.Context, name string, text []byte) error {
	ctx, cancel := context.WithTimeout(ctx, smallWithin)
	defer cancel()
	return o.bucket.WriteAll(ctx, name, text, &blob.WriterOptions{ContentType: "application/json"})
}

func (o objects) remove(ctx context.Context, name string) error {
	ctx, cancel := context.WithTimeout(ctx, smallWithin)
	defer cancel()
	err := o.bucket.Delete(ctx, name)
	if gcerrors.Code(err) == gcerrors.NotFound {
		return nil
	}
	return err
}

// fill writes the packages, and then what makes a version of them.
func (o objects) fill(ctx context.Context, at string, of Offer, about []byte, sent func(int64)) error {
	var done int64
	for _, p := range of.Packages {
		if err := o.copy(ctx, path.Join(at, p.File), p, func(n int64) { sent(done + n) }); err != nil {
			return err
		}
		done += p.Size
	}
	return o.write(ctx, path.Join(at, releaseFile), about)
}

// copy writes a package in parts. One that is not what it was, or that nothing of is taken for a while, is not there.
func (o objects) copy(ctx context.Context, name string, p Package, sent func(int64)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stalls := time.AfterFunc(callLimit, cancel)
	defer stalls.Stop()
	in, err := p.Open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	held := p.held(in, func(n int64) {
		stalls.Reset(callLimit)
		sent(n)
	})
	return o.bucket.Upload(ctx, name, held, &blob.WriterOptions{ContentType: "application/octet-stream"})
}

// drop takes away what makes a version of the packages, and then these.
func (o objects) drop(ctx context.Context, at string) error {
	if err := o.remove(ctx, path.Join(at, releaseFile)); err != nil {
		return err
	}
	list := o.bucket.List(&blob.ListOptions{Prefix: at + "/"})
	for {
		one, err := list.Next(ctx)
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = o.remove(ctx, one.Key)
		}
		if err != nil {
			return err
		}
	}
}

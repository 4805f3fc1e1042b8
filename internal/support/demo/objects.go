package demo

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"kestrel/internal/files/bucket"
	"kestrel/internal/site"
)

// Eastmole has a long-term store in a bucket of an object store, which the demo starts
// where there is a program for it; else it is in a folder.
const longTermSite = "Eastmole"

const (
	objectsAccess = "eastmole"
	objectsCache  = 64 << 20
)

func (d *demo) objectsAddr() string {
	return fmt.Sprintf("127.0.0.1:%d", d.Ports+1+len(siteNames())*portsPerSite)
}

// startObjects starts the object store and waits until it answers. Its only bucket is a
// folder.
func (d *demo) startObjects(ctx context.Context) error {
	if d.Objects == "" {
		return nil
	}
	at := filepath.Join(d.State, "objects")
	for _, dir := range []string{"data/points", "versions", "iam"} {
		if err := os.MkdirAll(filepath.Join(at, dir), 0o700); err != nil {
			return fmt.Errorf("make the folders of the object store: %w", err)
		}
	}
	err := d.run(d.Objects, "objects", []string{"ROOT_ACCESS_KEY=" + objectsAccess, "ROOT_SECRET_KEY=" + d.secrets.LabPassword},
		"--port", d.objectsAddr(), "--iam-dir", filepath.Join(at, "iam"), "posix", "--versioning-dir", filepath.Join(at, "versions"), filepath.Join(at, "data"))
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(30 * time.Second); ; {
		c, err := (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "tcp", d.objectsAddr())
		if err == nil {
			return c.Close()
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-d.died:
			return err
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the object store did not answer in half a minute: %w", err)
		}
	}
}

// longTerm is the long-term store of a site.
func (d *demo) longTerm(s place) site.LongTerm {
	switch {
	case s.name != longTermSite:
		return site.LongTerm{}
	case d.Objects == "":
		return site.LongTerm{Dir: filepath.Join(s.dir, "long-term")}
	}
	return site.LongTerm{Objects: bucket.Config{URL: "http://" + d.objectsAddr() + "/points/eastmole", AccessKey: objectsAccess, SecretKey: d.secrets.LabPassword, Cache: objectsCache}}
}

// longTermArgs are the options and the environment that give a site's process the same.
func (d *demo) longTermArgs(s place) (env, args []string) {
	x := d.longTerm(s)
	switch {
	case x.Dir != "":
		args = []string{"--long-term-dir", x.Dir}
	case x.Objects.URL != "":
		env = []string{"KESTREL_LONG_TERM_S3_ACCESS_KEY=" + x.Objects.AccessKey, "KESTREL_LONG_TERM_S3_SECRET_KEY=" + x.Objects.SecretKey}
		args = []string{"--long-term-objects", x.Objects.URL, "--long-term-cache", "64MiB"}
	}
	return env, args
}

package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/files/bucket"
	"kestrel/internal/keeper"
	"kestrel/internal/points"
	"kestrel/internal/records"
	"kestrel/internal/site"
)

func (a *app) storeCmd() *cobra.Command {
	c := &cobra.Command{Use: "store", Short: "The point store"}
	var secret storeSecret
	verify := a.storeVerifyCmd(&secret)
	secret.add(verify)
	c.AddCommand(verify, a.spaceCmd(), a.newKeyCmd(), a.rekeyCmd(), a.adoptCmd(), a.carryCmd(), a.copiesCmd(), a.forgetCopyCmd(),
		&cobra.Command{Use: "rewrite", Short: "Encrypt what is in the clear or under an older key", Example: "  kestrel store rewrite", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			op, err := read[api.Operation](c.RewriteStore(cmd.Context()))
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), c, op, true)
		}},
		&cobra.Command{Use: "show", Short: "What the site's store holds", Example: "  kestrel store show", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := read[api.Store](c.GetStore(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(s, func(w *tabwriter.Writer) {
				row(w, "Folder", s.Directory)
				if s.Objects != nil {
					row(w, "Objects", fmt.Sprintf("%s; %s of them kept here too", *s.Objects, size(*s.CacheBytes)))
				}
				row(w, "Points", s.Points)
				row(w, "Packs", fmt.Sprintf("%d, %s", s.Packs, size(s.PackBytes)))
				row(w, "Records", s.Records)
				row(w, "Arriving", fmt.Sprintf("%d cycles", s.Intakes))
				bad := fmt.Sprintf("%d records", s.BadRecords)
				if s.BadRecords > 0 {
					bad = "✕ " + bad + "; kestrel store losses lists what points lose by them"
				}
				if s.HealedRecords > 0 {
					bad += fmt.Sprintf(", %d replaced", s.HealedRecords)
				}
				row(w, "Bad", bad)
				row(w, "Encrypted", encrypted(s.Encryption))
				if s.FillsAt != nil {
					row(w, "Full", "about "+clockTime(s.FillsAt)+", at the pace of the last day")
				}
				if s.LockedPoints > 0 {
					outside := ""
					if s.LockedOutside {
						outside = ", at the object service as well"
					}
					row(w, "Locked", fmt.Sprintf("%s, the last until %s%s", count(s.LockedPoints, "point"), clockTime(s.LockedUntil), outside))
				}
				if f := s.LongTerm; f != nil {
					at := f.Directory
					if f.Objects != nil {
						at = fmt.Sprintf("%s; %s of them kept here too", *f.Objects, size(*f.CacheBytes))
					}
					row(w, "Long-term store", at)
					row(w, "", fmt.Sprintf("%s, %d of them nowhere else, %s; %s to be copied there", count(f.Points, "point"), f.OnlyThere, size(f.PackBytes), count(f.Awaiting, "point")))
					if f.BadRecords > 0 {
						row(w, "", fmt.Sprintf("✕ %s bad; kestrel store losses lists what points lose by them", count(f.BadRecords, "record")))
					}
					row(w, "", "verified: "+verified(f.Verify, f.PackBytes))
					if f.Full {
						row(w, "", "✕ "+size(f.FreeBytes)+" free: nothing is copied there until there is more than the floor")
					}
				}
				if len(s.ExportDirs) > 0 {
					row(w, "Exports", "below "+strings.Join(s.ExportDirs, ", "))
				}
				row(w, "Verified", verified(s.Verify, s.PackBytes))
				free := size(s.FreeBytes)
				if s.Full {
					free = "✕ " + free + ": cycles wait until there is more than the floor"
				}
				row(w, "Free", free)
				if s.Health != nil {
					row(w, "Health", strings.TrimSpace(condition(s.Health, "")+"  "+causeOf(s.Health)))
				}
				row(w, "Floor", size(s.FloorBytes))
			})
		}},
		&cobra.Command{Use: "losses", Short: "What points of this site cannot be read", Example: "  kestrel store losses", Args: cobra.NoArgs,
			Long: `List the stretches of disks of points that cannot be read, because blocks are
damaged. What is awaited is asked for from the home site with the group's next
cycle; what is lost is not there any more either. The exit code is 1 if anything
is listed.`,
			RunE: func(cmd *cobra.Command, _ []string) error {
				c, err := a.client()
				if err != nil {
					return err
				}
				xs, err := read[[]api.Loss](c.ListLosses(cmd.Context()))
				if err != nil {
					return err
				}
				err = a.emit(xs, func(w *tabwriter.Writer) {
					if len(xs) == 0 {
						_, _ = fmt.Fprintln(w, "Nothing: all points can be read as far as they were verified.")
						return
					}
					row(w, "GROUP", "POINT", "CAPTURED", "MACHINE", "DISK", "FROM", "LENGTH", "STATE")
					for _, x := range xs {
						row(w, x.GroupName, x.PointNumber, clockTime(&x.CaptureAt), x.Machine, x.Disk, size(x.OffsetBytes), size(x.LengthBytes), x.State)
					}
				})
				if err == nil && len(xs) > 0 {
					return fmt.Errorf("%d stretches cannot be read", len(xs))
				}
				return err
			}},
		&cobra.Command{Use: "sweep", Short: "Give back the room of dropped points now", Example: "  kestrel store sweep", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			op, err := read[api.Operation](c.SweepStore(cmd.Context()))
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), c, op, true)
		}})
	return c
}

func encrypted(x api.Encryption) string {
	if !x.On {
		return "no"
	}
	out := fmt.Sprintf("yes, key %d of %s", x.Key, clockTime(x.KeyCreatedAt))
	if x.StaleBytes > 0 {
		out += fmt.Sprintf("; ◆ %s are not, or under an older key: kestrel store rewrite", size(x.StaleBytes))
	}
	return out
}

// verified says how far the background pass over the store is.
func verified(x api.VerifyPass, total int64) string {
	out := "not yet"
	switch since := total - x.DoneBytes; {
	case x.EndedAt == nil:
	case x.Running:
		out = "all that was there at " + clockTime(x.EndedAt)
	case since > 0:
		// What came after the pass has been verified on arrival, and not since.
		out = fmt.Sprintf("all that was there at %s; %s came since", clockTime(x.EndedAt), size(since))
	default:
		out = "all of it, " + clockTime(x.EndedAt)
	}
	if x.Running {
		out += fmt.Sprintf("; now at %s of %s", size(x.DoneBytes), size(total))
	}
	if x.EverySeconds == 0 {
		return out + "; not by itself"
	}
	return out + "; every " + span.Format(time.Duration(x.EverySeconds)*time.Second)
}

func (a *app) storeVerifyCmd(secret *storeSecret) *cobra.Command {
	return &cobra.Command{Use: "verify [DIR]", Short: "Read and verify every block of every point", Args: cobra.MaximumNArgs(1),
		Long: `Read and verify everything: each record against its checksum and its name, each
point's trees down to the last block. With a folder it works on that store
directly, also while a service is using it; without, it asks the site to.
Faults are listed with the points that lose by them, and the exit code is 1.`,
		Example: "  kestrel store verify\n  kestrel store verify /var/lib/kestrel/store",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				c, err := a.client()
				if err != nil {
					return err
				}
				op, err := read[api.Operation](c.VerifyStore(cmd.Context()))
				if err != nil {
					return err
				}
				return a.follow(cmd.Context(), c, op, true)
			}
			key, err := secret.read()
			if err != nil {
				return err
			}
			s, err := points.OpenForReading(args[0], points.Options{Now: time.Now, Secret: key})
			if err != nil {
				return err
			}
			began := time.Now()
			rep, err := s.Verify(cmd.Context(), nil)
			if err != nil {
				return err
			}
			if rep.Faults == nil {
				rep.Faults = []points.Fault{}
			}
			err = a.emit(rep, func(w *tabwriter.Writer) {
				for _, f := range rep.Faults {
					_, _ = fmt.Fprintf(w, "✕ %s: %s\n", f.Where, f.What)
					if len(f.Points) > 0 {
						_, _ = fmt.Fprintf(w, "  points that lose by it: %d\n    %s\n", len(f.Points), strings.Join(f.Points, "\n    "))
					}
				}
				_, _ = fmt.Fprintf(w, "%d records in %d packs (%s), %d disks of %d points, in %s: %d faults\n", rep.Records, rep.Packs, size(rep.Bytes), rep.Disks, rep.Points, span.Precise(time.Since(began)), len(rep.Faults))
			})
			if err == nil && len(rep.Faults) > 0 {
				return fmt.Errorf("%d faults", len(rep.Faults))
			}
			return err
		}}
}

// storePlace are the options of a store whose packs and seals are objects.
type storePlace struct {
	url, cache string
	take       bool
}

// longTermPlace are the options of a long-term store.
type longTermPlace struct{ dir, url, cache string }

func (s *longTermPlace) add(c *cobra.Command) {
	c.Flags().StringVar(&s.dir, "long-term-dir", "", "keep what long-term rungs keep in this folder of another file system")
	c.Flags().StringVar(&s.url, "long-term-objects", "", "keep it in this bucket of an S3-compatible object store instead; its keys are read from KESTREL_LONG_TERM_S3_ACCESS_KEY and KESTREL_LONG_TERM_S3_SECRET_KEY")
	c.Flags().StringVar(&s.cache, "long-term-cache", "2GiB", "how much of those objects may be kept here besides")
	c.MarkFlagsMutuallyExclusive("long-term-dir", "long-term-objects")
}

func (s *longTermPlace) read(take bool) (site.LongTerm, error) {
	if s.dir != "" && !filepath.IsAbs(s.dir) {
		return site.LongTerm{}, usage("--long-term-dir: %q is not a whole path", s.dir)
	}
	if s.url == "" {
		return site.LongTerm{Dir: s.dir}, nil
	}
	c, err := objectsAt(s.url, s.cache, "long-term", "KESTREL_LONG_TERM_S3")
	c.Take = take
	return site.LongTerm{Objects: c}, err
}

func (s *storePlace) add(c *cobra.Command) {
	c.Flags().StringVar(&s.url, "store-objects", "", "keep the point store in this bucket of an S3-compatible object store, such as https://objects.skerry.example/points/eastmole; its keys are read from KESTREL_S3_ACCESS_KEY and KESTREL_S3_SECRET_KEY")
	c.Flags().StringVar(&s.cache, "store-cache", "20GiB", "how much of the objects may be kept here besides")
	c.Flags().BoolVar(&s.take, "take-objects", false, "take the objects over from another host, which must not use them any more")
}

func (s *storePlace) read() (bucket.Config, error) {
	if s.url == "" {
		return bucket.Config{}, nil
	}
	c, err := objectsAt(s.url, s.cache, "store", "KESTREL_S3")
	c.Take = s.take
	return c, err
}

// objectsAt reads the options of a bucket, whose keys are in the environment.
func objectsAt(url, cache, prefix, env string) (bucket.Config, error) {
	n, err := humanize.ParseBytes(cache)
	if err != nil || n < 1<<20 || n > 1<<60 {
		return bucket.Config{}, usage("--%s-cache: %q is no size of a MiB or more; write it like 20GiB", prefix, cache)
	}
	c := bucket.Config{URL: url, AccessKey: os.Getenv(env + "_ACCESS_KEY"), SecretKey: os.Getenv(env + "_SECRET_KEY"), Cache: int64(n)}
	if c.AccessKey == "" || c.SecretKey == "" {
		return c, usage("--%s-objects needs %s_ACCESS_KEY and %s_SECRET_KEY in the environment", prefix, env, env)
	}
	return c, nil
}

// storeSecret is the pair of options that open an encrypted store.
type storeSecret struct{ prefix, keyFile, passphraseFile string }

func (s *storeSecret) add(c *cobra.Command) {
	c.Flags().StringVar(&s.keyFile, s.prefix+"key-file", "", "file with 32 random bytes or more that encrypts the point store (kestrel store new-key makes one)")
	c.Flags().StringVar(&s.passphraseFile, s.prefix+"passphrase-file", "", "file with the passphrase that encrypts the point store, instead of a key file")
	c.MarkFlagsMutuallyExclusive(s.prefix+"key-file", s.prefix+"passphrase-file")
}

func (s *storeSecret) read() (points.Secret, error) {
	switch {
	case s.keyFile != "":
		b, err := os.ReadFile(s.keyFile)
		if err != nil {
			return points.Secret{}, fmt.Errorf("--%skey-file: %w", s.prefix, err)
		}
		if len(b) < 32 {
			return points.Secret{}, usage("--%skey-file: %s has %d bytes and needs 32 or more", s.prefix, s.keyFile, len(b))
		}
		return points.Secret{Key: b}, nil
	case s.passphraseFile != "":
		b, err := os.ReadFile(s.passphraseFile)
		if err != nil {
			return points.Secret{}, fmt.Errorf("--%spassphrase-file: %w", s.prefix, err)
		}
		b = bytes.TrimRight(b, "\r\n")
		if len(b) < 12 {
			return points.Secret{}, usage("--%spassphrase-file: a passphrase of %d characters is too short; it takes 12 or more", s.prefix, len(b))
		}
		return points.Secret{Passphrase: b}, nil
	}
	return points.Secret{}, nil
}

func (a *app) adoptCmd() *cobra.Command {
	var secret storeSecret
	var place storePlace
	var longTerm longTermPlace
	var db, name string
	c := &cobra.Command{Use: "adopt [DIR]", Short: "Bring a site's records back from its point store alone", Args: cobra.MaximumNArgs(1),
		Example: "  kestrel store adopt /var/lib/kestrel/store --database postgres://kestrel@127.0.0.1/kestrel\n  kestrel store adopt --long-term-dir /mnt/long --database postgres://kestrel@127.0.0.1/kestrel",
		Long: `Write the groups and points of a point store into an empty database, when the
one that the site had is lost. The service has to be stopped; start it afterwards
with the store in the folder store of its --state, and make an administrator with
kestrel admin link. Points can then be started, served and exported. Cycles go on
once the home site is paired again. The points of a long-term store are brought
back too; if that alone is left, leave DIR out.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if db == "" {
				db = os.Getenv("KESTREL_DATABASE_URL")
			}
			if db == "" {
				return usage("give --database")
			}
			key, err := secret.read()
			if err != nil {
				return err
			}
			far, err := longTerm.read(place.take)
			if err != nil {
				return err
			}
			if len(args) == 0 && far == (site.LongTerm{}) {
				return usage("name the folder of the point store, or give --long-term-dir or --long-term-objects")
			}
			var stores []*points.Store
			state := "DIR"
			if len(args) > 0 {
				s, err := openAny(cmd.Context(), args[0], place.read, key)
				if err != nil {
					return err
				}
				stores, state = append(stores, s), filepath.Dir(filepath.Clean(args[0]))
			}
			if far != (site.LongTerm{}) {
				dir := far.Dir
				if dir == "" {
					if dir, err = os.MkdirTemp("", "kestrel-adopt"); err != nil {
						return err
					}
					defer func() { _ = os.RemoveAll(dir) }()
				}
				s, err := openAny(cmd.Context(), dir, func() (bucket.Config, error) { return far.Objects, nil }, key)
				if err != nil {
					return err
				}
				stores = append(stores, s)
			}
			d, err := records.Open(cmd.Context(), db)
			if err != nil {
				return err
			}
			defer func() { _ = d.Close() }()
			out, err := keeper.Adopt(cmd.Context(), d, stores, name, time.Now())
			if errors.Is(err, records.ErrNotEmpty) {
				return fmt.Errorf("%w: adopt into a new one", err)
			}
			if err != nil {
				return err
			}
			return a.emit(out, func(w *tabwriter.Writer) {
				row(w, "Site", out.Site)
				row(w, "Groups", out.Groups)
				row(w, "Machines", out.Machines)
				row(w, "Points", fmt.Sprintf("%d, %d of them pinned", out.Points, out.Pinned))
				row(w, "Berths", out.Berths)
				row(w, "Next", fmt.Sprintf("kestrel serve --site %q --state %s …", out.Site, state))
			})
		}}
	secret.add(c)
	place.add(c)
	longTerm.add(c)
	c.Flags().StringVar(&db, "database", "", "URL of the new database")
	c.Flags().StringVar(&name, "site", "", "name of the site (default what the store says)")
	return c
}

func (a *app) carryCmd() *cobra.Command {
	var keep string
	var noWait bool
	c := &cobra.Command{Use: "carry FILE", Short: "Take in an image that was carried over by hand", Args: cobra.ExactArgs(1), Example: "  kestrel store carry /mnt/disk/tick-db.qcow2 --keep 30d",
		Long: `Take a raw or qcow2 image on the site's host into its point store. A first copy
of a machine ships only what is in no such image: carry over its disks, take them
in here, then make the group at home. The image is kept until its time is over;
what points share with it by then stays.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in := api.NewCopy{Path: args[0]}
			if abs, err := filepath.Abs(in.Path); err == nil {
				in.Path = abs // a path that was typed here is meant from here
			}
			if in.KeepSeconds, err = spanOr("--keep", keep); err != nil {
				return err
			}
			op, err := read[api.Operation](c.CarryCopy(cmd.Context(), in))
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), c, op, !noWait)
		}}
	c.Flags().StringVar(&keep, "keep", "14d", "for how long")
	c.Flags().BoolVar(&noWait, "no-wait", false, "do not wait for it")
	return c
}

func (a *app) copiesCmd() *cobra.Command {
	return &cobra.Command{Use: "carried", Short: "List the images that were carried over", Example: "  kestrel store carried", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		xs, err := read[[]api.Copy](c.ListCopies(cmd.Context()))
		if err != nil {
			return err
		}
		return a.emit(xs, func(w *tabwriter.Writer) {
			row(w, "COPY", "IMAGE", "SIZE", "USED", "TAKEN IN", "KEPT UNTIL")
			for _, x := range xs {
				row(w, x.ID, x.Name, size(x.SizeBytes), size(x.UsedBytes), clockTime(&x.AddedAt), clockTime(&x.KeptUntil))
			}
		})
	}}
}

func (a *app) forgetCopyCmd() *cobra.Command {
	return &cobra.Command{Use: "give-up COPY", Short: "Give up an image that was carried over", Example: "  kestrel store give-up 01a2…", Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if err := done(c.DeleteCopy(cmd.Context(), args[0])); err != nil {
			return err
		}
		return a.did("The copy is given up; what points share with it stays.")
	}}
}

// openAny opens a store for reading, in a folder or in objects with their cache
// there.
func openAny(ctx context.Context, dir string, at func() (bucket.Config, error), key points.Secret) (*points.Store, error) {
	c, err := at()
	if err != nil {
		return nil, err
	}
	if c.URL == "" {
		return points.OpenForReading(dir, points.Options{Now: time.Now, Secret: key})
	}
	fs, err := bucket.Open(ctx, dir, c, nil)
	if err != nil {
		return nil, err
	}
	return points.OpenForReading(dir, points.Options{Now: time.Now, Secret: key, Files: fs})
}

func (a *app) newKeyCmd() *cobra.Command {
	return &cobra.Command{Use: "new-key FILE", Short: "Make a key file for an encrypted store", Args: cobra.ExactArgs(1), Example: "  kestrel store new-key /etc/kestrel/store.key",
		Long: `Make a key file. Keep a copy of it away from this host: without it, nobody can
read the points of a store that it encrypts.`,
		RunE: func(_ *cobra.Command, args []string) error {
			b := make([]byte, 32)
			_, _ = rand.Read(b) // never fails since Go 1.24
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return fmt.Errorf("make the key file: %w", err)
			}
			_, err = fmt.Fprintf(f, "%x\n", b)
			if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
				return fmt.Errorf("make the key file: %w", err)
			}
			return a.did("%s is made. Keep a copy away from this host: without it the points cannot be read.", args[0])
		}}
}

func (a *app) rekeyCmd() *cobra.Command {
	var from storeSecret
	to := storeSecret{prefix: "new-"}
	var fresh bool
	c := &cobra.Command{Use: "rekey DIR", Short: "Change key file, passphrase or key of an encrypted store", Args: cobra.ExactArgs(1),
		Example: "  kestrel store rekey /var/lib/kestrel/store --key-file old.key --new-key-file new.key\n  kestrel store rekey /var/lib/kestrel/store --key-file store.key --fresh",
		Long: `Close the keys of an encrypted store under another key file or passphrase; the
old one is of no use then. With --fresh a further key is made, and all that is
written from then on is encrypted under it; kestrel store rewrite brings over
the rest. The service has to be stopped meanwhile.`,
		RunE: func(_ *cobra.Command, args []string) error {
			old, err := from.read()
			if err != nil {
				return err
			}
			next, err := to.read()
			if err != nil {
				return err
			}
			if to.keyFile == "" && to.passphraseFile == "" && !fresh {
				return usage("say what to change: --new-key-file, --new-passphrase-file or --fresh")
			}
			if err := points.Rekey(args[0], points.Options{Now: time.Now, Secret: old}, next, fresh); err != nil {
				return err
			}
			if fresh {
				return a.did("Done. Start the service, then bring over what is there: kestrel store rewrite")
			}
			return a.did("Done. Start the service with the new key file or passphrase.")
		}}
	from.add(c)
	to.add(c)
	c.Flags().BoolVar(&fresh, "fresh", false, "make a further key for what is written from now on")
	return c
}

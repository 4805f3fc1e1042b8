package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"kestrel/console"
	"kestrel/internal/clock"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/httpapi"
	"kestrel/internal/lab"
	"kestrel/internal/mover"
	"kestrel/internal/nbd"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/reach"
	"kestrel/internal/signon"
	"kestrel/internal/site"
	"kestrel/internal/tracing"
)

func logger(a *app, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usage("--log is debug, info, warn or error, not %q", level)
	}
	return slog.New(slog.NewJSONHandler(a.Err, &slog.HandlerOptions{Level: l})), nil
}

// eachProcessor is how many cycles a site runs for each processor, if nothing is said: with the
// other site, platform and database on the same two, more did not make more of them end.
const eachProcessor = 2

// maxCycles is more than any site has use for.
const maxCycles = 1000

// Bounds of the memory for the index of blocks, in bytes.
const leastIndex, mostIndex = 1 << 20, 1 << 40

func (a *app) serveCmd() *cobra.Command {
	var cfg site.Config
	secret := storeSecret{prefix: "store-"}
	var place storePlace
	var longTerm longTermPlace
	var listen, cert, key, level, floor, index, verify, wait, least string
	var asRoot bool
	var connect []string
	var syslogCA, signOnSecret string
	var signOnRoles []string
	c := &cobra.Command{Use: "serve", Short: "Run a site", Args: cobra.NoArgs,
		Long: `Run a site: its console and API, its link to other sites, its point store.

The console and API may be plain HTTP on loopback only; elsewhere give a
certificate. The database URL may also come from KESTREL_DATABASE_URL, which
keeps its password off the process list.`,
		Example: `  kestrel serve --site Norhaven --state /var/lib/kestrel --database postgres://kestrel@127.0.0.1/kestrel \
      --link-listen 0.0.0.0:7443 --link-address norhaven.skerry.example:7443`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			host, _, err := net.SplitHostPort(listen)
			if err != nil {
				return usage("--listen is HOST:PORT, not %q", listen)
			}
			secure := cert != "" && key != ""
			if ip := net.ParseIP(host); !secure && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
				return usage("--listen %s is not on loopback, and plain HTTP is served nowhere else; give --tls-cert and --tls-key, or listen on 127.0.0.1", listen)
			}
			if cfg.DatabaseURL == "" {
				cfg.DatabaseURL = os.Getenv("KESTREL_DATABASE_URL")
			}
			if cfg.Name == "" || cfg.StateDir == "" || cfg.DatabaseURL == "" {
				return usage("give --site, --state and --database")
			}
			if os.Geteuid() == 0 && !asRoot {
				return usage("a site needs no root; run it as a user of its own (docs/operations.md has a unit), or say --as-root")
			}
			if cfg.Within, err = reach.Parse(connect); err != nil {
				return usage("--connect-to: %v", err)
			}
			if err := signOn(&cfg.SignOn, signOnSecret, signOnRoles); err != nil {
				return err
			}
			if cfg.Traces != "" {
				if err := tracing.Check(cfg.Traces); err != nil {
					return usage("--otlp: %v", err)
				}
			}
			if cfg.SyslogTLS, err = syslogTLS(cfg.Syslog, syslogCA); err != nil {
				return err
			}
			if cfg.Log, err = logger(a, level); err != nil {
				return err
			}
			cfg.Log = cfg.Log.With("site", cfg.Name)
			if floor != "" {
				n, err := humanize.ParseBytes(floor)
				if err != nil || n == 0 || n > 1<<60 {
					return usage("--store-floor: %q is no number of bytes; write it like 20GiB", floor)
				}
				cfg.StoreFloor = int64(n)
			}
			n, err := humanize.ParseBytes(index)
			if err != nil || n < leastIndex || n > mostIndex {
				return usage("--index-memory: %q is no number of bytes from 1 MiB to 1 TiB; write it like 256MiB", index)
			}
			cfg.IndexCache = int64(n)
			for flag, n := range map[string]int{"--cycles": cfg.Cycles.Site, "--link-cycles": cfg.Cycles.Link, "--platform-cycles": cfg.Cycles.Platform, "--datastore-cycles": cfg.Cycles.Datastore} {
				if n < 0 || n > maxCycles {
					return usage("%s: give a number up to %d", flag, maxCycles)
				}
			}
			if cfg.Cycles.Site == 0 {
				cfg.Cycles.Site = max(mover.UsualCycles, eachProcessor*runtime.GOMAXPROCS(0))
			}
			var every time.Duration
			if verify != "0" {
				every, err = span.Parse(verify)
			}
			if err != nil || every < 0 || every > 0 && every < time.Hour {
				return usage("--verify-every: %q is neither 0 nor a time of an hour or more; write it like 7d", verify)
			}
			if cfg.VerifyEvery = every; every == 0 {
				cfg.VerifyEvery = -1
			}
			if cfg.DeletionWait, cfg.Least, err = peersMay(wait, least); err != nil {
				return err
			}
			if cfg.StoreSecret, err = secret.read(); err != nil {
				return err
			}
			if cfg.Objects, err = place.read(); err != nil {
				return err
			}
			if cfg.LongTerm, err = longTerm.read(place.take); err != nil {
				return err
			}
			cfg.Clock = clock.Wall{}
			if cfg.ConsoleURL == "" {
				cfg.ConsoleURL = "http://" + listen
				if secure {
					cfg.ConsoleURL = "https://" + listen
				}
			}
			self, err := os.Executable()
			if err != nil {
				return fmt.Errorf("find this program: %w", err)
			}
			cfg.Guard = []string{self, "guard"}
			// Seeding churns through buffers; without a soft limit the heap
			// doubles before it is collected.
			debug.SetMemoryLimit(200 << 20)
			files, err := console.Files()
			if err != nil {
				return err
			}
			hosts, err := names(cfg.ConsoleURL, cert)
			if err != nil {
				return err
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return fmt.Errorf("listen for console and API: %w", err)
			}
			defer func() { _ = l.Close() }()
			svc, err := site.New(cmd.Context(), cfg)
			if err != nil {
				return err
			}
			cfg.Log.Info("site is up", "console", "http://"+l.Addr().String(), "link", cfg.LinkListen, "nbd", cfg.NBDListen)
			g, ctx := errgroup.WithContext(cmd.Context())
			g.Go(func() error { return svc.Run(ctx) })
			g.Go(func() error {
				return httpapi.Serve(ctx, l, httpapi.New(svc.Rooms(), files, httpapi.Door{Secure: secure, Hosts: hosts}, cfg.Log), cert, key)
			})
			err = g.Wait()
			err = errors.Join(err, svc.Close())
			cfg.Log.Info("site has stopped")
			return err
		}}
	f := c.Flags()
	f.StringVar(&cfg.Name, "site", "", "name of this site")
	f.StringVar(&cfg.StateDir, "state", "", "folder for keys and the point store")
	f.StringVar(&cfg.DatabaseURL, "database", "", "URL of the PostgreSQL database")
	f.StringVar(&listen, "listen", "127.0.0.1:7410", "address of console and API")
	f.StringVar(&cfg.ConsoleURL, "console-url", "", "address that one-time links begin with (default: that of --listen)")
	f.StringVar(&cert, "tls-cert", "", "certificate for console and API")
	f.StringVar(&key, "tls-key", "", "its key")
	f.StringVar(&cfg.LinkListen, "link-listen", "127.0.0.1:7443", "address for other sites")
	f.StringVar(&cfg.LinkAddress, "link-address", "", "HOST:PORT under which other sites reach --link-listen")
	f.StringVar(&cfg.NBDListen, "nbd-listen", "127.0.0.1:10809", "address on which points are served over NBD; anything but loopback needs --nbd-certificates")
	f.StringVar(&cfg.NBDAddress, "nbd-address", "", "HOST:PORT under which hypervisors reach --nbd-listen")
	f.StringVar(&cfg.NBDCertificates, "nbd-certificates", "", "folder with cacert.pem, servercert.pem and serverkey.pem: serve NBD under TLS only")
	f.StringVar(&floor, "store-floor", "", "room that arriving cycles leave free on the point store's file system, such as 20GiB (default a twentieth of it, 1 to 50 GiB)")
	f.StringVar(&index, "index-memory", "64MiB", "memory for looking up where the blocks of a store stand")
	f.IntVar(&cfg.Cycles.Site, "cycles", 0, fmt.Sprintf("cycles of groups that may run at the same time (default %d for each processor, at least %d)", eachProcessor, mover.UsualCycles))
	f.IntVar(&cfg.Cycles.Link, "link-cycles", 0, "of them, over one link; 0 for no limit of its own")
	f.IntVar(&cfg.Cycles.Platform, "platform-cycles", 0, "of them, from one platform")
	f.IntVar(&cfg.Cycles.Datastore, "datastore-cycles", 0, "of them, from one datastore")
	secret.add(c)
	place.add(c)
	longTerm.add(c)
	f.StringArrayVar(&cfg.ExportDirs, "export-dir", nil, "folder of this host below which points may be exported; may be given more than once")
	f.StringArrayVar(&cfg.CarryDirs, "carry-dir", nil, "folder of this host below which carried images may lie; may be given more than once")
	f.StringArrayVar(&cfg.CertificateDirs, "certificate-dir", nil, "folder of this host below which certificates of platforms may lie; may be given more than once")
	f.StringArrayVar(&connect, "connect-to", nil, "network that the site may connect to, such as 192.0.2.0/24, for platforms, other sites and objects; may be given more than once, anywhere if left out")
	f.StringVar(&cfg.SignOn.Issuer, "sign-on-issuer", "", "address of an OpenID Connect provider at which people can sign in; it sends them back to --console-url with "+signon.Back)
	f.StringVar(&cfg.SignOn.ClientID, "sign-on-client", "", "what this site is called there")
	f.StringVar(&signOnSecret, "sign-on-secret-file", "", "file with this site's secret there, or KESTREL_SIGN_ON_SECRET")
	f.StringVar(&cfg.SignOn.GroupsClaim, "sign-on-groups-claim", "groups", "claim that has somebody's groups")
	f.StringVar(&cfg.SignOn.Label, "sign-on-label", "", "what people call the provider (default: its host)")
	f.StringArrayVar(&signOnRoles, "sign-on-role", nil, "GROUP=ROLE or GROUP=ROLE:TAG,TAG: what people of a group there may do here; may be given more than once")
	f.StringVar(&cfg.Traces, "otlp", "", "URL of a collector that is told of requests and cycles, by OpenTelemetry's protocol over HTTP (default: none)")
	f.StringVar(&cfg.Syslog, "syslog", "", "HOST:PORT of a log server that the audit trail is sent to (RFC 5424 over TLS)")
	f.StringVar(&syslogCA, "syslog-ca", "", "certificates of who vouches for it (default: the system's)")
	f.BoolVar(&asRoot, "as-root", false, "run as root all the same")
	f.StringVar(&wait, "deletion-wait", "1d", "how long points stay here that another site wants deleted, for somebody here to stop it; 0 for not at all")
	f.StringVar(&least, "least-keep", "1h 1d, 1d 7d", "how fast points are thinned here at most where another site makes a keep ladder shorter; none for as fast as it wants")
	f.StringVar(&verify, "verify-every", "7d", "time within which every block of the point store is read and verified once; 0 for never")
	f.StringVar(&level, "log", "info", "log level")
	return c
}

// signOn completes where people can sign in.
func signOn(c *signon.Config, secretFile string, roles []string) error {
	if c.Issuer == "" {
		if c.ClientID != "" || secretFile != "" || len(roles) > 0 {
			return usage("--sign-on-client, --sign-on-secret-file and --sign-on-role go with --sign-on-issuer")
		}
		return nil
	}
	u, err := url.Parse(c.Issuer)
	loopback := err == nil && (u.Hostname() == "localhost" || net.ParseIP(u.Hostname()).IsLoopback())
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && (u.Scheme != "http" || !loopback) {
		return usage("--sign-on-issuer is an https URL, not %q", c.Issuer)
	}
	if c.ClientID == "" || len(roles) == 0 {
		return usage("give --sign-on-client and at least one --sign-on-role with --sign-on-issuer")
	}
	if c.Label == "" {
		c.Label = u.Hostname()
	}
	c.Secret = os.Getenv("KESTREL_SIGN_ON_SECRET")
	if secretFile != "" {
		b, err := os.ReadFile(secretFile)
		if err != nil {
			return usage("--sign-on-secret-file: %v", err)
		}
		c.Secret = strings.TrimSpace(string(b))
	}
	for _, r := range roles {
		g, err := signon.ParseGrant(r)
		if err != nil {
			return usage("--sign-on-role: %v", err)
		}
		c.Grants = append(c.Grants, g)
	}
	return nil
}

// syslogTLS is how a log server is spoken to: it has to show a certificate for its name.
func syslogTLS(address, ca string) (*tls.Config, error) {
	if address == "" {
		if ca != "" {
			return nil, usage("--syslog-ca goes with --syslog")
		}
		return nil, nil
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil || host == "" {
		return nil, usage("--syslog is HOST:PORT, not %q", address)
	}
	cfg := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if ca != "" {
		b, err := os.ReadFile(ca)
		if err != nil {
			return nil, usage("--syslog-ca: %v", err)
		}
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM(b) {
			return nil, usage("--syslog-ca: %s holds no certificate", ca)
		}
	}
	return cfg, nil
}

// guardCmd is started by serve and by nobody else.
func (a *app) guardCmd() *cobra.Command {
	return &cobra.Command{Use: "guard", Short: "Let machines go that a killed service holds", Hidden: true, Args: cobra.NoArgs, Example: "  kestrel guard    # started by kestrel serve",
		RunE: func(*cobra.Command, []string) error { return libvirt.Guard(a.In, a.Out) }}
}

func (a *app) labCmd() *cobra.Command {
	c := &cobra.Command{Use: "lab", Short: "The small simulated hypervisor manager that stands in for a real one"}
	var dir, scenario, listen, nbdListen, user string
	run := &cobra.Command{Use: "run", Short: "Run a lab", Args: cobra.NoArgs,
		Long:    "Run a lab. Its password is read from the environment variable KESTREL_LAB_PASSWORD.",
		Example: "  KESTREL_LAB_PASSWORD=… kestrel lab run --dir /var/tmp/lab --scenario norhaven",
		RunE: func(cmd *cobra.Command, _ []string) error {
			password := os.Getenv("KESTREL_LAB_PASSWORD")
			if password == "" || dir == "" {
				return usage("give --dir, and a password in KESTREL_LAB_PASSWORD")
			}
			for _, l := range []string{listen, nbdListen} {
				if host, _, err := net.SplitHostPort(l); err != nil || net.ParseIP(host) == nil || !net.ParseIP(host).IsLoopback() {
					return usage("a lab listens on loopback only, not on %q", l)
				}
			}
			sc, err := lab.LoadScenario(scenario)
			if err != nil {
				return usage("%v", err)
			}
			nl, err := net.Listen("tcp", nbdListen)
			if err != nil {
				return err
			}
			hl, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
			l, err := lab.Open(dir, sc, clock.Wall{}, nl.Addr().String())
			if err != nil {
				return err
			}
			g, ctx := errgroup.WithContext(cmd.Context())
			g.Go(func() error { return l.Run(ctx, lab.Tick) })
			g.Go(func() error { return nbd.Serve(ctx, nl, l) })
			g.Go(func() error { return httpapi.Serve(ctx, hl, l.Handler(user, password), "", "") })
			return errors.Join(g.Wait(), l.Close())
		}}
	run.Flags().StringVar(&dir, "dir", "", "folder for the lab's disks")
	run.Flags().StringVar(&scenario, "scenario", "norhaven", "norhaven, eastmole, skarholt, or a file")
	run.Flags().StringVar(&listen, "listen", "127.0.0.1:7412", "address of its HTTP interface")
	run.Flags().StringVar(&nbdListen, "nbd-listen", "127.0.0.1:7413", "address of its NBD server")
	run.Flags().StringVar(&user, "user", "lab", "user to sign in with")
	c.AddCommand(run, a.labCheckCmd())
	return c
}

func (a *app) labCheckCmd() *cobra.Command {
	var labURL, user, checkpoint string
	c := &cobra.Command{Use: "check DIR", Short: "Check exported disks: against the lab's own record of that instant, and their guests' records", Args: cobra.ExactArgs(1),
		Long: `Check the raw files that "kestrel point export" wrote.

Each machine's disks carry a transactional record of the simulated guest; this
reads it and says up to which transaction the disks are good, and whether
machines that depend on each other agree. With --lab and --checkpoint (which
"kestrel point show" names) it also compares every disk with what the lab
itself held at that instant; the lab's password is read from the environment
variable KESTREL_LAB_PASSWORD.`,
		Example: "  kestrel lab check /var/tmp/export --lab http://127.0.0.1:7412 --checkpoint kt-…",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.labCheck(cmd.Context(), args[0], labURL, user, checkpoint)
		}}
	c.Flags().StringVar(&labURL, "lab", "", "address of the lab")
	c.Flags().StringVar(&user, "user", "lab", "user to sign in with")
	c.Flags().StringVar(&checkpoint, "checkpoint", "", "the point's checkpoint")
	return c
}

func (a *app) labCheck(ctx context.Context, dir, labURL, user, checkpoint string) error {
	files, err := filepath.Glob(filepath.Join(dir, "*.raw"))
	if err != nil || len(files) == 0 {
		return fmt.Errorf("no raw files in %s", dir)
	}
	rep, err := lab.CheckExport(ctx, files, lab.Source{URL: labURL, User: user, Password: os.Getenv("KESTREL_LAB_PASSWORD"), Checkpoint: checkpoint})
	if err != nil {
		return err
	}
	if err := a.emit(rep, rep.Table); err != nil {
		return err
	}
	if !rep.OK {
		return errors.New("the disks are not what they should be")
	}
	return nil
}

// peersMay reads how slowly is done what another site wants destroyed.
func peersMay(wait, least string) (time.Duration, ladder.Ladder, error) {
	d, err := time.Duration(-1), error(nil)
	if wait != "0" {
		d, err = span.Parse(wait)
	}
	if err != nil || d == 0 || d > span.Year {
		return 0, nil, usage("--deletion-wait: %q is neither 0 nor a time up to a year; write it like 1d", wait)
	}
	if least == "none" {
		return d, nil, nil
	}
	l, err := ladder.Parse(least)
	if err != nil {
		return 0, nil, usage("--least-keep: %v, or none", err)
	}
	return d, l, nil
}

// names are what clients may call this host: by the console's address, the certificate,
// and the host itself.
func names(console, certFile string) ([]string, error) {
	u, err := url.Parse(console)
	if err != nil || u.Host == "" {
		return nil, usage("--console-url: %q is no address; write it like https://norhaven.skerry.example", console)
	}
	out := []string{u.Hostname()}
	if host, err := os.Hostname(); err == nil {
		out = append(out, host)
	}
	if certFile == "" {
		return out, nil
	}
	b, err := os.ReadFile(certFile)
	if err != nil {
		return nil, fmt.Errorf("read --tls-cert: %w", err)
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, usage("--tls-cert %s holds no certificate in PEM", certFile)
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, usage("--tls-cert %s: %v", certFile, err)
	}
	return append(out, c.DNSNames...), nil
}

package nameserver_test

import (
	"context"
	"encoding/base64"
	"log/slog"
	"net"
	"os"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/events"
	"kestrel/internal/nameserver"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
	"kestrel/internal/support/pgcluster"
	"kestrel/internal/support/zone"
)

var cluster *pgcluster.Cluster

func TestMain(m *testing.M) {
	os.Exit(pgcluster.Main(m, "nameserver", func(c *pgcluster.Cluster) { cluster = c }))
}

// What a runbook changes is changed at a real server, under a key; it is set back to the
// letter; and nothing else can be changed, nor with another key.
func TestNamesAreChangedAtARealServer(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	z, err := zone.Start(ctx, t.TempDir(), "tickets 300 IN A 10.40.8.11", "tickets 300 IN A 10.40.8.12", "tickets 300 IN TXT kept", "mail 300 IN A 10.40.8.20", "old 300 IN CNAME tickets")
	require.NoError(t, err)
	t.Cleanup(func() { _ = z.Stop() })
	box, err := sealed.Open(t.TempDir())
	require.NoError(t, err)
	url, err := cluster.Database(ctx, "names")
	require.NoError(t, err)
	kept, err := records.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, kept.Close()) })
	s, err := nameserver.Open(ctx, nameserver.Config{DB: kept, Sealed: box, Trail: audit.New(kept, clock.Wall{}, events.NewHub(), slog.New(slog.DiscardHandler)), Dial: new(net.Dialer).DialContext, Clock: clock.Wall{}})
	require.NoError(t, err)
	who := actor.System()
	in := api.NewDNSServer{Name: "mole-dns", Address: z.Address, KeyName: zone.Key, Secret: z.Secret, Names: []string{"tickets.skerry.example", "*.web.skerry.example", "old.skerry.example"}}
	for field, spoil := range map[string]func(x *api.NewDNSServer){
		"name":      func(x *api.NewDNSServer) { x.Name = " " },
		"address":   func(x *api.NewDNSServer) { x.Address = "127.0.0.1" },
		"keyName":   func(x *api.NewDNSServer) { x.KeyName = "" },
		"algorithm": func(x *api.NewDNSServer) { x.Algorithm = new("hmac-md5") },
		"secret":    func(x *api.NewDNSServer) { x.Secret = "c2hvcnQ=" },
		"names[0]":  func(x *api.NewDNSServer) { x.Names = []string{"*"} },
		"names":     func(x *api.NewDNSServer) { x.Names = nil },
	} {
		bad := in
		spoil(&bad)
		_, err := s.Add(ctx, who, bad)
		p, is := problem.Of(err)
		require.True(t, is, "%s: %v", field, err)
		require.Equal(t, field, p.Errors[0].Field)
	}
	_, err = s.Add(ctx, who, in)
	require.NoError(t, err)
	_, err = s.Add(ctx, who, in)
	require.ErrorContains(t, err, "already")
	all, err := kept.DNSServers(ctx)
	require.NoError(t, err)
	require.NotContains(t, string(all[0].Secret), z.Secret, "it is encrypted")
	other := in
	other.Name, other.Secret = "stranger", base64.StdEncoding.EncodeToString(make([]byte, 32))
	_, err = s.Add(ctx, who, other)
	require.NoError(t, err)
	x, err := s.Test(ctx, who, "mole-dns", "tickets.skerry.example")
	require.NoError(t, err)
	require.True(t, x.Ok, x.Text)
	x, err = s.Test(ctx, who, "stranger", "tickets.skerry.example")
	require.NoError(t, err)
	require.False(t, x.Ok)
	require.Contains(t, x.Text, "does not take the key")
	x, err = s.Test(ctx, who, "mole-dns", "elsewhere.example")
	require.NoError(t, err)
	require.False(t, x.Ok)

	was, err := s.Look(ctx, "mole-dns", "tickets.skerry.example", "A")
	require.NoError(t, err)
	require.Equal(t, "10.40.8.11, 10.40.8.12", nameserver.Words(was))
	say, err := nameserver.Say("tickets.skerry.example", "A", time.Minute, []string{"10.60.4.11"})
	require.NoError(t, err)
	for range 2 { // it may be done again
		require.NoError(t, s.Set(ctx, "mole-dns", "tickets.skerry.example", "A", say))
	}
	says := func(name string, kind uint16) []string {
		t.Helper()
		out, err := z.Says(ctx, name, kind)
		require.NoError(t, err)
		return out
	}
	require.Equal(t, []string{"10.60.4.11"}, says("tickets.skerry.example", dns.TypeA))
	require.Equal(t, []string{`"kept"`}, says("tickets.skerry.example", dns.TypeTXT), "other kinds stay")
	require.NoError(t, s.Set(ctx, "mole-dns", "tickets.skerry.example", "A", was))
	require.ElementsMatch(t, []string{"10.40.8.11", "10.40.8.12"}, says("tickets.skerry.example", dns.TypeA))
	say, err = nameserver.Say("new.web.skerry.example", "AAAA", time.Minute, []string{"fd00::4"})
	require.NoError(t, err)
	require.NoError(t, s.Set(ctx, "mole-dns", "new.web.skerry.example", "AAAA", say))
	require.NoError(t, s.Set(ctx, "mole-dns", "new.web.skerry.example", "AAAA", nil), "what was not there is removed again")
	require.Empty(t, says("new.web.skerry.example", dns.TypeAAAA))
	say, err = nameserver.Say("old.skerry.example", "CNAME", time.Minute, []string{"mail.skerry.example"})
	require.NoError(t, err)
	require.NoError(t, s.Set(ctx, "mole-dns", "old.skerry.example", "CNAME", say))
	require.Equal(t, []string{"mail.skerry.example."}, says("old.skerry.example", dns.TypeCNAME))

	_, err = s.Look(ctx, "mole-dns", "mail.skerry.example", "A")
	require.ErrorContains(t, err, "may not change mail.skerry.example")
	require.ErrorContains(t, s.Set(ctx, "mole-dns", "web.skerry.example", "A", nil), "may not change")
	require.ErrorContains(t, s.Set(ctx, "stranger", "tickets.skerry.example", "A", say), "does not take the key")
	require.NoError(t, s.Delete(ctx, who, "stranger"))
	require.Equal(t, []string{"mole-dns"}, s.Names())
	require.NoError(t, z.Stop())
	require.ErrorContains(t, s.Set(ctx, "mole-dns", "tickets.skerry.example", "A", was), "mole-dns")
}

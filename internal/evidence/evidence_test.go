package evidence_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/evidence"
)

func signed(t *testing.T, key ed25519.PrivateKey, d evidence.Document) []byte {
	t.Helper()
	d.Format, d.Record = evidence.Format, json.RawMessage(`{"state":"over"}`)
	payload, err := json.Marshal(d)
	require.NoError(t, err)
	file, err := evidence.Sign(key, payload)
	require.NoError(t, err)
	return file
}

func TestWhatIsSignedCanBeCheckedAnywhere(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	first := signed(t, key, evidence.Document{Number: 1, SiteID: "s", Site: "Eastmole", Group: "Ticketing", Result: "passed", MadeAt: time.Now(), Screens: map[string][]byte{"tick-db": []byte("png")}})
	a, err := evidence.Read(first)
	require.NoError(t, err)
	require.Equal(t, evidence.Fingerprint(pub), evidence.Fingerprint(a.Key))
	require.Equal(t, []byte("png"), a.Screens["tick-db"])
	b, err := evidence.Read(signed(t, key, evidence.Document{Number: 2, SiteID: "s", Previous: a.Hash}))
	require.NoError(t, err)
	require.NoError(t, b.Follows(a))
	for what, d := range map[string]evidence.Document{"another site": {Number: 2, SiteID: "x", Site: "Skarholt", Previous: a.Hash}, "a gap": {Number: 3, SiteID: "s", Previous: a.Hash}, "replaced": {Number: 2, SiteID: "s", Previous: b.Hash}} {
		c, err := evidence.Read(signed(t, key, d))
		require.NoError(t, err)
		require.Error(t, c.Follows(a), what)
	}
}

// Whatever is changed of a file, it is not taken for what it was.
func TestWhatWasChangedIsNotTaken(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	file := signed(t, key, evidence.Document{Number: 1, SiteID: "s", Group: "Ticketing", Result: "failed"})
	var parts map[string]string
	require.NoError(t, json.Unmarshal(file, &parts))
	payload, err := base64.RawURLEncoding.DecodeString(parts["payload"])
	require.NoError(t, err)
	other := map[string]string{"payload": base64.RawURLEncoding.EncodeToString(bytes.Replace(payload, []byte("failed"), []byte("passed"), 1)), "protected": parts["protected"], "signature": parts["signature"]}
	forged, err := json.Marshal(other)
	require.NoError(t, err)
	_, err = evidence.Read(forged)
	require.ErrorContains(t, err, "was changed after it was signed")
	for i := range file {
		x := bytes.Clone(file)
		x[i] ^= 4
		got, err := evidence.Read(x)
		if err == nil {
			require.Equal(t, "failed", got.Result, "a change of what is between the values says nothing else")
			require.Equal(t, evidence.Hash(payload), got.Hash)
		}
	}
	for name, text := range map[string]string{"nothing": "", "no JSON": "evidence", "no signature": `{"payload":"e30"}`, "unsigned": `{"payload":"e30","protected":"eyJhbGciOiJub25lIn0","signature":""}`} {
		_, err := evidence.Read([]byte(text))
		require.Error(t, err, name)
	}
	_, err = evidence.Read([]byte(strings.Repeat(" ", evidence.MaxFile+1)))
	require.ErrorContains(t, err, "larger than")
}

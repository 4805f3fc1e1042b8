package audit

import (
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/records"
)

// Whatever a line holds, its message is one that a log server reads, with what the line
// said of whom.
func TestEveryLineIsAMessage(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"", `o]"\laf`, "a\nb", "\x00", "ü → 🚢", "\xff\xfe"}))
		who := rapid.StringMatching(`[a-z \]"\\]{1,20}`).Draw(t, "who")
		m, err := message(records.Activity{Number: new(int64(7)), At: time.Unix(1_800_000_000, 0), Who: who, Subject: text.Draw(t, "subject"), Text: text.Draw(t, "text"), Kind: rapid.SampledFrom([]string{"group", "", "with blank"}).Draw(t, "kind"), Changes: []byte("[]")})
		require.NoError(t, err)
		read, err := rfc5424.NewParser().Parse([]byte(m))
		require.NoError(t, err, "%q", m)
		data := (*read.(*rfc5424.SyslogMessage).StructuredData)[elements]
		require.Equal(t, "7", data["number"])
		require.Equal(t, who, data["who"])
	})
}

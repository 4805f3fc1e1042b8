package nbd

import (
	"bytes"
	"context"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type oneDisk struct{ content []byte }

func (d oneDisk) List() []string { return []string{"d"} }
func (d oneDisk) Open(string) (*Export, error) {
	return &Export{Size: int64(len(d.content)), Device: bytes.NewReader(d.content), Contexts: []Context{{Name: AllocationContext, Status: func(_, length int64) ([]Extent, error) {
		return []Extent{{Length: length}}, nil
	}}}}, nil
}

// pipe is a connection whose other side says what it says and hears all.
type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error                     { return nil }
func (pipe) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (pipe) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (pipe) SetDeadline(time.Time) error      { return nil }
func (pipe) SetReadDeadline(time.Time) error  { return nil }
func (pipe) SetWriteDeadline(time.Time) error { return nil }

// A client may send anything: the server ends the session, and neither panics
// nor hands out more than the disk.
func FuzzServer(f *testing.F) {
	request := func(cmd uint16, off uint64, n uint32) []byte {
		return put(uint32(magicRequest), uint16(0), cmd, uint64(1), off, n)
	}
	hello := put(uint32(flagFixedNewstyle | flagNoZeroes))
	option := func(opt uint32, data []byte) []byte { return put(uint64(magicOption), opt, uint32(len(data)), data) }
	open := bytes.Join([][]byte{hello, option(optStructured, nil), option(optSetContext, put(uint32(1), "d", uint32(1), uint32(len(AllocationContext)), AllocationContext)),
		option(optGo, put(uint32(1), "d", uint16(0)))}, nil)
	f.Add(open)
	f.Add(bytes.Join([][]byte{open, request(cmdRead, 10, 100), request(cmdBlockStatus, 0, 4096), request(cmdWrite, 0, 4), []byte("data"), request(cmdRead, 1<<63, 9), request(cmdDisc, 0, 0)}, nil))
	f.Add(bytes.Join([][]byte{hello, option(optExportName, []byte("d")), request(cmdRead, 0, 512)}, nil))
	f.Add(bytes.Join([][]byte{hello, option(optList, nil), option(optStartTLS, nil), option(optAbort, nil)}, nil))
	f.Fuzz(func(t *testing.T, said []byte) {
		var heard bytes.Buffer
		s := newSession(pipe{bytes.NewReader(said), &heard}, oneDisk{make([]byte, 4096)}, nil)
		_ = s.run()
		require.LessOrEqual(t, heard.Len(), 1<<12+len(said)*(4096+64), "no more is said than was asked for")
	})
}

// A server may answer anything: the client gives an error, and never memory
// that was not read.
func FuzzClient(f *testing.F) {
	var good bytes.Buffer
	good.Write(put(uint64(magicInit), uint64(magicOption), uint16(flagFixedNewstyle|flagNoZeroes)))
	reply := func(opt, kind uint32, data []byte) {
		good.Write(put(uint64(magicOptReply), opt, kind, uint32(len(data)), data))
	}
	reply(optStructured, repAck, nil)
	reply(optSetContext, repMetaContext, put(uint32(1), AllocationContext))
	reply(optSetContext, repAck, nil)
	reply(optGo, repInfo, put(uint16(infoExport), uint64(4096), (&Export{}).transFlags()))
	reply(optGo, repAck, nil)
	good.Write(put(uint32(magicStructured), uint16(replyFlagDone), uint16(chunkOffsetData), uint64(1), uint32(8+64), uint64(0), make([]byte, 64)))
	good.Write(put(uint32(magicStructured), uint16(replyFlagDone), uint16(chunkBlockStatus), uint64(2), uint32(12), uint32(1), uint32(4096), uint32(0)))
	f.Add(good.Bytes())
	f.Add(good.Bytes()[:60])
	f.Add(put(uint64(magicInit)))
	f.Fuzz(func(t *testing.T, said []byte) {
		c, err := newConn(context.Background(), pipe{bytes.NewReader(said), io.Discard}, "d", Options{Contexts: []string{AllocationContext}, Timeout: time.Second})
		if err != nil {
			return
		}
		if c.Size() > 1<<20 {
			return // what a server says of its size is its own affair
		}
		b := make([]byte, 64)
		_, _ = c.ReadAt(b, 0)
		ext, err := c.BlockStatus(AllocationContext, 0, 4096)
		if err == nil {
			require.NotEmpty(t, ext)
		}
		_ = c.Close()
	})
}

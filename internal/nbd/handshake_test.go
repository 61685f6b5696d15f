package nbd

import (
	"encoding/binary"
	"io"
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// fake answers one client as a test wants.
func fake(t *testing.T, serve func(conn net.Conn)) string {
	socket := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		conn, err := l.Accept()
		if err == nil {
			serve(conn)
			conn.Close()
		}
	}()
	return socket
}

func greeting(flags uint16) []byte {
	b := binary.BigEndian.AppendUint64(nil, magicInit)
	b = binary.BigEndian.AppendUint64(b, magicOption)
	return binary.BigEndian.AppendUint16(b, flags)
}

func optionReply(option, kind uint32, body []byte) []byte {
	b := binary.BigEndian.AppendUint64(nil, magicOptReply)
	b = binary.BigEndian.AppendUint32(b, option)
	b = binary.BigEndian.AppendUint32(b, kind)
	return append(binary.BigEndian.AppendUint32(b, uint32(len(body))), body...)
}

// readOption takes an option from the client and returns its number.
func readOption(conn net.Conn) uint32 {
	head := make([]byte, 16)
	if _, err := io.ReadFull(conn, head); err != nil {
		return 0
	}
	io.ReadFull(conn, make([]byte, binary.BigEndian.Uint32(head[12:])))
	return binary.BigEndian.Uint32(head[8:])
}

// A plain server, with no structured replies and no block status: all is data, and errors are told by number.
func TestAPlainServer(t *testing.T) {
	content := []byte("0123456789abcdef")
	socket := fake(t, func(conn net.Conn) {
		conn.Write(greeting(flagFixedNewstyle | flagNoZeroes))
		io.ReadFull(conn, make([]byte, 4))
		for {
			option := readOption(conn)
			if option != optGo {
				conn.Write(optionReply(option, repError|1, []byte("not here")))
				continue
			}
			info := binary.BigEndian.AppendUint16(nil, infoExport)
			info = binary.BigEndian.AppendUint64(info, uint64(len(content)))
			info = binary.BigEndian.AppendUint16(info, 0)
			conn.Write(optionReply(optGo, repInfo, info))
			conn.Write(optionReply(optGo, repAck, nil))
			break
		}
		for {
			request := make([]byte, 28)
			if _, err := io.ReadFull(conn, request); err != nil {
				return
			}
			off, n := binary.BigEndian.Uint64(request[16:]), binary.BigEndian.Uint32(request[24:])
			reply := binary.BigEndian.AppendUint32(nil, magicSimple)
			if off == 8 { // as a bad sector
				conn.Write(append(binary.BigEndian.AppendUint32(reply, 5), request[8:16]...))
				continue
			}
			reply = append(binary.BigEndian.AppendUint32(reply, 0), request[8:16]...)
			conn.Write(append(reply, content[off:off+uint64(n)]...))
		}
	})
	c, err := Dial(t.Context(), "unix", socket, "vda", "")
	require.NoError(t, err)
	defer c.Close()
	require.EqualValues(t, 16, c.Size())
	extents, err := c.Extents(t.Context(), 4, 12)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 4, Length: 12, Kind: disk.Data}}, extents)
	got := make([]byte, 4)
	_, err = c.ReadAt(got, 3)
	require.NoError(t, err)
	require.Equal(t, "3456", string(got))
	_, err = c.ReadAt(got, 8)
	require.ErrorContains(t, err, `NBD export "vda": read 4 bytes at 8: the server says: error 5`)
	_, err = c.ReadAt(got, 2)
	require.NoError(t, err, "one bad read spoils no other")
	_, err = c.ReadAt(got, 17)
	require.Error(t, err)
}

// Whatever else answers at the address, the client says what is wrong and does not hang.
func TestServersThatAreNone(t *testing.T) {
	huge := binary.BigEndian.AppendUint64(nil, magicOptReply)
	huge = binary.BigEndian.AppendUint32(huge, optStructuredReply)
	huge = binary.BigEndian.AppendUint32(huge, repAck)
	huge = binary.BigEndian.AppendUint32(huge, 1<<31)
	for name, c := range map[string]struct {
		says []byte
		want string
	}{
		"closes at once":        {nil, "greeting"},
		"another protocol":      {[]byte("SSH-2.0-OpenSSH_9.2p1 Debian\r\n"), "does not speak the fixed newstyle protocol"},
		"an old NBD server":     {greeting(0), "does not speak the fixed newstyle protocol"},
		"goes away in between":  {greeting(flagFixedNewstyle), "reply to option"},
		"an endless reply":      {append(greeting(flagFixedNewstyle), huge...), "makes no sense"},
		"a reply to no option":  {append(greeting(flagFixedNewstyle), optionReply(99, repAck, nil)...), "makes no sense"},
		"acknowledges, no size": {append(append(greeting(flagFixedNewstyle), optionReply(optStructuredReply, repError|1, nil)...), optionReply(optGo, repAck, nil)...), "told no usable size"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Dial(t.Context(), "unix", fake(t, func(conn net.Conn) {
				conn.Write(c.says)
				switch {
				case c.says == nil:
				case c.want == "reply to option":
					io.ReadFull(conn, make([]byte, 4))
					readOption(conn)
				default:
					io.Copy(io.Discard, conn) // until the client has had enough
				}
			}), "vda", "")
			require.ErrorContains(t, err, c.want)
		})
	}
}

package nbd

import (
	"encoding/binary"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

var be = binary.BigEndian

// chunkOf is a chunk of a structured reply to a request.
func chunkOf(flags, kind uint16, handle uint64, body ...[]byte) []byte {
	var whole []byte
	for _, b := range body {
		whole = append(whole, b...)
	}
	p := be.AppendUint16(be.AppendUint16(be.AppendUint32(nil, magicChunk), flags), kind)
	return append(be.AppendUint32(be.AppendUint64(p, handle), uint32(len(whole))), whole...)
}

func u16(n int) []byte { return be.AppendUint16(nil, uint16(n)) }
func u32(n int) []byte { return be.AppendUint32(nil, uint32(n)) }
func u64(n int) []byte { return be.AppendUint64(nil, uint64(n)) }

// Every reply to a read of 8 bytes at 100, or to a block status of them, that is possible, and what it makes of the request: each chunk is
// taken where it fits exactly, and what does not fit ends the session with its reason.
func TestReplies(t *testing.T) {
	const done = chunkDone
	for name, c := range map[string]struct {
		wire []byte
		read string // what the read gives
		got  int64
		told []disk.Extent // by base:allocation
		why  string        // the request's error; or, where the session ends by it, its end's
	}{
		"data whole":              {wire: chunkOf(done, chunkOffsetData, 1, u64(100), []byte("mainland")), read: "mainland", got: 8},
		"data in two":             {wire: append(chunkOf(0, chunkOffsetData, 1, u64(104), []byte("land")), chunkOf(done, chunkOffsetData, 1, u64(100), []byte("main"))...), read: "mainland", got: 8},
		"data and a hole":         {wire: append(chunkOf(0, chunkOffsetHole, 1, u64(104), u32(4)), chunkOf(done, chunkOffsetData, 1, u64(100), []byte("main"))...), read: "main\x00\x00\x00\x00", got: 8},
		"data and an end":         {wire: append(chunkOf(0, chunkOffsetData, 1, u64(100), []byte("mainland")), chunkOf(done, chunkNone, 1)...), read: "mainland", got: 8},
		"the last byte":           {wire: chunkOf(done, chunkOffsetData, 1, u64(107), []byte("d")), read: "???????d", got: 1},
		"no byte at the end":      {wire: chunkOf(done, chunkOffsetData, 1, u64(108)), read: "????????", got: 0},
		"before what was asked":   {wire: chunkOf(done, chunkOffsetData, 1, u64(99), []byte("m")), why: "a chunk of 1 bytes at 99 was not asked for"},
		"past what was asked":     {wire: chunkOf(done, chunkOffsetData, 1, u64(108), []byte("m")), why: "a chunk of 1 bytes at 108 was not asked for"},
		"far past it":             {wire: chunkOf(done, chunkOffsetData, 1, u64(109)), why: "a chunk of 0 bytes at 109 was not asked for"},
		"over the end":            {wire: chunkOf(done, chunkOffsetHole, 1, u64(105), u32(4)), why: "a chunk of 4 bytes at 105 was not asked for"},
		"more than was asked":     {wire: append(chunkOf(0, chunkOffsetData, 1, u64(100), []byte("mainland")), chunkOf(done, chunkOffsetHole, 1, u64(100), u32(1))...), why: "a chunk of 1 bytes at 100 was not asked for"},
		"data of no offset":       {wire: chunkOf(done, chunkOffsetData, 1, u64(100)[:7]), why: "a chunk of kind 1 and 7 bytes makes no sense"},
		"a hole of 13 bytes":      {wire: chunkOf(done, chunkOffsetHole, 1, u64(100), u32(4), []byte("x")), why: "a chunk of kind 2 and 13 bytes makes no sense"},
		"an error":                {wire: chunkOf(done, 1<<15|1, 1, u32(5), u16(3), []byte("bad")), read: "????????", why: "the server says: bad (error 5)"},
		"an error, more behind":   {wire: chunkOf(done, 1<<15|2, 1, u32(5), u16(3), []byte("bad"), u64(100)), read: "????????", why: "the server says: bad (error 5)"},
		"an error, text too long": {wire: chunkOf(done, 1<<15|1, 1, u32(5), u16(9), []byte("bad")), read: "????????", why: "the server says: bad (error 5)"},
		"an error of no text":     {wire: chunkOf(done, 1<<15|1, 1, u32(5), u16(0)), read: "????????", why: "the server says: error 5"},
		"half an error":           {wire: chunkOf(done, 1<<15|1, 1, u32(5), []byte("x")), why: "a chunk of kind 32769 and 5 bytes makes no sense"},
		"an unknown kind":         {wire: chunkOf(done, 6, 1), why: "a chunk of kind 6 and 0 bytes makes no sense"},
		"text as long as it may":  {wire: chunkOf(done, 1<<15|1, 1, u32(5), u16(3), []byte("bad"), make([]byte, maxText-9)), read: "????????", why: "the server says: bad (error 5)"},
		"a longer one":            {wire: chunkOf(done, 1<<15|1, 1, make([]byte, maxText+1)), why: "a chunk of kind 32769 has 1048577 bytes"},
		"another's reply":         {wire: chunkOf(done, chunkNone, 2), why: "a reply belongs to request 2, which nobody made"},
		"another's plain reply":   {wire: append(append(u32(magicSimple), u32(0)...), u64(3)...), why: "a reply belongs to request 3, which nobody made"},
		"no reply at all":         {wire: make([]byte, 16), why: "a reply begins with 00000000"},
		"a plain one":             {wire: append(append(append(u32(magicSimple), u32(0)...), u64(1)...), "mainland"...), read: "mainland", got: 8},
		"a plain error":           {wire: append(append(u32(magicSimple), u32(28)...), u64(1)...), read: "????????", why: "the server says: error 28"},
		"status":                  {wire: chunkOf(done, chunkBlockStatus, 1, u32(7), u32(3), u32(stateZero), u32(100), u32(0)), read: "????????", told: []disk.Extent{{Offset: 100, Length: 3, Kind: disk.Zero}, {Offset: 103, Length: 5}}},
		"status of more":          {wire: chunkOf(done, chunkBlockStatus, 1, u32(7), u32(8), u32(1), u32(9), u32(0)), read: "????????", told: []disk.Extent{{Offset: 100, Length: 8}}},
		"status of nothing":       {wire: chunkOf(done, chunkBlockStatus, 1, u32(7), u32(0), u32(0)), why: "an extent is empty"},
		"status told twice":       {wire: append(chunkOf(0, chunkBlockStatus, 1, u32(7), u32(8), u32(0)), chunkOf(done, chunkBlockStatus, 1, u32(7), u32(8), u32(0))...), why: "base:allocation is told twice"},
		"status of no context":    {wire: chunkOf(done, chunkBlockStatus, 1, u32(6), u32(8), u32(0)), why: "a chunk of kind 5 and 12 bytes makes no sense"},
		"half a status":           {wire: chunkOf(done, chunkBlockStatus, 1, u32(7), u32(8)), why: "a chunk of kind 5 and 8 bytes makes no sense"},
		"a status and a half":     {wire: chunkOf(done, chunkBlockStatus, 1, u32(7), u32(8), u32(0), u32(8)), why: "a chunk of kind 5 and 16 bytes makes no sense"},
	} {
		t.Run(name, func(t *testing.T) {
			here, there := net.Pipe()
			go func() { there.Write(c.wire); there.Close() }()
			client := &Client{conn: here, size: 1 << 20, contexts: map[uint32]string{7: allocation, 8: dirtyBitmap + "b"}, pending: map[uint64]*request{}}
			r := &request{off: 100, want: 8, into: []byte("????????"), extents: map[string][]disk.Extent{}, done: make(chan struct{})}
			client.pending[1] = r
			client.receive()
			<-r.done
			if c.read == "" { // the session ended by it
				require.ErrorContains(t, r.err, "the connection ended: "+c.why)
				return
			}
			require.Equal(t, c.read, string(r.into))
			require.Equal(t, c.got, r.got)
			require.Equal(t, c.told, r.extents[allocation])
			if c.why == "" {
				require.NoError(t, r.err)
			} else {
				require.EqualError(t, r.err, c.why)
			}
		})
	}
	r := &request{off: 0, want: 20, extents: map[string][]disk.Extent{}}
	require.NoError(t, r.describe(dirtyBitmap+"b", append(append(append(u32(5), u32(stateDirty)...), u32(10)...), u32(0)...)))
	require.Equal(t, []disk.Extent{{Offset: 0, Length: 5}, {Offset: 5, Length: 10, Kind: disk.Unchanged}}, r.extents[dirtyBitmap+"b"])
	_, err := r.part(0, 5)
	require.Error(t, err, "a status has no room for data")
}

// What a client asks for lies within the disk, and a server that gives less than that, or says nothing of a context, is told of.
func TestRequests(t *testing.T) {
	here, there := net.Pipe()
	client := &Client{conn: here, name: "vda", size: 3 << 30, contexts: map[uint32]string{7: allocation}, pending: map[uint64]*request{}, stop: func() bool { return true }}
	go client.receive()
	all := make(chan [][3]uint64, 1)
	go func() {
		var asked [][3]uint64
		for {
			p := make([]byte, 28)
			if _, err := there.Read(p); err != nil {
				return
			}
			handle, n := be.Uint64(p[8:]), int(be.Uint32(p[24:]))
			asked = append(asked, [3]uint64{uint64(be.Uint16(p[6:])), be.Uint64(p[16:]), uint64(n)})
			switch {
			case be.Uint16(p[6:]) == cmdDisconnect:
				all <- asked
			case be.Uint16(p[6:]) == cmdBlockStatus && be.Uint64(p[16:]) == 1:
				there.Write(chunkOf(chunkDone, chunkNone, handle))
			case be.Uint16(p[6:]) == cmdBlockStatus:
				there.Write(chunkOf(chunkDone, chunkBlockStatus, handle, u32(7), u32(n), u32(0)))
			case n == 3:
				there.Write(chunkOf(chunkDone, chunkOffsetData, handle, u64(int(be.Uint64(p[16:]))), []byte("ab")))
			default:
				there.Write(chunkOf(chunkDone, chunkOffsetHole, handle, u64(int(be.Uint64(p[16:]))), u32(n)))
			}
		}
	}()
	n, err := client.ReadAt(make([]byte, maxRead+5), 1<<30)
	require.NoError(t, err)
	require.Equal(t, maxRead+5, n)
	_, err = client.ReadAt(make([]byte, 3), 0)
	require.EqualError(t, err, `NBD export "vda": read 3 bytes at 0: unexpected EOF`)
	for _, off := range []int64{-1, 3<<30 + 1} {
		_, err = client.ReadAt(make([]byte, 1), off)
		require.ErrorContains(t, err, "of 3221225472 bytes")
	}
	n, err = client.ReadAt(make([]byte, 1), 3<<30)
	require.EqualError(t, err, "EOF")
	require.Zero(t, n)
	got, err := client.Extents(t.Context(), 0, 3<<30)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 0, Length: 1 << 30}}, got)
	_, err = client.Extents(t.Context(), 1, 100)
	require.EqualError(t, err, `NBD export "vda": block status of 100 bytes at 1: the server told nothing of base:allocation`)
	require.NoError(t, client.Close())
	require.Equal(t, [][3]uint64{{cmdRead, 1 << 30, maxRead}, {cmdRead, 1<<30 + maxRead, 5}, {cmdRead, 0, 3}, {cmdBlockStatus, 0, 1 << 30}, {cmdBlockStatus, 1, 100}, {cmdDisconnect, 0, 0}}, <-all)
	_, err = client.ReadAt(make([]byte, 1), 0)
	require.ErrorIs(t, err, net.ErrClosed)
}

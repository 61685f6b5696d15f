package ovf

import (
	"archive/tar"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var berth = Machine{Name: "tickets-db", System: "Brindle 1 & more, kernel 6.1", CPUs: 2, Memory: 512 << 20, UEFI: true, Cards: []string{"52:54:00:12:34:56", ""},
	Disks: []Disk{{File: "tickets-db-vda.vmdk", Length: 11, Size: 1 << 30}, {File: "tickets-db-vdb.vmdk", Length: 7, Size: 512 << 20}}}

var contents = map[string]string{"tickets-db-vda.vmdk": "a disk: vda", "tickets-db-vdb.vmdk": "and vdb"}

func packed(t testing.TB) []byte {
	var out bytes.Buffer
	require.NoError(t, Write(&out, berth, func(d Disk) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(contents[d.File])), nil }))
	return out.Bytes()
}

// What is described is read again; a package has its descriptor first and its digests last, and tar reads it.
func TestAPackage(t *testing.T) {
	m, err := Parse(Describe(berth))
	require.NoError(t, err)
	require.Equal(t, berth, m)
	var any struct {
		XMLName xml.Name
	}
	require.NoError(t, xml.Unmarshal(Describe(berth), &any))
	many := Machine{Name: "many", CPUs: 1, Memory: 1 << 30}
	for range 20 {
		many.Disks = append(many.Disks, Disk{File: "x.vmdk", Size: 512})
	}
	require.NotContains(t, string(Describe(many)), "<rasd:AddressOnParent>7<", "that place is the controller's own")

	body := packed(t)
	var names []string
	for in := tar.NewReader(bytes.NewReader(body)); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		names = append(names, h.Name)
	}
	require.Equal(t, []string{"tickets-db.ovf", "tickets-db-vda.vmdk", "tickets-db-vdb.vmdk", "tickets-db.mf"}, names)
	p, err := Read(bytes.NewReader(body), int64(len(body)))
	require.NoError(t, err)
	require.Equal(t, berth, p.Machine)
	for name, want := range contents {
		r, n := p.File(name)
		got := make([]byte, n)
		_, err := r.ReadAt(got, 0)
		require.NoError(t, err)
		require.Equal(t, want, string(got))
		require.NoError(t, p.Check(name, func(int64) {}))
	}
	at := bytes.Index(body, []byte("and vdb"))
	body[at] ^= 1
	p, err = Read(bytes.NewReader(body), int64(len(body)))
	require.NoError(t, err)
	require.ErrorContains(t, p.Check("tickets-db-vdb.vmdk", func(int64) {}), "damaged or changed")
	at = bytes.Index(body, []byte("Brindle 1"))
	body[at] ^= 1
	_, err = Read(bytes.NewReader(body), int64(len(body)))
	require.ErrorContains(t, err, "damaged or changed", "its descriptor")
	require.ErrorIs(t, Write(io.Discard, berth, func(Disk) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("short")), nil }), io.ErrUnexpectedEOF)
}

// A descriptor that another program wrote, with units of its own.
func TestUnits(t *testing.T) {
	text := strings.ReplaceAll(string(Describe(berth)), `ovf:capacity="1073741824" ovf:capacityAllocationUnits="byte"`, `ovf:capacity="1" ovf:capacityAllocationUnits="byte * 2^30"`)
	text = strings.ReplaceAll(text, "byte * 2^20", "MegaBytes")
	m, err := Parse([]byte(text))
	require.NoError(t, err)
	require.Equal(t, berth, m)
}

func TestWhatIsRefused(t *testing.T) {
	text := string(Describe(berth))
	for says, change := range map[string][2]string{
		"leads out of the package":   {`ovf:href="tickets-db-vda.vmdk"`, `ovf:href="../../etc/shadow"`},
		"leans on another":           {`ovf:diskId="disk1"`, `ovf:diskId="disk1" ovf:parentRef="disk2"`},
		"says nothing of it":         {"ovf:/disk/disk1", "ovf:/disk/disk9"},
		"it has no file":             {`ovf:fileRef="file1"`, `ovf:fileRef="file9"`},
		"compressed by":              {`ovf:id="file1"`, `ovf:id="file1" ovf:compression="gzip"`},
		"can't be":                   {`ovf:capacity="1073741824"`, `ovf:capacity="-5"`},
		"are not known here":         {`"byte"`, `"furlong"`},
		"can't be read":              {"</Envelope>", ""},
		"is not that of one machine": {"<VirtualSystem ", "<VirtualSystem/><VirtualSystem "},
		"its machine has no disks":   {"<rasd:ResourceType>17<", "<rasd:ResourceType>18<"},
	} {
		_, err := Parse([]byte(strings.ReplaceAll(text, change[0], change[1])))
		require.ErrorContains(t, err, says, change[0])
	}
	build := func(members ...tar.Header) []byte {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for _, h := range members {
			h.Mode = 0o644
			require.NoError(t, w.WriteHeader(&h))
			if h.Size > 0 {
				w.Write(make([]byte, h.Size))
			}
		}
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	for says, body := range map[string][]byte{
		"that no package has":        build(tar.Header{Name: "../x.ovf", Size: 3}),
		"there is nothing in it":     build(),
		"a member \"x.ovf\" that no": build(tar.Header{Name: "x.ovf", Typeflag: tar.TypeSymlink, Linkname: "/etc/shadow"}),
		"and no descriptor":          build(tar.Header{Name: "x.vmdk", Size: 3}),
		"can't be read as an OVA":    bytes.Repeat([]byte("berths"), 400),
		"it is cut off":              packed(t)[:600],
		"is not in it":               bytes.ReplaceAll(packed(t), []byte("\x00tickets-db-vda.vmdk"), []byte("\x00tickets-db-vdx.vmdk"))[:],
	} {
		if says == "is not in it" {
			var out bytes.Buffer
			w := tar.NewWriter(&out)
			d := Describe(berth)
			require.NoError(t, w.WriteHeader(&tar.Header{Name: "x.ovf", Mode: 0o644, Size: int64(len(d))}))
			w.Write(d)
			require.NoError(t, w.Close())
			body = out.Bytes()
		}
		_, err := Read(bytes.NewReader(body), int64(len(body)))
		require.ErrorContains(t, err, says)
	}
}

// Whatever the bytes are, nothing leads out of the package, and nothing is read that is not there.
func FuzzRead(f *testing.F) {
	f.Add(packed(f))
	f.Add(packed(f)[:2000])
	f.Fuzz(func(t *testing.T, body []byte) {
		p, err := Read(bytes.NewReader(body), int64(len(body)))
		if err != nil {
			return
		}
		for _, d := range p.Machine.Disks {
			require.False(t, strings.ContainsAny(d.File, "/\\"))
			r, n := p.File(d.File)
			if _, err := io.Copy(io.Discard, io.NewSectionReader(r, 0, n)); err != nil {
				t.Fatal(err)
			}
		}
	})
}

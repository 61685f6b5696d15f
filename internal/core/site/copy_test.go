package site

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/copying"
)

const copySite = `zone: Europe/Lisbon
hypervisors:
  quay-1: {uri: qemu:///system}
stores:
  quay-shelf: {medium: dir, layout: pooled, folder: /srv/shelf}
  north-pier: {medium: dir, layout: pooled, folder: /mnt/pier}
  islet: {medium: dir, layout: pooled, folder: /mnt/islet}
policies:
  nightly-guests: {machines: ["*"], store: quay-shelf, rotation: newest 3, schedules: ['every day at 23:00']}
copies:
  to-north-pier:
    from: quay-shelf
    to: north-pier
    rotation: 30 daily
`

func TestCopyRules(t *testing.T) {
	s, err := Parse("site.yaml", []byte(copySite+"    soon: true\n    images: newest of each day\n    schedules: [after nightly-guests]\n    policies: [nightly-*]\n    bandwidth: [2 MiB, 500 KiB mon-fri 08:00-18:00]\n"))
	require.NoError(t, err)
	c := s.Copies["to-north-pier"]
	require.Equal(t, copying.OfEachDay, c.Which())
	require.Equal(t, 2, c.Tasks())
	require.True(t, c.CopiesOf("nightly-guests"))
	require.False(t, c.CopiesOf("hourly-tickets"))
	p, err := s.Planned("to-north-pier")
	require.NoError(t, err)
	require.True(t, p.Selects("quay-1", "anything", nil), "no selection is all")
	require.Equal(t, "north-pier", p.Store)
	body, err := s.Encode()
	require.NoError(t, err)
	again, err := Parse("site.yaml", body)
	require.NoError(t, err)
	require.Equal(t, s, again)
	changes, err := s.Compare(again)
	require.NoError(t, err)
	require.Empty(t, changes)
	again.Copies = nil
	changes, err = s.Compare(again)
	require.NoError(t, err)
	require.Equal(t, []Change{{"remove", "copy rule", "to-north-pier", ""}}, changes)
}

func TestBadCopyRules(t *testing.T) {
	for more, want := range map[string]string{
		"    soon: maybe":               "site.yaml:15: ",
		"    images: some":              `images "some" is not known`,
		"    policies: [nightly-gusts]": `no policy is called "nightly-gusts"; did you mean "nightly-guests"?`,
		"    policies: ['']":            `"" is not a policy's name or a pattern`,
		"    machines: ['[']":           `"[" is not a machine's name or a pattern`,
		"    schedules: [after nobody]": `no policy and no copy rule is called "nobody"`,
		"    schedules: [sometimes]":    "sometimes",
		"    bandwidth: [fast]":         "fast",
		"    longest: long":             "longest: ",
		"    missed: cry":               `missed "cry" is not known`,
		"    tasks_at_once: -1":         "is not a number from 1 to 1000",
		"  back: {from: north-pier, to: quay-shelf, rotation: newest 1}":                       "copies go in a circle: from north-pier to quay-shelf to north-pier",
		"  nightly-guests: {from: quay-shelf, to: islet, rotation: newest 1}":                  "a policy is called nightly-guests, too",
		"  other: {from: islet, to: north-pier, rotation: newest 1}":                           `rule other copies into north-pier, too, perhaps the same images, and rotates otherwise ("newest 1", and here "30 daily")`,
		"  other: {from: quay-shelf, to: barn, rotation: newest 1}":                            `to: no store is called "barn"`,
		"  other: {from: quay-shelf, to: quay-shelf, rotation: newest 1}":                      "are one place, and what is lost there is lost twice",
		"  other: {from: quay-shelf, to: islet, rotation: few}":                                "few",
		"  other: {from: quay-shelf, to: islet, rotation: newest 1, schedules: [after other]}": "copy rule other: its chain comes back to itself",
		"  Other: {from: quay-shelf, to: islet, rotation: newest 1}":                           "a name has up to 63",
	} {
		_, err := Parse("site.yaml", []byte(copySite+more+"\n"))
		require.ErrorContains(t, err, want, more)
	}
	for _, good := range []string{
		"  other: {from: islet, to: north-pier, rotation: 30 daily}",
		"  on: {from: north-pier, to: islet, rotation: newest 1, schedules: [after to-north-pier]}",
	} {
		_, err := Parse("site.yaml", []byte(copySite+good+"\n"))
		require.NoError(t, err, good)
	}
	// What two rules select can be told apart by names, by policies, or by one tag.
	for _, apart := range [][2]string{{"tags: tier=gold", "tags: tier=silver"}, {"machines: [tickets-db]", "machines: [timetable]"}, {"policies: [nightly-guests]", "policies: [hourly-tickets]"}} {
		text := strings.Replace(copySite, "    rotation: 30 daily\n", "    rotation: 30 daily\n    "+apart[0]+"\n", 1)
		text = strings.Replace(text, "copies:\n", "  hourly-tickets: {machines: [tickets-db], store: quay-shelf, rotation: newest 3}\ncopies:\n", 1)
		_, err := Parse("site.yaml", []byte(text+"  other: {from: quay-shelf, to: north-pier, rotation: newest 1, "+apart[1]+"}\n"))
		require.NoError(t, err, apart)
	}
	same := strings.Replace(copySite, "/mnt/pier", "/srv/shelf", 1)
	_, err := Parse("site.yaml", []byte(same))
	require.ErrorContains(t, err, "quay-shelf and north-pier are one place")
}

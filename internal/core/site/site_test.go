package site

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const good = `zone: Europe/Lisbon
hypervisors:
  quay-1:
    uri: qemu:///system
stores:
  quay-shelf:
    medium: dir
    layout: pooled
    folder: /srv/quay-shelf
policies:
  nightly-guests:
    machines:
      - tickets-db
      - "time*"
    tags:
      tier: bronze
    store: quay-shelf
    schedules:
      - every day at 23:00
    rotation: newest 3
`

func TestAFileComesBackTheSame(t *testing.T) {
	s, err := Parse("site.yaml", []byte(good))
	require.NoError(t, err)
	text, err := s.Encode()
	require.NoError(t, err)
	again, err := Parse("site.yaml", text)
	require.NoError(t, err)
	require.Equal(t, s, again)
	changes, err := s.Compare(again)
	require.NoError(t, err)
	require.Empty(t, changes)
}

func TestMistakesNameTheLineAndTheCure(t *testing.T) {
	for replaced, want := range map[[2]string]string{
		{"rotation: newest 3", "rotaton: newest 3"}:       `site.yaml:20: the key "rotaton" is not known here; did you mean "rotation"?`,
		{"newest 3", "newst 3"}:                           `site.yaml:20: policy nightly-guests: rotation phrase "newst 3": at "newst" (character 1): not a clause; did you mean "newest"?`,
		{"at 23:00", "at 25:00"}:                          `site.yaml:19: policy nightly-guests: schedule phrase "every day at 25:00"`,
		{"store: quay-shelf", "store: quay-self"}:         `site.yaml:17: policy nightly-guests: no store is called "quay-self"; did you mean "quay-shelf"?`,
		{"zone: Europe/Lisbon", "zone: Europe/Lisboa"}:    `site.yaml:1: zone: "Europe/Lisboa" is not in the tz database`,
		{"folder: /srv/quay-shelf", "folder: quay"}:       `store quay-shelf: folder "quay" is not an absolute path`,
		{"uri: qemu:///system", "uri: [1"}:                `site.yaml:`,
		{"  nightly-guests:", "  Nightly Guests:"}:        `policy Nightly Guests: a name has up to 63 lower-case letters`,
		{"layout: pooled", "layout: pooled\n    seal: 1"}: `the key "seal" is not known here`,
	} {
		text := []byte(replace(t, good, replaced[0], replaced[1]))
		_, err := Parse("site.yaml", text)
		var bad *FileError
		require.ErrorAs(t, err, &bad)
		require.ErrorContains(t, err, want)
	}
}

func TestCompareTellsWhatApplyingWouldChange(t *testing.T) {
	s, err := Parse("site.yaml", []byte(good))
	require.NoError(t, err)
	next, err := Parse("site.yaml", []byte(replace(t, good, "newest 3", "newest 5")))
	require.NoError(t, err)
	delete(next.Hypervisors, "quay-1")
	next.Hypervisors["pier-2"] = Hypervisor{URI: "qemu:///system"}
	changes, err := s.Compare(next)
	require.NoError(t, err)
	require.Equal(t, []Change{
		{"add", "hypervisor", "pier-2", ""},
		{"remove", "hypervisor", "quay-1", ""},
		{"change", "policy", "nightly-guests", `rotation: "newest 3" becomes "newest 5"`},
	}, changes)
}

func TestSelects(t *testing.T) {
	p := Policy{Machines: []string{"tickets-db", "time*"}, Tags: map[string]string{"tier": "bronze", "role": "trainer"}}
	require.True(t, p.Selects("timetable", nil))
	require.True(t, p.Selects("berth-sim", map[string]string{"tier": "bronze", "role": "trainer", "x": "y"}))
	require.False(t, p.Selects("berth-sim", map[string]string{"tier": "bronze"}))
	require.Equal(t, []string{"tickets-db"}, p.Exact())
	require.False(t, Policy{Machines: []string{"a"}}.Selects("b", nil))
}

func replace(t *testing.T, text, old, new string) string {
	for i := 0; i+len(old) <= len(text); i++ {
		if text[i:i+len(old)] == old {
			return text[:i] + new + text[i+len(old):]
		}
	}
	t.Fatalf("%q is not in the text", old)
	return ""
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse("site.yaml", text)
		if err != nil {
			return
		}
		encoded, err := s.Encode()
		require.NoError(t, err)
		_, err = Parse("site.yaml", encoded)
		require.NoError(t, err)
	})
}

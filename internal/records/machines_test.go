package records_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
)

// sources play two hypervisors that are asked again and again.
type sources struct {
	t *testing.T
	r *records.Records
}

// see records what a hypervisor tells: guests as "name=uuid".
func (s sources) see(source string, guests ...string) (copies []string) {
	s.t.Helper()
	var found []records.Machine
	for _, g := range guests {
		var name, uuid string
		_, err := fmt.Sscanf(g, "%s %s", &name, &uuid)
		require.NoError(s.t, err)
		found = append(found, records.Machine{Name: name, UUID: uuid, State: machine.Running, Tags: map[string]string{"tier": "gold"}, Disks: []records.MachineDisk{{Target: "vda", Size: 5}}})
	}
	copies, _, err := s.r.SaveMachines(s.t.Context(), source, found)
	require.NoError(s.t, err)
	return copies
}

// image records an image of a machine.
func (s sources) image(id, machineID string) {
	s.t.Helper()
	require.NoError(s.t, s.r.AddImage(s.t.Context(), records.Image{ID: id, Machine: "whatever it was called", MachineID: machineID, Policy: "p", Store: "quay-shelf", Taken: time.Now(), Scope: "machine", Capture: "full"}))
}

// known lists the machines as "label id@hypervisor state".
func (s sources) known() (out []string) {
	s.t.Helper()
	machines, err := s.r.Machines(s.t.Context())
	require.NoError(s.t, err)
	for _, m := range machines {
		out = append(out, fmt.Sprintf("%s %s@%s %s", m.Label, m.ID, m.Hypervisor, m.State))
	}
	return out
}

func TestIdentity(t *testing.T) {
	begin := func(t *testing.T) sources { return sources{t, open(t, 1)[0]} }
	t.Run("two of one name are two machines", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web u-1", "tickets-db u-2")
		s.see("pier-2", "web u-3")
		require.Equal(t, []string{"pier-2/web u-3@pier-2 running", "quay-1/web u-1@quay-1 running", "tickets-db u-2@quay-1 running"}, s.known())
		s.image("img", "u-3")
		s.see("quay-1", "tickets-db u-2")
		require.Equal(t, []string{"tickets-db u-2@quay-1 running", "web u-3@pier-2 running"}, s.known(), "the name is its own again")
		m, err := s.r.Image(t.Context(), "img")
		require.NoError(t, err)
		require.Equal(t, "web", m.Machine, "an image is of what its machine is called now")
	})
	t.Run("one that vanished is remembered while images of it exist", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web u-1", "tickets-db u-2")
		s.image("img", "u-1")
		s.see("quay-1")
		require.Equal(t, []string{"web u-1@quay-1 gone"}, s.known())
		s.see("quay-1", "web u-1")
		require.Equal(t, []string{"web u-1@quay-1 running"}, s.known(), "and is the same when it is back")
	})
	t.Run("one that was renamed is the same", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web u-1")
		s.image("img", "u-1")
		s.see("quay-1", "timetable u-1")
		require.Equal(t, []string{"timetable u-1@quay-1 running"}, s.known())
	})
	for _, order := range []string{"the old one is asked first", "the new one is asked first"} {
		t.Run("one that moved is the same: "+order, func(t *testing.T) {
			s := begin(t)
			s.see("quay-1", "web u-1")
			s.image("img", "u-1")
			if order == "the old one is asked first" {
				s.see("quay-1")
				require.Empty(t, s.see("pier-2", "web u-1"))
			} else {
				require.Equal(t, []string{"web"}, s.see("pier-2", "web u-1"), "for now both have it")
				s.see("quay-1")
			}
			require.Equal(t, []string{"web u-1@pier-2"}, []string{s.known()[0][:len("web u-1@pier-2")]})
			require.Empty(t, s.see("pier-2", "web u-1"))
			require.Empty(t, s.see("quay-1"))
			require.Equal(t, []string{"web u-1@pier-2 running"}, s.known())
		})
	}
	t.Run("a copied definition is told as long as both are there", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web u-1")
		for range 3 {
			require.Equal(t, []string{"web"}, s.see("pier-2", "web-copy u-1"))
			require.Empty(t, s.see("quay-1", "web u-1"))
		}
		machines, err := s.r.Machines(t.Context())
		require.NoError(t, err)
		require.Equal(t, "pier-2", machines[0].AlsoOn)
		require.Len(t, machines, 1)
		s.see("pier-2", "web-copy u-9")
		require.Equal(t, []string{"web u-1@quay-1 running", "web-copy u-9@pier-2 running"}, s.known())
		machines, err = s.r.Machines(t.Context())
		require.NoError(t, err)
		require.Empty(t, machines[0].AlsoOn)
	})
	t.Run("one made anew is another, until somebody says otherwise", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web aaaaaaaa-1")
		s.image("one", "aaaaaaaa-1")
		s.see("quay-1", "web bbbbbbbb-2")
		s.image("two", "bbbbbbbb-2")
		require.Equal(t, []string{"quay-1/web@aaaaaaaa aaaaaaaa-1@quay-1 gone", "web bbbbbbbb-2@quay-1 running"}, s.known())
		m, err := s.r.Machine(t.Context(), "bbbbbbbb-2")
		require.NoError(t, err)
		require.Contains(t, m.Notice, "1 images are of an earlier machine of this name")
		require.Contains(t, m.Notice, "keenlodge machine continue web aaaaaaaa-1")

		require.NoError(t, s.r.ContinueMachine(t.Context(), "bbbbbbbb-2", "aaaaaaaa-1"))
		require.Equal(t, []string{"web aaaaaaaa-1@quay-1 running"}, s.known())
		images, err := s.r.Images(t.Context(), records.ImageFilter{MachineID: "aaaaaaaa-1"})
		require.NoError(t, err)
		require.Len(t, images, 2, "one set")
		s.see("quay-1", "web bbbbbbbb-2")
		require.Equal(t, []string{"web aaaaaaaa-1@quay-1 running"}, s.known(), "and it stays so when it is seen again")
	})
	t.Run("one that was retired stays known, and is no machine of its name", func(t *testing.T) {
		s := begin(t)
		s.see("quay-1", "web u-1")
		require.NoError(t, s.r.RetireMachine(t.Context(), "u-1", "newest 1"))
		s.see("quay-1")
		s.see("pier-2", "web u-2")
		require.Equal(t, []string{"quay-1/web u-1@quay-1 gone", "web u-2@pier-2 running"}, s.known())
	})
	t.Run("one that only images told of is found by its name", func(t *testing.T) {
		s := begin(t)
		added, err := s.r.AdoptMachine(t.Context(), records.Machine{ID: "named-web", Name: "web", Hypervisor: "quay-1", Tags: map[string]string{}, Disks: []records.MachineDisk{}, Seen: time.Now()})
		require.NoError(t, err)
		require.True(t, added)
		s.image("img", "named-web")
		s.see("quay-1", "web u-1")
		require.Equal(t, []string{"web named-web@quay-1 running"}, s.known())
		s.see("quay-1", "timetable u-1")
		require.Equal(t, []string{"timetable named-web@quay-1 running"}, s.known(), "by its UUID from now on")
	})
}

// Whatever the order in which a list is asked for, its pages are the list: each row once.
func TestPagesAreTheList(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	at := time.Now().Truncate(time.Second)
	for i := range 23 {
		m := records.Image{ID: fmt.Sprintf("img%02d", i), MachineID: "u", Policy: "p", Store: "quay-shelf", Taken: at.Add(time.Duration(i/4) * time.Minute), Scope: "machine", Capture: "full", Disks: []records.ImageDisk{}}
		require.NoError(t, r.AddImage(ctx, m))
		m.Stored = int64(i % 5)
		require.NoError(t, r.FinishImage(ctx, m))
	}
	for _, sort := range []string{"", "taken", "-taken", "stored", "-stored"} {
		whole, err := r.Images(ctx, records.ImageFilter{Page: listing.Page{Sort: sort}})
		require.NoError(t, err)
		require.Len(t, whole, 23)
		var parts []records.Image
		f := records.ImageFilter{Page: listing.Page{Sort: sort, Limit: 4}}
		for pages := 0; ; pages++ {
			require.Less(t, pages, 10)
			page, next, err := r.ImagePage(ctx, f)
			require.NoError(t, err)
			parts = append(parts, page...)
			if f.After = next; next == "" {
				break
			}
		}
		require.Equal(t, whole, parts, sort)
	}
	_, _, err := r.ImagePage(ctx, records.ImageFilter{Page: listing.Page{Sort: "state"}})
	require.ErrorContains(t, err, `can't be sorted by "state"`)
	_, _, err = r.ImagePage(ctx, records.ImageFilter{Page: listing.Page{After: "x'; drop table images; --"}})
	require.ErrorContains(t, err, "is no cursor of this list")
}

// Package skerry is a stand-in of a cloud account: regions with instances, volumes, snapshots and tags, with quotas, throttling, and lists that lag.
// docs/stand-ins.md describes what it says.
package skerry

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"time"

	"keenlodge/internal/standin"
)

// Kind is what it is called.
const Kind = "skerry"

func init() {
	standin.Register(Kind, standin.Kind{Doc: "a cloud account with regions, instances, volumes and snapshots", Make: func(_ context.Context, f *standin.Frame) (io.Closer, error) { return newSkerry(f) }})
}

// Regions are those of the account.
var Regions = []string{"skerry-east", "skerry-west"}

// quota is how many snapshots a region may have where nobody asked for another number.
const quota = 50_000

// Instance is a machine of a region. Type and Network are words of the account.
type Instance struct {
	ID      string            `json:"id"`
	Region  string            `json:"region"`
	Name    string            `json:"name"`
	Type    string            `json:"type"`
	Network string            `json:"network"`
	Tags    map[string]string `json:"tags"`
	Runs    bool              `json:"runs"`
	Volumes []Attached        `json:"volumes"`
}

// Attached is a volume of an instance, at a device.
type Attached struct {
	Device string `json:"device"`
	Volume string `json:"volume"`
	Size   int64  `json:"size"`
}

// Volume is a disk of a region. Instance is the one that has it, "" for none.
type Volume struct {
	ID       string            `json:"id"`
	Region   string            `json:"region"`
	Name     string            `json:"name"`
	Size     int64             `json:"size"`
	Tags     map[string]string `json:"tags"`
	Instance string            `json:"instance,omitempty"`
	Made     time.Time         `json:"made"`
}

// Moment is what volumes were at one moment: a snapshot of each.
type Moment struct {
	ID        string            `json:"id"`
	Region    string            `json:"region"`
	Name      string            `json:"name"`
	Instance  string            `json:"instance,omitempty"`
	Volume    string            `json:"volume,omitempty"` // where it is of one alone
	Tags      map[string]string `json:"tags"`
	Made      time.Time         `json:"made"`
	Ready     bool              `json:"ready"`
	Snapshots []Snapshot        `json:"snapshots"`
}

// Snapshot is a volume at a moment.
type Snapshot struct {
	ID     string `json:"id"`
	Volume string `json:"volume"`
	Device string `json:"device"`
	Size   int64  `json:"size"`
}

// limits are those of the account.
type limits struct {
	Snapshots int `json:"snapshots"`
}

type skerry struct {
	*standin.Frame
	cells     *cells
	instances *standin.Table[Instance]
	volumes   *standin.Table[Volume]
	moments   *standin.Table[Moment]
	limits    *standin.Table[limits]
	count     map[string]int // snapshots, by region
}

func newSkerry(f *standin.Frame) (*skerry, error) {
	s := &skerry{Frame: f, count: map[string]int{}}
	var errs [4]error
	s.instances, errs[0] = standin.NewTable[Instance](f.Journal, "instance")
	s.volumes, errs[1] = standin.NewTable[Volume](f.Journal, "volume")
	s.moments, errs[2] = standin.NewTable[Moment](f.Journal, "moment")
	s.limits, errs[3] = standin.NewTable[limits](f.Journal, "limits")
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	keep := map[string]bool{}
	for _, v := range s.volumes.All() {
		keep[v.ID] = true
	}
	for _, m := range s.moments.All() {
		s.count[m.Region] += len(m.Snapshots)
		for _, x := range m.Snapshots {
			keep[x.ID] = true
		}
	}
	var err error
	if s.cells, err = openCells(filepath.Join(f.Folder, "content"), keep); err != nil {
		return nil, err
	}
	s.calls()
	return s, nil
}

// Close lets its files go.
func (s *skerry) Close() error { return s.cells.data.Close() }

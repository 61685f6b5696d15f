// Package export says what an export is: what an appliance hands out of itself, how it comes here, and what an image tells of it.
package export

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path/filepath"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/image"
)

// Way is how an export comes from its appliance.
type Way string

// An export is read from its appliance, or the appliance pushes it to an address of ours, by one of these protocols.
const (
	Read    Way = "read"
	ByHTTPS Way = "https"
	BySFTP  Way = "sftp"
	ByFTP   Way = "ftp"
)

// Ways lists every way.
var Ways = []Way{Read, ByHTTPS, BySFTP, ByFTP}

// Settings say how exports of an appliance are made.
type Settings struct {
	// PassphraseFile is the path of a file that the service can read, and nobody else.
	PassphraseFile string `yaml:"passphrase_file,omitempty" json:"passphrase_file,omitempty" doc:"a file of mode 0600 with the passphrase that exports are encrypted with in its first line; further lines open older ones"`
	By             Way    `yaml:"by,omitempty" json:"by,omitempty" enum:"read,https,sftp,ftp" doc:"how an export comes: read from the appliance (the default), or pushed by it by one of these protocols, to an account that is made for it alone"`
	// Listen is where what is pushed is received. Without a port each has one of its own.
	Listen string `yaml:"listen,omitempty" json:"listen,omitempty" doc:"where the service receives what is pushed: an address of its host, such as 192.0.2.7 or 192.0.2.7:7440; default 127.0.0.1"`
	// Spare is a source of the same kind whose appliance is fresh.
	Spare string `yaml:"spare,omitempty" json:"spare,omitempty" doc:"another source of the same kind, whose appliance is fresh and stays so: proofs by restore have it take an export back, and reset it"`
}

// Check refuses settings that can't be.
func (s *Settings) Check(name, p string) error {
	if s == nil {
		return nil
	}
	p += ".export"
	if err := field.Known(name, p, "by", s.By, Ways); err != nil {
		return err
	}
	if s.PassphraseFile != "" && !filepath.IsAbs(s.PassphraseFile) {
		return field.At(name, p+".passphrase_file", "%q is no absolute path, such as /etc/keenlodge/exchange-passphrase", s.PassphraseFile)
	}
	_, alone := netip.ParseAddr(s.Listen)
	if _, withPort := netip.ParseAddrPort(s.Listen); s.Listen != "" && alone != nil && withPort != nil {
		return field.At(name, p+".listen", "%q is no address of this host, such as 192.0.2.7 or 192.0.2.7:7440", s.Listen)
	}
	if s.Spare != "" && !field.IsName(s.Spare) {
		return field.At(name, p+".spare", "%q is no source's name", s.Spare)
	}
	return nil
}

// Part is a part of an export. Bytes are those of its content, SHA256 its digest in hexadecimal, where the appliance tells that.
type Part struct {
	Name      string `json:"name"`
	About     string `json:"about,omitempty"`
	Mandatory bool   `json:"mandatory,omitempty"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256,omitempty"`
}

// KindOf is the kind by which a definition of an export is known.
const KindOf = "export"

// Told is what an image tells of the export that it holds: its definition, as JSON.
type Told struct {
	Kind string `json:"kind"`
	// Product, Release and Build are what wrote it, Name and Node what its appliance is called, and which of its nodes was active.
	Product string `json:"product"`
	Release string `json:"release"`
	Build   string `json:"build"`
	Name    string `json:"name"`
	Node    string `json:"node,omitempty"`
	// By is how it was made: by hand, or by a schedule.
	By string `json:"by"`
	// Parts are those that it has, LeftOut those of the appliance that it has not.
	Parts   []Part   `json:"parts"`
	LeftOut []string `json:"left_out,omitempty"`
	// File is the path of its one file in the image, of Bytes bytes.
	File   string `json:"file"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Definition writes it as a person can read it.
func (t Told) Definition() string {
	t.Kind = KindOf
	body, err := json.MarshalIndent(t, "", "  ")
	if err != nil {
		panic(err) // it has texts and numbers only
	}
	return string(body)
}

// Parse reads a definition; one that is not an export's is false.
func Parse(definition string) (t Told, ok bool) {
	if json.Unmarshal([]byte(definition), &t) != nil || t.Kind != KindOf {
		return Told{}, false
	}
	return t, true
}

// Inside are the parts that lie in the one file of an export, as an image tells of them; none of what is no export.
func Inside(definition string) (out []image.FilesPart) {
	t, _ := Parse(definition)
	for _, p := range t.Parts {
		out = append(out, image.FilesPart{Name: p.Name, Entries: 1, Bytes: p.Bytes})
	}
	return out
}

// Fits is an error where an appliance of another build is to take it back: what one build wrote another may not understand.
func (t Told) Fits(product, release, build string) error {
	if t.Product == product && t.Release == release && t.Build == build {
		return nil
	}
	return fmt.Errorf("the export is of %s %s, build %s, and the appliance is %s %s, build %s; bring it to that build first", t.Product, t.Release, t.Build, product, release, build)
}

// Choose picks the parts of an appliance that are wanted: those that are named, or all, but for those that are left out. A mandatory one comes in any
// case, and can't be left out.
func Choose(has []Part, wanted, leaveOut []string) (parts []Part, leftOut []string, err error) {
	known := map[string]Part{}
	for _, p := range has {
		known[p.Name] = p
	}
	want, out := map[string]bool{}, map[string]bool{}
	for set, names := range map[*map[string]bool][]string{&want: wanted, &out: leaveOut} {
		for _, name := range names {
			if _, ok := known[name]; !ok {
				return nil, nil, fmt.Errorf("the appliance has no part %q; look at: keenlodge machine parts NAME", name)
			}
			(*set)[name] = true
		}
	}
	for _, p := range has {
		switch {
		case p.Mandatory && out[p.Name]:
			return nil, nil, fmt.Errorf("part %q is mandatory, and can't be left out", p.Name)
		case p.Mandatory || !out[p.Name] && (len(wanted) == 0 || want[p.Name]):
			parts = append(parts, p)
		default:
			leftOut = append(leftOut, p.Name)
		}
	}
	return parts, leftOut, nil
}

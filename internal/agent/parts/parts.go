// Package parts knows the parts of a server's system state, and what may be run on it: each is a file in a folder that only root writes to. Whoever
// asks names them, and passes no text to any shell.
package parts

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"

	"keenlodge/internal/core/field"
	"keenlodge/internal/core/ignore"
	"keenlodge/internal/core/when"
)

// Folder is where a server's administrator keeps them: parts in parts/NAME.yaml, commands in commands/NAME.
const Folder = "/etc/keenlodge"

// Part is a named piece of the system state, as its file says.
type Part struct {
	Name string `yaml:"-"`
	// About says what it is, for people.
	About string `yaml:"about"`
	// Mandatory says that no policy can leave it out.
	Mandatory bool `yaml:"mandatory"`
	// Paths are absolute; their names may have wildcards (path.Match). What lies below a folder belongs to the part, too.
	Paths []string `yaml:"paths"`
	// Ignore leaves out what its patterns fit (gitignore(5)), from the root of the file system on.
	Ignore []string `yaml:"ignore"`
	// Output are files that the part has beside its paths: names, and the commands whose output they hold.
	Output map[string]string `yaml:"output"`
	// Within is how long each of these may take; 10 minutes where it says nothing.
	Within string `yaml:"within"`
}

// usual is how long a command may take that makes a file of a part.
const usual = 10 * time.Minute

// Limit is how long each of its commands may take.
func (p Part) Limit() time.Duration {
	if d, err := when.ParseSpan(p.Within); err == nil && p.Within != "" {
		return d
	}
	return usual
}

//go:embed ready
var ready embed.FS

// Install puts the parts and commands that come with the program into a folder. What is there already stays as it is: it is the administrator's.
func Install(folder string) (made []string, err error) {
	err = fs.WalkDir(ready, "ready", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		place := filepath.Join(folder, strings.TrimPrefix(name, "ready"))
		if e.IsDir() {
			return os.MkdirAll(place, 0o755)
		}
		body, err := ready.ReadFile(name)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if path.Base(path.Dir(name)) == "commands" {
			mode = 0o755
		}
		f, err := os.OpenFile(place, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = f.Write(body)
		if err = errors.Join(err, f.Close()); err != nil {
			return errors.Join(err, os.Remove(place)) // half of it would count as the administrator's
		}
		made = append(made, place)
		return nil
	})
	return made, err
}

// Load reads the parts of a folder, by name. A part that can't be trusted, or read, is an error: an image without it would not be what was asked for.
func Load(folder string) ([]Part, error) {
	found, err := filepath.Glob(filepath.Join(folder, "parts", "*.yaml"))
	if err != nil {
		return nil, err
	}
	out := []Part{}
	for _, place := range found {
		if err := trusted(place); err != nil {
			return nil, err
		}
		body, err := os.ReadFile(place)
		if err != nil {
			return nil, err
		}
		p := Part{}
		if err := yaml.UnmarshalWithOptions(body, &p, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("part %s: %w", place, err)
		}
		p.Name = strings.TrimSuffix(filepath.Base(place), ".yaml")
		if err := p.check(folder); err != nil {
			return nil, fmt.Errorf("part %s: %w", place, err)
		}
		out = append(out, p)
	}
	return out, nil
}

func (p Part) check(folder string) error {
	if !field.IsName(p.Name) {
		return errors.New("its file's name is no part's: lower-case letters, digits, dots and dashes")
	}
	if len(p.Paths)+len(p.Output) == 0 {
		return errors.New(`it has neither "paths" nor "output"`)
	}
	for _, v := range p.Paths {
		if _, err := path.Match(v, ""); err != nil || !path.IsAbs(v) || path.Clean(v) != v {
			return fmt.Errorf("%q is no absolute path, or pattern of one", v)
		}
	}
	if _, err := ignore.Parse(p.Ignore); err != nil {
		return err
	}
	for name, command := range p.Output {
		if !isFile(name) {
			return fmt.Errorf("%q can't be a file's name in it", name)
		}
		if _, err := Command(folder, command); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if _, err := when.ParseSpan(p.Within); err != nil && p.Within != "" {
		return fmt.Errorf("within: %w", err)
	}
	return nil
}

func isFile(name string) bool {
	return name != "" && name[0] != '.' && !strings.ContainsAny(name, "/\x00") && len(name) < 200
}

// Choose picks parts by their names, all where none is asked for, but those to be left out. Names that are not known, and mandatory parts that are
// left out, are errors.
func Choose(all []Part, names, leaveOut []string) ([]Part, error) {
	known := func(name string) (Part, error) {
		for _, p := range all {
			if p.Name == name {
				return p, nil
			}
		}
		var have []string
		for _, p := range all {
			have = append(have, p.Name)
		}
		return Part{}, fmt.Errorf("the server has no part %q; it has %s", name, strings.Join(have, ", "))
	}
	for _, name := range names {
		if _, err := known(name); err != nil {
			return nil, err
		}
	}
	for _, name := range leaveOut {
		if p, err := known(name); err != nil {
			return nil, err
		} else if p.Mandatory {
			return nil, fmt.Errorf("part %s is mandatory, so that no policy can leave it out (its file in %s/parts says so)", name, Folder)
		}
	}
	var out []Part
	for _, p := range all {
		if (len(names) == 0 || slices.Contains(names, p.Name) || p.Mandatory) && !slices.Contains(leaveOut, p.Name) {
			out = append(out, p)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("the server has no part; put some into %s/parts, or have keenlodge agent parts --install put those there that come with the program", Folder)
	}
	return out, nil
}

// trusted is an error if anybody but root, and who runs this program, could have made a file what it is.
func trusted(place string) error {
	place, err := filepath.Abs(place)
	if err != nil {
		return err
	}
	for at := place; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		st, ok := info.Sys().(*syscall.Stat_t)
		mode := info.Mode()
		switch {
		case !ok:
			return fmt.Errorf("%s: its owner can't be told", at)
		case at == place && !mode.IsRegular():
			return fmt.Errorf("%s is no regular file (%s), so it is not used", at, mode.Type())
		case at != place && mode&fs.ModeSymlink != 0:
			return fmt.Errorf("%s is a link, so what lies in it is not used", at)
		case st.Uid != 0 && int(st.Uid) != os.Geteuid():
			return fmt.Errorf("%s belongs to user %d, who could make of it what he likes; have root own it: chown root %[1]s", at, st.Uid)
		case mode.Perm()&0o022 != 0 && (at == place || mode&fs.ModeSticky == 0):
			return fmt.Errorf("%s can be written to by others than its owner; take that away: chmod go-w %[1]s", at)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// Command finds a command of the folder by its name. One that is not there wraps [fs.ErrNotExist].
func Command(folder, name string) (string, error) {
	if !field.IsName(name) {
		return "", fmt.Errorf("%q is no command's name: lower-case letters, digits, dots and dashes", name)
	}
	place := filepath.Join(folder, "commands", name)
	info, err := os.Lstat(place)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the server has no command %s (%s): %w", name, place, fs.ErrNotExist)
	}
	if err != nil {
		return "", err
	}
	if err := trusted(place); err != nil {
		return "", err
	}
	if info.Mode()&0o100 == 0 {
		return "", fmt.Errorf("%s can't be executed; chmod 755 %[1]s", place)
	}
	return place, nil
}

// Outputs are the names of the files that a part's commands make, in order.
func (p Part) Outputs() []string { return slices.Sorted(maps.Keys(p.Output)) }

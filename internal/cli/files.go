package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/wire"
)

// showUnread lists the files that a run could not read as they were.
func showUnread(ctx context.Context, c *cli.Command, k *client.Client, run string) error {
	found, err := k.Unread(ctx, run)
	if err != nil {
		return err
	}
	return show(c, found, func(w io.Writer) {
		if len(found) == 0 {
			fmt.Fprintf(w, "run %s read all files as they were\n", run)
			return
		}
		var rows [][]string
		for _, f := range found {
			why := f.Why
			if why == "" {
				why = "it was written to while it was read"
			}
			rows = append(rows, []string{f.Machine, "/" + f.Path, why})
		}
		table(w, []string{"MACHINE", "FILE", "WHY"}, rows)
	})
}

func machinePartsCommand() *cli.Command {
	return &cli.Command{Name: "parts", Usage: "list the parts of a server's system state, with their sizes", ArgsUsage: "MACHINE", Flags: []cli.Flag{output(),
		&cli.BoolFlag{Name: "quick", Usage: "without sizes: the server looks at none of its files"}},
		Action: calls([]string{"a machine"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			parts, err := k.Parts(ctx, c.Args().First(), !c.Bool("quick"))
			if err != nil {
				return err
			}
			return show(c, parts, func(w io.Writer) { drawParts(w, parts, !c.Bool("quick")) })
		})}
}

func drawParts(w io.Writer, parts []wire.Part, measured bool) {
	var rows [][]string
	var files, bytes int64
	for _, p := range parts {
		files, bytes = files+p.Files, bytes+p.Bytes
		must := "may be left out"
		if p.Mandatory {
			must = "mandatory"
		}
		has := append([]string{}, p.Paths...)
		for _, o := range p.Output {
			has = append(has, o+" (a command's)")
		}
		row := []string{p.Name, must}
		if measured {
			row = append(row, fmt.Sprint(p.Files), size(p.Bytes))
		}
		rows = append(rows, append(row, p.About, shortList(has, 3)))
	}
	heads := []string{"PART", "", "ABOUT", "WHAT"}
	if measured {
		heads = []string{"PART", "", "FILES>", "SIZE>", "ABOUT", "WHAT"}
		rows = append(rows, []string{"all", "", fmt.Sprint(files), size(bytes), "", ""})
	}
	table(w, heads, rows)
	for _, p := range parts {
		for _, t := range p.Trouble {
			fmt.Fprintf(w, "! %s: %s\n", p.Name, t)
		}
	}
}

// shortList names the first of many.
func shortList(all []string, most int) string {
	if len(all) <= most {
		return orDash(strings.Join(all, " "))
	}
	return fmt.Sprintf("%s and %d more", strings.Join(all[:most], " "), len(all)-most)
}

func imageUnlockCommand() *cli.Command {
	return &cli.Command{Name: "unlock", Usage: "unlock what is locked on the disks of an image, while you look into it", ArgsUsage: "IMAGE NAME",
		Description: "NAME is what image files calls it, such as vda3. The key goes to the reader guest and is kept nowhere else; it is forgotten when that has not been used for five minutes.",
		Flags:       []cli.Flag{output(), &cli.StringFlag{Name: "key-file", Usage: "file that holds the key, or the passphrase; by default you are asked"}},
		Action: calls([]string{"an image's name", "what is locked"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			var key []byte
			if file := c.String("key-file"); file != "" {
				key, err = os.ReadFile(file)
			} else {
				var word string
				word, err = secretWord("", "KEENLODGE_DISK_KEY", "the passphrase")
				key = []byte(word)
			}
			if err != nil {
				return err
			}
			o, err := k.UnlockImage(ctx, id, c.Args().Get(1), key)
			if err != nil {
				return err
			}
			return show(c, o, func(w io.Writer) { drawFileSystems(w, id, o) })
		})}
}

// findFiles finds files by a name in all images of a machine.
func findFiles(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 || c.String("machine") == "" || c.String("find") == "" {
		return wrongUse("to find a name say --machine MACHINE --find NAME, and no image")
	}
	k, err := connect(ctx, c)
	if err != nil {
		return err
	}
	find := func() (wire.FoundFiles, error) {
		return k.FindFiles(ctx, c.String("machine"), c.String("find"), mostFound)
	}
	found, err := find()
	if err == nil && c.Bool("open") {
		for _, id := range found.Missing {
			if err := k.ListFilesOf(ctx, id); err != nil {
				fmt.Fprintf(os.Stderr, "keenlodge: image %s: %v\n", id, err)
			}
		}
		found, err = find()
	}
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if c.String("output") == "json" {
		return json.NewEncoder(w).Encode(found)
	}
	var rows [][]string
	for _, f := range found.Files {
		for i, v := range f.Versions {
			if i > 0 && !c.Bool("versions") {
				break
			}
			path := f.Path
			if i > 0 {
				path = ""
			}
			rows = append(rows, []string{path, size(v.Size), moment(&v.Modified), v.Newest, moment(&v.NewestTaken), fmt.Sprint(v.Images), fmt.Sprint(len(f.Versions))})
		}
	}
	table(w, []string{"FILE", "SIZE>", "MODIFIED", "NEWEST IMAGE WITH IT SO", "TAKEN", "IMAGES>", "VERSIONS>"}, rows)
	fmt.Fprintf(w, "\n%s in %s\n", numbered(len(found.Files), "file"), numbered(found.Searched, "image"))
	if found.More {
		fmt.Fprintf(w, "! there are more than these %d; say more of the name\n", mostFound)
	}
	if n := len(found.Missing); n > 0 {
		fmt.Fprintf(w, "! not searched: %d images that nobody has opened yet; --open opens them, some seconds each\n", n)
	}
	return nil
}

// numbered is so many of something.
func numbered(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprint(n, " ", what)
}

// mostFound is how many files are told at the most.
const mostFound = 1000

func imageFilesCommand() *cli.Command {
	return &cli.Command{Name: "files", Usage: "list what is in an image, or find a name in all images of a machine", ArgsUsage: "IMAGE [PATH]",
		Description: "PATH is a folder, from / on, as it was on the machine, or NAME:PATH for one in a file system by its name. Without it the file systems of an image of disks are told, and all files of an image of files.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "text, json (an object a line) or mtree, as mtree(5) has it", Value: "text"},
			&cli.StringFlag{Name: "part", Usage: "of one part of the system state"}, &cli.BoolFlag{Name: "unread", Usage: "those that could not be read as they were"},
			&cli.BoolFlag{Name: "below", Usage: "all that lies below PATH, too"},
			&cli.StringFlag{Name: "machine", Usage: "with --find: in all images of this machine"},
			&cli.StringFlag{Name: "find", Usage: "find a name: a part of it, or a pattern such as '*.conf'; with a slash, of the whole path"},
			&cli.BoolFlag{Name: "versions", Usage: "with --find: all versions of each file, and not the newest only"},
			&cli.BoolFlag{Name: "open", Usage: "with --find: first open the images that nobody has opened yet"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.IsSet("find") || c.IsSet("machine") {
				return findFiles(ctx, c)
			}
			if c.Args().Len() < 1 || c.Args().Len() > 2 {
				return usageError{errors.New("it takes an image's name, and a path if one folder is wanted")}
			}
			form, err := pick("output", c.String("output"), []string{"text", "json", "mtree"})
			if err != nil {
				return usageError{err}
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			path := c.Args().Get(1)
			if path == "" {
				m, err := k.Image(ctx, id)
				if err != nil {
					return err
				}
				if m.Files == nil {
					return listFileSystems(ctx, c, k, id, form)
				}
			}
			in, err := k.ImageFiles(ctx, id, path, c.Bool("below"))
			if err != nil {
				return err
			}
			defer in.Close()
			return listFiles(c, in, form)
		}}
}

// listFileSystems tells what lies on the disks of an image.
func listFileSystems(ctx context.Context, c *cli.Command, k *client.Client, id, form string) error {
	o, err := k.FileSystems(ctx, id)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if form == "json" {
		return json.NewEncoder(w).Encode(o)
	}
	drawFileSystems(w, id, o)
	return nil
}

func drawFileSystems(w io.Writer, id string, o wire.OpenedDisks) {
	var rows [][]string
	for _, f := range o.FileSystems {
		used := "–"
		if f.Why == "" {
			used = size(f.Used)
		}
		rows = append(rows, []string{f.Name, orDash(f.Format), orDash(f.Label), size(f.Size), used, orDash(f.Mounted), f.Why})
	}
	table(w, []string{"FILE SYSTEM", "FORMAT", "LABEL", "SIZE>", "USED>", "MOUNTED", ""}, rows)
	if o.Tree {
		fmt.Fprintf(w, "\nlook on with: keenlodge image files %s /\n", id)
	} else if i := slices.IndexFunc(o.FileSystems, func(f wire.FileSystem) bool { return f.Why == "" }); i >= 0 {
		fmt.Fprintf(w, "\nlook on with: keenlodge image files %s %s:/\n", id, o.FileSystems[i].Name)
	}
	for _, f := range o.FileSystems {
		if f.Locked {
			fmt.Fprintf(w, "\nopen %s with: keenlodge image unlock %s %s --key-file FILE\n", f.Name, id, f.Name)
		}
	}
}

func imageCatCommand() *cli.Command {
	return &cli.Command{Name: "cat", Usage: "write a file of an image to the standard output", ArgsUsage: "IMAGE PATH",
		Action: calls([]string{"an image's name", "a path in it"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			in, err := k.ImageFile(ctx, id, c.Args().Get(1))
			if err != nil {
				return err
			}
			defer in.Close()
			if _, err := io.Copy(c.Root().Writer, in); err != nil {
				return fmt.Errorf("%s of image %s could not be read to its end: %w", c.Args().Get(1), id, err)
			}
			return nil
		})}
}

func imageDownloadCommand() *cli.Command {
	return &cli.Command{Name: "download", Usage: "get a file of an image, or a folder with all that lies below it", ArgsUsage: "IMAGE PATH",
		Description: "What --to is called says what is made: NAME.tar keeps owners, modes, times, attributes and links, NAME.zip files, folders and times; any other name is for one file.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the file that is made; what is there already stays as it is", Required: true}},
		Action: calls([]string{"an image's name", "a path in it"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			at, to := c.Args().Get(1), c.String("to")
			var in io.ReadCloser
			switch form := strings.TrimPrefix(filepath.Ext(to), "."); form {
			case "tar", "zip":
				in, err = k.ImageArchive(ctx, id, at, form)
			default:
				in, err = k.ImageFile(ctx, id, at)
			}
			if err != nil {
				return err
			}
			defer in.Close()
			f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return err
			}
			n, err := io.Copy(f, in)
			if err == nil {
				err = f.Sync()
			}
			if err = errors.Join(err, f.Close()); err != nil {
				return errors.Join(fmt.Errorf("%s of image %s could not be read to its end, and nothing is kept: %w", at, id, err), os.Remove(to))
			}
			fmt.Fprintf(c.Root().Writer, "✓ %s  %s\n", to, size(n))
			return nil
		})}
}

// listFiles writes the entries of a list that are wanted.
func listFiles(c *cli.Command, in io.Reader, form string) error {
	list, err := files.NewListReader(in)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if form == "mtree" {
		fmt.Fprint(w, files.ListHead)
	}
	encoder := json.NewEncoder(w)
	for {
		e, raw, err := list.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if c.String("part") != "" && e.Part != c.String("part") || c.Bool("unread") && e.Unread == "" && !e.Changed {
			continue
		}
		switch form {
		case "mtree":
			_, err = w.Write(raw)
		case "json":
			err = encoder.Encode(fileOf(&e))
		default:
			_, err = fmt.Fprintln(w, fileLine(&e))
		}
		if err != nil {
			return err
		}
	}
}

// listed is an entry as JSON tells it. A path that is no text is written as in mtree(5).
type listed struct {
	Path     string            `json:"path"`
	Kind     files.Kind        `json:"kind"`
	Mode     string            `json:"mode"`
	Owner    string            `json:"owner"`
	Group    string            `json:"group"`
	Size     int64             `json:"size"`
	Modified string            `json:"modified"`
	Part     string            `json:"part,omitempty"`
	Target   string            `json:"target,omitempty"`
	Same     string            `json:"same,omitempty"`
	Unread   string            `json:"unread,omitempty"`
	Changed  bool              `json:"changed,omitempty"`
	Xattrs   map[string][]byte `json:"xattrs,omitempty"`
}

func fileOf(e *files.Entry) listed {
	out := listed{Path: files.Readable(e.Path), Kind: e.Kind, Mode: fmt.Sprintf("%04o", e.Mode), Owner: ownerOf(e.Owner, e.UID), Group: ownerOf(e.Group, e.GID), Size: e.Size, Modified: e.Modified.Format("2006-01-02T15:04:05.999999999Z07:00"),
		Part: e.Part, Target: files.Readable(e.Target), Same: files.Readable(e.Same), Unread: e.Unread, Changed: e.Changed}
	for k, v := range e.Xattrs {
		if out.Xattrs == nil {
			out.Xattrs = map[string][]byte{}
		}
		out.Xattrs[files.Readable(k)] = []byte(v)
	}
	return out
}

func ownerOf(name string, id uint32) string {
	if name == "" {
		return fmt.Sprint(id)
	}
	return files.Readable(name)
}

// fileLine is an entry as a person reads it.
func fileLine(e *files.Entry) string {
	if e.Kind == files.Unseen {
		return fmt.Sprintf("%-10s %-17s %10s  %-16s  /%s  ✗ %s", "?", "", "", "", files.Readable(e.Path), plain.Text(e.Unread, 400))
	}
	path := "/" + files.Readable(e.Path)
	if e.Path == "." {
		path = "/"
	}
	line := fmt.Sprintf("%-10s %-17s %10s  %s  %s", e.FileMode(), ownerOf(e.Owner, e.UID)+":"+ownerOf(e.Group, e.GID), size(e.Size), moment(&e.Modified), path)
	switch {
	case e.Same != "":
		line += " = /" + files.Readable(e.Same)
	case e.Target != "":
		line += " → " + files.Readable(e.Target)
	}
	if e.Changed {
		line += "  ! written to while it was read"
	}
	if e.Unread != "" {
		line += "  ✗ " + plain.Text(e.Unread, 400)
	}
	return line
}

// filesDetails tells what an image of files holds.
func filesDetails(w io.Writer, f *wire.ImageFiles) {
	row := func(what, format string, args ...any) {
		fmt.Fprintf(w, "%-18s %s\n", what, fmt.Sprintf(format, args...))
	}
	row("files", "%d, with %s of content", f.Entries, size(f.Bytes))
	if f.Unread > 0 {
		row("could not be read", "%d", f.Unread)
	}
	if f.Changed > 0 {
		row("changed meanwhile", "%d", f.Changed)
	}
	for i, p := range f.Parts {
		what := ""
		if i == 0 {
			what = "parts"
		}
		row(what, "%-18s %6d files %10s", p.Name, p.Entries, size(p.Bytes))
	}
	for i, l := range f.LeftOut {
		what := ""
		if i == 0 {
			what = "left out"
		}
		row(what, "%-18s %6d files %10s  %s", l.Rule, l.Files, size(l.Bytes), strings.Join(l.Largest, " "))
	}
}

package guestagent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
)

// Files takes files back on guests that have no agent of ours, small amounts of them: all that QEMU's agent offers for it is to write files and to run
// commands. The guest needs a shell and the usual tools, as of GNU or BusyBox. Nothing is kept of what is replaced, and nothing is deleted.
type Files struct {
	mu    sync.Mutex
	plans map[string]*plan // by restore
}

const (
	// mostPaths and mostBytes are what counts as small.
	mostPaths, mostBytes = 200, 16 << 20
	// scriptTime is how long a step may take in a guest.
	scriptTime = time.Minute
	// writeAtOnce is how many bytes are sent with one command: agents read slowly, and have 8 s to answer.
	writeAtOnce = 32 << 10
)

// plan is what becomes of files on a guest.
type plan struct {
	back.Plan
	order   back.Order
	entries map[string]*files.Entry // by their paths in the image
	firsts  map[string]string       // where the first names of hard links are, by their paths in the image
}

// seen is what was found at a path.
type seen struct {
	back.Found
	inode, owner, group string
}

// script runs a shell script in a guest, as who the agent is, which is root.
func (a Ask) script(ctx context.Context, machine, text string, args ...string) ([]byte, error) {
	code, out, said, err := a.run(ctx, machine, append([]string{"/bin/sh", "-c", tools + text, "keenlodge"}, args...), scriptTime)
	if err != nil && !away(err) {
		err = fmt.Errorf("%w; its agent must be allowed to run commands and to write files (guest-exec, guest-file-open); otherwise take the files along: keenlodge image download", err)
	}
	if err == nil && code != 0 {
		err = fmt.Errorf("guest %s: %s", machine, cmp.Or(plain.LastLine(string(said), 300), fmt.Sprintf("a script ended with %d", code)))
	}
	return out, err
}

// tools begins each script.
const tools = "set -u; export LC_ALL=C TZ=UTC0 PATH=\"${PATH:-}:/usr/sbin:/usr/bin:/sbin:/bin\"\n"

// What scripts say ends each item with a NUL, which no name has.

// parentScript says where folders really are; of one that is not there that of what is.
const parentScript = `for p; do
	rest=
	until [ -d "$p/" ]; do rest=/${p##*/}$rest; p=${p%/*}; done
	here=$(cd -P "$p/" && pwd -P) || exit 1
	printf '%s\0' "${here%/}$rest"
done`

// keyFormat has stat(1) tell what is at a path, and changes whenever that does.
const keyFormat = "%f|%s|%Y|%u|%g|%i|%Z"

// lookScript says what is at paths: nothing, or what stat says, and where a link leads.
const lookScript = `fmt=$1; shift
for p; do
	if [ -L "$p" ] || [ -e "$p" ]; then stat -c "$fmt" "$p" || exit 1; fi
	[ ! -L "$p" ] || readlink "$p"
	printf '\0'
done`

// split splits what a script said into n items.
func split(out []byte, n int) ([]string, error) {
	items := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	if len(items) != n {
		return nil, fmt.Errorf("its shell gave %d answers to %d questions; take the files along: keenlodge image download", len(items), n)
	}
	return items, nil
}

// look finds out what is at paths.
func (a Ask) look(ctx context.Context, machine string, paths []string) (map[string]*seen, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	args := []string{keyFormat + "|%U|%G"}
	for _, p := range paths {
		args = append(args, "/"+p)
	}
	out, err := a.script(ctx, machine, lookScript, args...)
	if err != nil {
		return nil, err
	}
	items, err := split(out, len(paths))
	if err != nil {
		return nil, fmt.Errorf("guest %s: %w", machine, err)
	}
	found := map[string]*seen{}
	for i, item := range items {
		if item == "" {
			continue
		}
		if found[paths[i]], err = parseSeen(item); err != nil {
			return nil, fmt.Errorf("guest %s says of /%s: %w", machine, files.Readable(paths[i]), err)
		}
	}
	return found, nil
}

// kinds are what the kinds of files are in the mode that stat tells (inode(7)).
var kinds = map[uint64]files.Kind{0o04: files.Dir, 0o10: files.File, 0o12: files.Link, 0o02: files.Char, 0o06: files.Block, 0o01: files.Fifo}

func parseSeen(item string) (*seen, error) {
	line, target, _ := strings.Cut(item, "\n")
	fields := strings.Split(line, "|")
	if len(fields) != 9 {
		return nil, fmt.Errorf("%q", plain.Text(item, 200))
	}
	mode, err := strconv.ParseUint(fields[0], 16, 32)
	var numbers [5]int64
	for i := range numbers {
		n, failed := strconv.ParseInt(fields[1+i], 10, 64)
		numbers[i], err = n, errors.Join(err, failed)
	}
	if err != nil {
		return nil, err
	}
	s := &seen{inode: fields[5], owner: fields[7], group: fields[8]}
	s.Found = back.Found{Kind: kinds[mode>>12], Size: numbers[0], Modified: time.Unix(numbers[1], 0), Mode: uint32(mode & 0o7777), UID: uint32(numbers[2]), GID: uint32(numbers[3]),
		Target: strings.TrimSuffix(target, "\n"), Key: strings.Join(fields[:7], "|")}
	if s.Kind == files.Dir { // another one, and not what lies in it
		s.Key, s.Size = strings.Join([]string{fields[0], fields[3], fields[4], fields[5]}, "|"), 0
	}
	return s, nil
}

// like makes what was found what the entry says, as far as the guest can't tell them apart: it tells seconds only, and owners are the same by their names.
func (s *seen) like(e *files.Entry, first *seen) *back.Found {
	if s == nil {
		return nil
	}
	f := s.Found
	if f.Modified.Unix() == e.Modified.Unix() {
		f.Modified = e.Modified
	}
	if e.Owner != "" && e.Owner == s.owner {
		f.UID = e.UID
	}
	if e.Group != "" && e.Group == s.group {
		f.GID = e.GID
	}
	f.Xattrs = e.Xattrs
	f.Same = first != nil && first.inode == s.inode
	return &f
}

// unfit says why an entry can't go through a guest agent, "" if it can.
func unfit(e *files.Entry, at string) string {
	for name := range e.Xattrs {
		if name != "security.selinux" { // the guest's own policy sets it
			return "it has attributes (" + plain.Text(name, 100) + "), which do not go through a guest agent; take them along in an archive: keenlodge image download"
		}
	}
	switch {
	case !utf8.ValidString(at) || !utf8.ValidString(e.Target) || strings.HasSuffix(e.Target, "\n"):
		return "its name is no text, and does not go through a guest agent"
	case e.Kind == files.Char, e.Kind == files.Block, e.Kind == files.Fifo:
		return "devices and pipes do not go through a guest agent"
	}
	return ""
}

// Plan implements [source.Unpacker] for a guest.
func (f *Files) Plan(ctx context.Context, a Ask, machine string, o back.Order, list io.Reader, visit func(back.Step) error) (sum source.PlanSum, err error) {
	none := source.PlanSum{}
	if o.Delete || o.Look {
		return none, fmt.Errorf("%w: guest %s has no agent of ours: through its own nothing is deleted, and it is not compared with an image", fault.ErrConflict, machine)
	}
	entries, err := few(machine, list)
	if err != nil {
		return none, err
	}
	p := &plan{order: o, entries: map[string]*files.Entry{}, firsts: map[string]string{}}
	if err := a.resolve(ctx, machine, &p.order); err != nil {
		return none, err
	}
	found, err := a.look(ctx, machine, p.paths(entries))
	if err != nil {
		return none, err
	}
	steps := p.decide(entries, found)
	var besides []string
	for _, s := range steps {
		if s.Action == back.Beside {
			besides = append(besides, s.Path)
		}
	}
	if found, err = a.look(ctx, machine, besides); err != nil {
		return none, err
	}
	for _, s := range steps {
		if e := p.entries[s.From]; s.Action == back.Beside && found[s.Path] != nil {
			s = back.NamedBeside(s, e, found[s.Path].like(e, nil))
		}
		p.Add(s)
		if s.Action != back.Same {
			if err := visit(s); err != nil {
				return none, err
			}
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.plans == nil {
		f.plans = map[string]*plan{}
	}
	f.plans[o.ID] = p
	return source.PlanSum{Digest: p.Digest(), Counts: p.Counts, Notices: p.notices()}, nil
}

// notices are what a person should know before.
func (p *plan) notices() []string {
	const through = "they go through the guest's own agent (QEMU's)"
	acts := int64(0)
	for a, c := range p.Counts {
		if a.Acts() {
			acts += c.Paths
		}
	}
	switch {
	case acts == 0:
		return nil
	case p.Counts[back.Replacing].Paths == 0:
		return []string{through + ", so it can't be undone"}
	}
	return []string{through + ": nothing is kept of what is replaced, so it can't be undone; --existing keep-both replaces nothing"}
}

// paths are what is to be looked at before it can be decided what becomes of entries: it notes these by where they go to.
func (p *plan) paths(entries []*files.Entry) (out []string) {
	for _, e := range entries {
		at, ok := back.Locate(p.order.Roots, e.Path)
		if !ok || at == "." {
			continue
		}
		p.entries[e.Path] = e
		out = append(out, at)
		if e.Same != "" {
			if first, ok := back.Locate(p.order.Roots, e.Same); ok {
				p.firsts[e.Path] = first
				out = append(out, first)
			}
		}
		for folder := path.Dir(at); folder != "."; folder = path.Dir(folder) {
			out = append(out, folder)
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(p string) bool { return !utf8.ValidString(p) })
}

// decide says what becomes of entries, by what was found.
func (p *plan) decide(entries []*files.Entry, found map[string]*seen) (steps []back.Step) {
	replaced := map[string]bool{} // what is no folder, and becomes one
	for _, e := range entries {
		if p.entries[e.Path] == nil {
			continue
		}
		at, _ := back.Locate(p.order.Roots, e.Path)
		there, why := found[at], ""
		for folder := path.Dir(at); folder != "."; folder = path.Dir(folder) {
			if up := found[folder]; replaced[folder] {
				there = nil
			} else if up != nil && up.Kind != files.Dir {
				there, why = nil, fmt.Sprintf("/%s is a %s, and is not followed", folder, up.Kind)
			}
		}
		s := back.Decide(e, at, there.like(e, found[p.firsts[e.Path]]), p.order.Existing, p.order.Moment)
		if s.Action.Writes() {
			if why = cmp.Or(why, unfit(e, at)); why != "" {
				s.Action, s.Bytes, s.Why = back.Refuse, 0, why
			}
		}
		replaced[at] = s.Action == back.Replacing && e.Kind == files.Dir
		steps = append(steps, s)
	}
	return steps
}

// few reads a list of few files.
func few(machine string, list io.Reader) (out []*files.Entry, err error) {
	r, err := files.NewListReader(list)
	if err != nil {
		return nil, err
	}
	bytes := int64(0)
	for {
		e, _, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		bytes += e.Size
		if out = append(out, &e); len(out) > mostPaths || bytes > mostBytes {
			return nil, fmt.Errorf("%w: guest %s has no agent of ours, and through its own go %d paths at most, and %d MiB: restore less at once, have it run our agent (keenlodge machine enroll), or download an archive (keenlodge image download)", fault.ErrConflict, machine, mostPaths, mostBytes>>20)
		}
	}
}

// resolve has the roots of an order be where the folders that they lie in really are.
func (a Ask) resolve(ctx context.Context, machine string, o *back.Order) error {
	o.Roots = slices.Clone(o.Roots)
	var parents []string
	for _, r := range o.Roots {
		if !files.IsPath(r.To) || !utf8.ValidString(r.To) {
			return fmt.Errorf("%w: %q is no path that goes through a guest agent", fault.ErrInvalid, r.To)
		}
		parents = append(parents, path.Clean("/"+path.Dir(r.To)))
	}
	out, err := a.script(ctx, machine, parentScript, parents...)
	if err != nil {
		return err
	}
	real, err := split(out, len(parents))
	if err != nil {
		return fmt.Errorf("guest %s: %w", machine, err)
	}
	for i := range o.Roots {
		if o.Roots[i].To != "." {
			o.Roots[i].To = strings.TrimPrefix(path.Join(real[i], path.Base(o.Roots[i].To)), "/")
		}
	}
	return nil
}

// stageScript makes a folder that only root enters, for contents on their way. It goes in a quarter of an hour, whoever dies meanwhile.
const stageScript = `umask 077
for t in /var/tmp /tmp; do [ ! -d $t ] || { d=$(mktemp -d $t/keenlodge-XXXXXX) && break; }; done
(sleep 900; rm -rf "$d") </dev/null >/dev/null 2>&1 &
printf '%s\0' "$d"`

// endScript removes that folder.
const endScript = `case $1 in */keenlodge-??????) rm -rf "$1";; esac`

// placeScript carries out a step, where what is there is what was planned for. No link is followed on the way.
const placeScript = `dir=$1 name=$2 kind=$3 action=$4 key=$5 mode=$6 ids=$7 names=$8 time=$9; shift 9; from=$1
fail() { echo "$*" >&2; exit 1; }
[ -d "$dir" ] || mkdir -p "$dir" || exit 1
cd -P "$dir" || exit 1
[ "$(pwd -P)" = "$dir" ] || fail "there is a link on the way to it"
fmt='` + keyFormat + `'; [ ! -d "./$name" ] || [ -L "./$name" ] || fmt='%f|%u|%g|%i'
now=
if [ -L "./$name" ] || [ -e "./$name" ]; then now=$(stat -c "$fmt" "./$name"); fi
[ "$now" = "$key" ] || fail "it is not as it was when it was looked at"
new="./.keenlodge-$$"
trap 'rm -f "$new"' EXIT
settle() { # a link to a folder would be followed by mv, and a folder entered
	[ ! -L "./$name" ] || rm -f "./$name" || return 1
	[ ! -d "./$name" ] || fail "it is a folder now"
	mv -f "$new" "./$name"
}
own() { # by their names, as far as they have some here
	chown ${2:-} "${names%:*}" "$1" 2>/dev/null || chown ${2:-} "${ids%:*}" "$1" || return 1
	chown ${2:-} ":${names#*:}" "$1" 2>/dev/null || chown ${2:-} ":${ids#*:}" "$1"
}
dress() {
	if [ "$kind" = link ]; then own "$1" -h; touch -h -d "$time" "$1" 2>/dev/null || touch -h -d "${time%.*}" "$1"; return; fi
	own "$1" || return 1
	chmod "$mode" "$1" || return 1
	touch -d "$time" "$1" 2>/dev/null || touch -d "${time%.*}" "$1"
}
if [ "$action" = amend ]; then dress "./$name"; exit; fi
case $kind in
dir)
	if [ "$action" = replace ]; then rm -f "./$name" || exit 1; fi
	mkdir "./$name" || exit 1 ;;
link) { ln -s "$from" "$new" && dress "$new" && settle; } || exit 1 ;;
same) { ln "$from" "$new" && settle; } || exit 1 ;;
file) { cp "$from" "$new" && dress "$new" && sync && settle; } || exit 1 ;;
esac`

// stampFormat is how touch(1) is told a time, of UTC.
const stampFormat = "2006-01-02 15:04:05.000000000"

// place carries out a step, with what it needs: the content's file, where a link leads, or the first name.
func (a Ask) place(ctx context.Context, machine string, s back.Step, e *files.Entry, from string) error {
	key, kind := "", string(e.Kind)
	if s.Old != nil && s.Action != back.Beside {
		key = s.Old.Key
	}
	if e.Same != "" {
		kind = "same"
	}
	names := cmp.Or(e.Owner, fmt.Sprint(e.UID)) + ":" + cmp.Or(e.Group, fmt.Sprint(e.GID))
	_, err := a.script(ctx, machine, placeScript, path.Clean("/"+path.Dir(s.Path)), path.Base(s.Path), kind, string(s.Action), key,
		fmt.Sprintf("%o", e.Mode), fmt.Sprintf("%d:%d", e.UID, e.GID), names, e.Modified.UTC().Format(stampFormat), from)
	return err
}

// write writes a file in a guest.
func (a Ask) write(ctx context.Context, at string, content io.Reader) (n int64, err error) {
	var handle int64
	if err := a(ctx, "guest-file-open", map[string]any{"path": at, "mode": "w"}, &handle); err != nil {
		return 0, err
	}
	room := make([]byte, writeAtOnce)
	for {
		m, read := io.ReadFull(content, room)
		for left := room[:m]; len(left) > 0 && err == nil; {
			var wrote struct {
				Count int `json:"count"`
			}
			if err = a(ctx, "guest-file-write", map[string]any{"handle": handle, "buf-b64": left}, &wrote); err == nil && (wrote.Count <= 0 || wrote.Count > len(left)) {
				err = fmt.Errorf("%d of %d bytes were written", wrote.Count, len(left))
			}
			left = left[min(len(left), max(0, wrote.Count)):]
			n += int64(wrote.Count)
		}
		if err == nil && read != nil && read != io.EOF && read != io.ErrUnexpectedEOF {
			err = broken{read}
		}
		if err != nil || read != nil {
			return n, errors.Join(err, a(context.WithoutCancel(ctx), "guest-file-close", map[string]any{"handle": handle}, nil))
		}
	}
}

// broken is an error of the image, and not of the guest.
type broken struct{ error }

func (b broken) Unwrap() error { return b.error }

// Put implements [source.Unpacker] for a guest.
func (f *Files) Put(ctx context.Context, a Ask, machine, id, digest string, archive io.Reader, progress func(back.Progress)) (done back.Done, err error) {
	f.mu.Lock()
	p := f.plans[id]
	delete(f.plans, id)
	f.mu.Unlock()
	if p == nil || p.Digest() != digest {
		return done, fmt.Errorf("%w: there is no such plan for restore %s on guest %s; ask for it again", fault.ErrConflict, id, machine)
	}
	out, err := a.script(ctx, machine, stageScript)
	if err != nil {
		return done, err
	}
	stage := strings.TrimSuffix(string(out), "\x00")
	defer func() {
		if _, failed := a.script(context.WithoutCancel(ctx), machine, endScript, stage); failed != nil && err == nil {
			err = fmt.Errorf("what restore %s made on its way could not be removed, and goes by itself in a quarter of an hour: %w", id, failed)
		}
	}()
	put := &putter{a, ctx, machine, stage, p, map[string]back.Step{}, back.Progress{}, &done, nil}
	for _, s := range p.Steps {
		if s.Action.Writes() {
			put.steps[s.From] = s
		}
	}
	if err = put.all(files.NewReader(archive), progress); err == nil {
		err = put.dress()
	}
	return done, err
}

// putter carries a plan out.
type putter struct {
	ask     Ask
	ctx     context.Context
	machine string
	stage   string
	*plan
	steps   map[string]back.Step // yet to be done, by their paths in the image
	at      back.Progress
	done    *back.Done
	folders []back.Step // that are to get their times when all lies in them
}

// all carries out what the archive brings.
func (p *putter) all(archive *files.Reader, progress func(back.Progress)) error {
	for {
		step, err := archive.Next()
		if err != nil {
			return p.stopped("", err)
		}
		if step.Last != nil {
			break
		}
		if step.Entry == nil {
			continue
		}
		e := step.Entry
		s, planned := p.steps[e.Path]
		delete(p.steps, e.Path)
		err = p.one(s, e, archive, planned)
		if err == nil {
			progress(p.at)
			continue
		}
		if ours := (broken{}); errors.As(err, &ours) || p.ctx.Err() != nil || away(err) {
			return p.stopped(s.Path, err)
		}
		p.done.Fail("/"+files.Readable(s.Path), err)
	}
	p.done.Lack(p.Steps, p.steps)
	return nil
}

// one carries out a step, if there is one for what the archive brings.
func (p *putter) one(s back.Step, e *files.Entry, archive *files.Reader, planned bool) (err error) {
	from := cmp.Or(e.Target, "/"+p.firsts[e.Path])
	content := planned && e.Kind == files.File && e.Same == "" && s.Action != back.Amend
	var failed error
	if content {
		from = path.Join(p.stage, "content")
		var n int64
		n, failed = p.ask.write(p.ctx, from, e.Flowing(archive))
		p.at.Bytes += n
	}
	if _, err := io.Copy(io.Discard, archive); err != nil {
		return broken{err}
	}
	if err := archive.Settle(e); err != nil {
		return broken{err}
	}
	switch {
	case failed != nil || !planned:
		return failed
	case e.Unread != "":
		return errors.New("the image has not all of it: " + e.Unread)
	}
	if err := p.ask.place(p.ctx, p.machine, s, e, from); err != nil {
		return err
	}
	if e.Kind == files.Dir {
		p.folders = append(p.folders, s)
	}
	p.done.Add(s)
	p.at.Paths++
	return nil
}

// dress gives folders their owners, modes and times, now that all lies in them.
func (p *putter) dress() error {
	for _, s := range slices.Backward(p.folders) {
		found, err := p.ask.look(p.ctx, p.machine, []string{s.Path})
		if err == nil && (found[s.Path] == nil || found[s.Path].Kind != files.Dir) {
			err = errors.New("it is no folder any more")
		}
		if err == nil {
			s.Action, s.Old = back.Amend, &found[s.Path].Found
			err = p.ask.place(p.ctx, p.machine, s, p.entries[s.From], "")
		}
		if away(err) {
			return p.stopped(s.Path, err)
		}
		if err != nil {
			p.done.Fail("/"+files.Readable(s.Path), err)
		}
	}
	return nil
}

// away reports whether the guest's agent did not answer.
func away(err error) bool {
	return errors.Is(err, source.ErrUnreachable) || errors.Is(err, source.ErrBusy)
}

// stopped is why the restore ended before its end, and where.
func (p *putter) stopped(at string, err error) error {
	if away(err) {
		err = fmt.Errorf("%w: %w", source.ErrUnreachable, err) // it is waited for
	}
	return p.at.Stopped(at, err)
}

// Undo implements [source.Unpacker] for a guest.
func Undo(machine, id string) (back.Done, error) {
	return back.Done{}, fmt.Errorf("%w: restore %s went through the agent of guest %s, which keeps nothing of what was replaced; restore an image from before it", fault.ErrConflict, id, machine)
}

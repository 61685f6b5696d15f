// Package servers measures servers' agents: what is read, what travels, how long a server stands still, and what an agent costs.
package servers

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/demo"
	"keenlodge/internal/agent"
	"keenlodge/internal/agent/block"
	"keenlodge/internal/client"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/pinned"
	"keenlodge/internal/wire"
)

const (
	// agents is how many are connected at once, idle how long they are watched.
	agents, idle = 1000, 30 * time.Second
	rounds       = 3
)

// lab is a lodge that speaks TLS, and disks of this host that stand for servers'.
type lab struct {
	ctx     context.Context
	p       *demo.Place
	folder  string
	address string
	print   string // of its authority
	service *exec.Cmd
	end     []func()
}

func (l *lab) close() {
	for i := len(l.end) - 1; i >= 0; i-- {
		l.end[i]()
	}
}

// sh runs a script.
func sh(script string, vars ...string) (string, error) {
	cmd := exec.Command("sh", "-ec", script)
	cmd.Env = append(append(os.Environ(), "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH")), vars...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", script, err, out)
	}
	return strings.TrimSpace(string(out)), nil
}

// Measure measures at an empty place.
func Measure(ctx context.Context, p *demo.Place, add Add) error {
	return measure(ctx, p, add, (*lab).second, (*lab).frozen, (*lab).large, (*lab).many, (*lab).usedOnly)
}

// MeasureFiles measures images of files, as [Measure] does.
func MeasureFiles(ctx context.Context, p *demo.Place, add Add) error {
	return measure(ctx, p, add, (*lab).smallFiles)
}

// Add takes a row: what it is, its unit, the most that is asked for (0 for nothing), and what came of each round.
type Add = func(what, unit string, asked float64, samples ...float64)

func measure(ctx context.Context, p *demo.Place, add Add, parts ...func(*lab, Add) error) error {
	if err := p.StartDatabase(ctx); err != nil {
		return err
	}
	l := &lab{ctx: ctx, p: p, folder: filepath.Join(p.Folder, "servers")}
	defer l.close()
	if err := os.MkdirAll(filepath.Join(l.folder, "shelf"), 0o700); err != nil {
		return err
	}
	if err := l.serve(); err != nil {
		return err
	}
	for _, part := range parts {
		if err := part(l, add); err != nil {
			return err
		}
	}
	return nil
}

// keen runs the program as a client, or as what an agent runs.
func (l *lab) keen(args ...string) *exec.Cmd {
	cmd := exec.CommandContext(l.ctx, l.p.Program, args...)
	cmd.Env = append(os.Environ(), "KEENLODGE_URL=https://"+l.address, "KEENLODGE_TOKEN_FILE="+filepath.Join(l.folder, "token"), "KEENLODGE_DATABASE="+l.p.DatabaseURL(),
		"PGPASSFILE="+filepath.Join(l.p.Folder, "pgpass"), "KEENLODGE_STATE="+filepath.Join(l.folder, "state"))
	return cmd
}

func (l *lab) ok(args ...string) (string, error) {
	out, err := l.keen(args...).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("keenlodge %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return string(out), nil
}

// serve starts the service.
func (l *lab) serve() error {
	port, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	l.address = port.Addr().String()
	port.Close()
	l.service = l.keen("serve", "--tls", "--listen", l.address)
	said, err := l.service.StderrPipe()
	if err != nil {
		return err
	}
	if err := l.service.Start(); err != nil {
		return err
	}
	l.end = append(l.end, func() { l.service.Process.Signal(syscall.SIGTERM); l.service.Wait() })
	lines := bufio.NewScanner(said)
	for lines.Scan() && !strings.Contains(lines.Text(), "fingerprint=") {
	}
	_, l.print, _ = strings.Cut(lines.Text(), "fingerprint=")
	go io.Copy(io.Discard, said)
	first := filepath.Join(l.folder, "first")
	if err := l.p.NewToken(l.ctx, l.p.DatabaseURL(), "first", first); err != nil {
		return err
	}
	if _, err := l.ok("sign-in", "--from", first, "--fingerprint", l.print); err != nil {
		return err
	}
	_, err = l.ok("store", "add", "quay-shelf", "--folder", filepath.Join(l.folder, "shelf"))
	return err
}

// volume makes a loop device with a file system, mounted.
func (l *lab) volume(name, size string) (loop, mounted string, err error) {
	file := filepath.Join(l.folder, name+".disk")
	mounted = filepath.Join(l.folder, name)
	loop, err = sh("truncate -s $s $f; mkfs.ext4 -q -F -E nodiscard $f; mkdir -p $m; l=$(losetup --find --show --direct-io=on $f); mount $l $m; echo $l", "s="+size, "f="+file, "m="+mounted)
	if err == nil {
		l.end = append(l.end, func() { sh("umount -l $m; losetup -d $l; rm -f $f", "m="+mounted, "l="+loop, "f="+file) })
	}
	return loop, mounted, err
}

// fill puts so many MiB into a folder that don't compress.
func fill(folder string, mib int) error {
	_, err := sh("head -c ${n}M /dev/urandom > $d/filling; sync -f $d", "n="+strconv.Itoa(mib), "d="+folder)
	return err
}

// server enrolls a server, whose agent is a process with one disk, and makes a policy for it.
func (l *lab) server(name, loop string) (*exec.Cmd, error) {
	return l.covered(name, loop, "quiesce: required")
}

// covered enrolls a server, with what else its policy says.
func (l *lab) covered(name, loop, more string) (*exec.Cmd, error) {
	folder := filepath.Join(l.folder, "agent-"+name)
	out, err := l.ok("machine", "enroll", name, "-o", "json")
	if err != nil {
		return nil, err
	}
	var word wire.Admission
	if err := json.Unmarshal([]byte(out), &word); err != nil {
		return nil, err
	}
	file := filepath.Join(l.folder, "word")
	if err := os.WriteFile(file, []byte(word.Word), 0o600); err != nil {
		return nil, err
	}
	if _, err := l.ok("agent", "join", name, "--lodge", "https://"+l.address, "--fingerprint", l.print, "--word-file", file, "--folder", folder, "--settings", filepath.Join(l.folder, "settings")); err != nil {
		return nil, err
	}
	a := l.keen("agent", "run", "--folder", folder, "--disk", loop, "--writable", "/")
	if err := a.Start(); err != nil {
		return nil, err
	}
	l.end = append(l.end, func() { a.Process.Signal(syscall.SIGTERM); a.Wait() })
	for {
		out, err := l.ok("machine", "list")
		if err != nil {
			return nil, err
		}
		if strings.Contains(out, name+" ") {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	site, err := l.ok("site", "show")
	if err != nil {
		return nil, err
	}
	if !strings.Contains(site, "\npolicies:") {
		site += "policies:\n"
	}
	site += "  " + name + ":\n    machines: [" + name + "]\n    store: quay-shelf\n    " + more + "\n    cycle: full once\n    rotation: newest 9\n"
	path := filepath.Join(l.folder, "site.yaml")
	if err := os.WriteFile(path, []byte(site), 0o600); err != nil {
		return nil, err
	}
	_, err = l.ok("site", "apply", path)
	return a, err
}

// image has an image made, and returns what the lodge says of it.
func (l *lab) image(policy string) (wire.Image, error) {
	if _, err := l.ok("policy", "run", policy, "--wait"); err != nil {
		return wire.Image{}, err
	}
	out, err := l.ok("image", "list", "--machine", policy, "-o", "json")
	var all []wire.Image
	if err == nil {
		err = json.Unmarshal([]byte(out), &all)
	}
	if err == nil && len(all) == 0 {
		err = errors.New("there is no image")
	}
	if err != nil {
		return wire.Image{}, err
	}
	return all[0], nil
}

// usedOnly compares reading what is in use of a disk with reading all of it, both past the page cache.
func (l *lab) usedOnly(add Add) error {
	// A disk that was in use for years: what is free in it is no hole.
	if _, err := sh("head -c 20G /dev/urandom > $f", "f="+filepath.Join(l.folder, "large.disk")); err != nil {
		return err
	}
	loop, mounted, err := l.volume("large", "20G")
	if err == nil {
		err = fill(mounted, 2048)
	}
	if err != nil {
		return err
	}
	devices, err := block.Devices([]string{loop})
	if err != nil {
		return err
	}
	var ratios []float64
	for range rounds {
		begun := time.Now()
		if _, err := sh("dd if=$l of=/dev/null bs=1M iflag=direct status=none", "l="+loop); err != nil {
			return err
		}
		whole := time.Since(begun)
		begun = time.Now()
		if err := readUsed(l.ctx, devices[0]); err != nil {
			return err
		}
		ratios = append(ratios, time.Since(begun).Seconds()/whole.Seconds())
	}
	add("what is in use of 20 GiB of ext4 with 2 GiB in it, to reading all of it with dd", "×", 0.15, ratios...)
	return nil
}

func readUsed(ctx context.Context, d block.Device) error {
	r, err := d.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	mounts, err := block.Mounts()
	if err != nil {
		return err
	}
	m, err := block.MapOf(ctx, d, r, mounts)
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(4)
	for _, e := range m.Used.Extents(0, d.Size) {
		for at := e.Offset; e.Kind == disk.Data && at < e.End(); at += 1 << 20 {
			group.Go(func() error {
				_, err := r.ReadAt(block.Buffer(int(min(1<<20, e.End()-at)), 4096), at)
				return err
			})
		}
	}
	return group.Wait()
}

// second compares the second image of a server on which nothing happened with its first.
func (l *lab) second(add Add) error {
	loop, mounted, err := l.volume("quiet", "8G")
	if err == nil { // files as a server has them; they end where the room does
		_, err = sh("cp -a /usr $d/ 2>/dev/null & p=$!; while kill -0 $p 2>/dev/null && test $(df --output=used -B1M $d | tail -1) -lt 5120; do sleep 0.2; done; kill $p 2>/dev/null || true; sync -f $d", "d="+mounted)
	}
	if err != nil {
		return err
	}
	if _, err := l.server("quiet", loop); err != nil {
		return err
	}
	first, err := l.image("quiet")
	if err != nil {
		return err
	}
	var times, bytes []float64
	for range rounds {
		again, err := l.image("quiet")
		if err != nil {
			return err
		}
		times = append(times, float64(again.Took)/float64(first.Took))
		bytes = append(bytes, 100*float64(again.Read)/float64(first.Read))
	}
	add("second image of a server of 5 GiB on which nothing happened, to the first", "×", 0.15, times...)
	add("bytes that travel for it, of the first's", "%", 0.1, bytes...)
	return nil
}

// files is how many small files are saved.
const small = 200_000

// smallFiles compares saving a tree of small files with tar and zstd doing so, and what a second time costs. All is in the page cache.
func (l *lab) smallFiles(add Add) error {
	loop, mounted, err := l.volume("small", "20G")
	if err != nil {
		return err
	}
	tree := filepath.Join(mounted, "tree")
	// A copy of /usr, and of its parts again as long as files are missing; what has no room in memory beside the rest is left out.
	_, err = sh("mkdir $d; n=0; for round in 1 2 3 4; do for part in /usr/share /usr/lib/python3 /usr/include /usr/lib/x86_64-linux-gnu/perl /usr/src /usr/local/go/src; do test -d $part || continue; mkdir -p $d/$round; cp -a $part $d/$round/ 2>/dev/null || true; "+
		"n=$(find $d -type f | wc -l); test $n -lt $f || break 2; done; done; find $d -type f -size +256k -delete; while test $n -lt $f; do n=$((n+1)); echo \"passage $n\" > $d/more-$n; done; sync -f $d", "d="+tree, "f="+strconv.Itoa(small))
	if err != nil {
		return err
	}
	if _, err := l.covered("small", loop, "scope: files\n    folders: ["+tree+"]"); err != nil {
		return err
	}
	pack := func() (float64, error) {
		begun := time.Now()
		_, err := sh("tar -C $d -cf - . | zstd -q -1 -T0 > $o; sync $o; rm $o", "d="+tree, "o="+filepath.Join(l.folder, "tree.tar.zst"))
		return time.Since(begun).Seconds(), err
	}
	if _, err := pack(); err != nil { // which brings it into the page cache
		return err
	}
	first, err := l.image("small")
	if err != nil {
		return err
	}
	var whole, again []float64
	for range rounds {
		reference, err := pack()
		if err != nil {
			return err
		}
		second, err := l.image("small")
		if err != nil {
			return err
		}
		whole = append(whole, time.Duration(first.Took).Seconds()/reference)
		again = append(again, time.Duration(second.Took).Seconds()/reference)
	}
	add(fmt.Sprintf("%d small files, %.1f GiB: saved, to tar with zstd -1 -T0 of the same", first.Files.Entries, float64(first.Files.Bytes)/(1<<30)), "×", 1, whole...)
	add("their second image, on which nothing happened, to the same", "×", 0.1, again...)
	return nil
}

// frozen is how long a server stands still to which 20 MB/s are written.
func (l *lab) frozen(add Add) error {
	loop, mounted, err := l.volume("busy", "4G")
	if err == nil {
		err = fill(mounted, 1024)
	}
	if err != nil {
		return err
	}
	if _, err := l.server("busy", loop); err != nil {
		return err
	}
	stop := make(chan struct{})
	ended := make(chan error, 1)
	go func() { ended <- write(mounted, 20_000_000, stop) }()
	var still []float64
	for range rounds {
		m, err := l.image("busy")
		if err != nil {
			return err
		}
		still = append(still, time.Duration(m.Frozen).Seconds())
	}
	close(stop)
	add("standing still, while 20 MB/s are written", "s", 1, still...)
	return <-ended
}

// write writes files, so many bytes in a second.
func write(folder string, rate int, stop <-chan struct{}) error {
	body := make([]byte, 1_000_000)
	tick := time.NewTicker(time.Second * time.Duration(len(body)) / time.Duration(rate))
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-stop:
			return nil
		case <-tick.C:
		}
		for i := range body[:4096] {
			body[i] = byte(n + i*7)
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("turn-%03d", n%300)), body, 0o600); err != nil {
			return err
		}
	}
}

// large is what an agent of a large disk holds in memory, and what it takes of a processor when nobody asks for anything.
func (l *lab) large(add Add) error {
	loop, mounted, err := l.volume("vast", "4T")
	if err == nil {
		err = fill(mounted, 2048)
	}
	if err != nil {
		return err
	}
	a, err := l.server("vast", loop)
	if err != nil {
		return err
	}
	for range 2 {
		if _, err := l.image("vast"); err != nil {
			return err
		}
	}
	most, err := status(a.Process.Pid, "VmHWM")
	if err != nil {
		return err
	}
	add("memory of an agent whose disk has 4 TiB, 2 GiB of them in use, at most", "MiB", 200, most/1024)
	before, err := processor(a.Process.Pid)
	if err != nil {
		return err
	}
	time.Sleep(idle)
	after, err := processor(a.Process.Pid)
	add("processor time of an agent of whom nothing is asked", "%", 0.1, 100*(after-before).Seconds()/idle.Seconds())
	return err
}

// many is what the service holds for agents of whom nothing is asked.
func (l *lab) many(add Add) error {
	token, err := os.ReadFile(filepath.Join(l.folder, "token"))
	if err != nil {
		return err
	}
	before, err := status(l.service.Process.Pid, "VmRSS")
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(l.ctx)
	defer end()
	var group, joining errgroup.Group
	joining.SetLimit(8)
	log := slog.New(slog.DiscardHandler)
	k := l.client(strings.TrimSpace(string(token)))
	for n := range agents {
		joining.Go(func() error {
			name := fmt.Sprintf("turnstile-%04d", n)
			word, err := k.AdmitAgent(ctx, name, "")
			if err != nil {
				return err
			}
			folder := filepath.Join(l.folder, name)
			id, err := agent.Join(ctx, folder, "https://"+l.address, l.print, name, word.Word)
			if err != nil {
				return err
			}
			a, err := agent.New(agent.Offer{}, folder, log)
			if err == nil {
				group.Go(func() error { return agent.Run(ctx, id, a, log) })
			}
			return err
		})
	}
	if err := joining.Wait(); err != nil {
		return err
	}
	for {
		all, err := k.Agents(ctx)
		if err != nil {
			return err
		}
		n := 0
		for _, a := range all {
			if a.Connected {
				n++
			}
		}
		if n >= agents {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	time.Sleep(idle)
	began, err := processor(l.service.Process.Pid)
	if err != nil {
		return err
	}
	time.Sleep(idle)
	took, err := processor(l.service.Process.Pid)
	if err != nil {
		return err
	}
	after, err := status(l.service.Process.Pid, "VmRSS")
	if err != nil {
		return err
	}
	add("memory of the service for 1,000 agents of whom nothing is asked", "MiB", 150, (after-before)/1024)
	add("processor time of the service meanwhile", "%", 0, 100*(took-began).Seconds()/idle.Seconds())
	end()
	return group.Wait()
}

func (l *lab) client(token string) *client.Client {
	k := client.New("https://"+l.address, token)
	k.Trust(pinned.Config("127.0.0.1", []string{l.print}, nil))
	return k
}

// status is a figure of a process, in KiB.
func status(pid int, name string) (float64, error) {
	body, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(body)) {
		if fields := strings.Fields(line); len(fields) > 1 && fields[0] == name+":" {
			return strconv.ParseFloat(fields[1], 64)
		}
	}
	return 0, fmt.Errorf("process %d tells no %s", pid, name)
}

// processor is the time that a process has taken so far.
func processor(pid int) (time.Duration, error) {
	body, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(body), ") ")
	fields := strings.Fields(rest)
	ticks := 0
	for _, f := range fields[11:13] { // utime and stime (proc(5)), in hundredths of a second
		n, err := strconv.Atoi(f)
		if err != nil {
			return 0, err
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond, nil
}

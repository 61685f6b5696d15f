package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"keenlodge/internal/api"
	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/lodge"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/standin"
	"keenlodge/internal/standin/sound"
	"keenlodge/internal/standin/standintest"
	_ "keenlodge/internal/store/medium/all"
	"keenlodge/internal/store/medium/dir"
)

var update = flag.Bool("update", false, "write the expected outputs anew")

func TestMain(m *testing.M) {
	standintest.Main()
	chunk.PassphraseWork = 5 // a strong one takes a second each time
	recordstest.Main(m)
}

// desk is a command line with a lodge behind it.
type desk struct {
	t                  *testing.T
	url, token, folder string
	// names are what words of a call stand for, and what an output shows in place of what differs between two runs of a test.
	names map[string]string
	host  *sourcetest.Host
	site  site.Site
	lodge *lodge.Lodge
	// held ends what is held up, reached says that it has begun.
	held, reached chan struct{}
	counts        map[string]int
	rec           *records.Records
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	d := &desk{t: t, folder: t.TempDir(), host: lodgetest.Guests(t), counts: map[string]int{}}
	d.names = map[string]string{"FOLDER": d.folder}
	for _, name := range []string{"shelf", "loft", "attic", "barn", "crate", "barn2", "barn3", "pier", "out", "out2"} {
		require.NoError(t, os.Mkdir(filepath.Join(d.folder, name), 0o700))
	}
	d.site = lodgetest.Site(t, map[string]site.Policy{
		"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Schedules: []site.Schedule{{When: "every day at 23:00"}}, Rotation: "newest 1"},
		"weekly-tickets": {Machines: []string{"tickets-db"}, Store: "shelf", Rotation: "newest 9"},
		"hourly-tickets": {Machines: []string{"tickets-db"}, Store: "loft", Rotation: "newest 9", Cycle: "full every 7th"},
	})
	d.site.TasksAtOnce = 1 // so that images come in one order
	d.site.Stores["shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: filepath.Join(d.folder, "shelf")}}
	d.site.Stores["loft"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: filepath.Join(d.folder, "loft")}}
	rec := recordstest.Open(t)
	d.rec = rec
	d.lodge, _ = lodgetest.Serve(t, rec, io.Discard)
	d.apply()
	server := httptest.NewServer(api.New(d.lodge, slog.New(slog.DiscardHandler), http.NotFoundHandler()))
	t.Cleanup(server.Close)
	d.url = server.URL
	d.token = filepath.Join(d.folder, "token")
	require.NoError(t, os.WriteFile(d.token, []byte(lodgetest.Token(t, d.lodge, "first", "administrator")+"\n"), 0o600))
	return d
}

func (d *desk) apply() {
	d.t.Helper()
	_, err := d.lodge.Apply(d.t.Context(), d.site, false)
	require.NoError(d.t, err)
}

func (d *desk) file(name, text string) {
	d.t.Helper()
	require.NoError(d.t, os.WriteFile(filepath.Join(d.folder, name), []byte(text), 0o600))
}

// do is what happens in the world between two calls.
func (d *desk) do(what string) {
	d.t.Helper()
	switch what {
	case "anew": // the machines are taken down and made anew under their names
		for _, name := range []string{"timetable", "tickets-db"} {
			d.host.Remove(name)
			lodgetest.AddGuest(d.host, name, "u-new-"+name, nil, 3)
		}
	case "hold": // the one task at once that may run does not come on
		d.held, d.reached = make(chan struct{}), make(chan struct{}, 1)
		d.host.SetFault(func(call, guest string) error {
			if call == "capture" && guest == "tickets-db" {
				d.reached <- struct{}{}
				<-d.held
			}
			return nil
		})
	case "held": // it is under way
		<-d.reached
	case "waiting": // the newest run has begun, and waits for its turn
		require.Eventually(d.t, func() bool {
			list, _, err := d.lodge.Runs.List(d.t.Context(), records.RunFilter{Page: listing.Page{Limit: 1}})
			require.NoError(d.t, err)
			tasks, err := d.lodge.Runs.Tasks(d.t.Context(), list[0].ID, 0, 1)
			require.NoError(d.t, err)
			return len(tasks) == 1 && tasks[0].Why != ""
		}, 20*time.Second, 20*time.Millisecond)
	case "release":
		close(d.held)
		d.host.SetFault(nil)
	case "short": // rules become shorter, by so much that a guard holds them back
		for _, name := range []string{"weekly-tickets", "hourly-tickets"} {
			p := d.site.Policies[name]
			p.Rotation = "newest 1"
			d.site.Policies[name] = p
		}
		d.apply()
	case "trials": // images may be tried on the hypervisor, and what is tried comes up; something is owed
		h := d.site.Hypervisors["quay-1"]
		h.Trials = &expect.Trials{AtOnce: 2}
		d.site.Hypervisors["quay-1"] = h
		d.site.Groups = map[string]site.Group{"ticketing": {Machines: []string{"timetable"}, Note: "tickets can be sold while it runs"}}
		p := d.site.Policies["nightly-guests"]
		p.Promise, p.Trials = "26 hours, boot weekly, 2 copies", []expect.Trial{{Text: "the timetable is served"}}
		d.site.Policies["nightly-guests"] = p
		d.apply()
		d.host.OnTrial = func(t *sourcetest.Trial) { t.Serial = "the timetable is served" }
		d.t.Cleanup(func() { os.RemoveAll(d.host.Folder()) })
	case "copies": // images are kept elsewhere, too
		d.site.Stores["north-pier"] = site.Store{Medium: "dir", Layout: site.Pooled, Like: "shelf", Place: "north-pier", Settings: &dir.Settings{Folder: filepath.Join(d.folder, "pier")}}
		d.site.Copies = map[string]site.Copy{"to-north-pier": {From: "shelf", To: "north-pier", Schedules: []string{"every day at 05:00"}, Rotation: "30 daily"}}
		d.apply()
	case "elsewhere": // a policy has another store
		p := d.site.Policies["weekly-tickets"]
		p.Formerly, p.Store = []string{p.Store}, "north-pier"
		d.site.Policies["weekly-tickets"] = p
		d.apply()
	case "unusual": // so is an image
		require.NoError(d.t, d.rec.AddUnusual(d.t.Context(), d.names["IMAGE-02"], []unusual.Sign{{Kind: unusual.Kinds[d.counts[what]], Text: "renamed: 30 of 40 data files have another name"}}))
		d.counts[what]++
	case "server": // there is one with files
		tree := filestest.Tree{}
		tree.Add("etc/hosts", []byte("127.0.0.1 gate-07\n"))
		tree.Add("etc/odd\xff\n", []byte("odd"))
		tree.Add("etc/cron.d/night", []byte("0 3 * * * root /usr/local/bin/count\n"))
		v := tree["etc/cron.d/night"]
		v.Part = "jobs"
		tree["etc/cron.d/night"] = v
		v = tree["etc/hosts"]
		v.Path, v.Unread, v.Data, v.Content = "etc/shadow", "input/output error", []files.Span{}, nil
		tree["etc/shadow"] = v
		lodgetest.AddGuest(d.host, "gate-07", "u-gate-07", nil, 1)
		d.host.Change("gate-07", func(g *sourcetest.Guest) {
			g.Files = tree
			g.Parts = []source.PartOf{{Name: "configuration", About: "the rest of the configuration", Mandatory: true, Paths: []string{"/etc"}, Files: 3, Bytes: 21},
				{Name: "jobs", About: "scheduled jobs", Paths: []string{"/etc/cron.d", "/etc/cron.daily", "/etc/crontab", "/var/spool/cron"}, Files: 1, Bytes: 36, Output: []string{"timers"}, Trouble: []string{"/etc/cron.daily: permission denied"}}}
		})
		d.site.Policies["weekly-system"] = site.Policy{Machines: []string{"gate-07"}, Scope: image.SystemState, Store: "shelf", Rotation: "newest 5"}
		d.apply()
	case "changed": // its files did
		d.host.Change("gate-07", func(g *sourcetest.Guest) {
			tree := maps.Clone(g.Files)
			delete(tree, "etc/odd\xff\n")
			tree.Add("etc/motd", []byte("the north pier\n"))
			tree.Add("etc/hosts", []byte("127.0.0.1 gate-07 gate\n"))
			g.Files = tree
		})
	case "exchange": // there is an appliance, and a fresh one beside it
		for _, name := range []string{"sound-gateway", "sound-spare"} {
			s := standintest.Start(d.t, sound.Kind, standin.Options{})
			s.Must(http.MethodPut, "/inside/settings", map[string]any{"name": name}, nil)
			spec := s.Site
			spec.URI, spec.Export = spec.URI+"/"+sound.Nodes[0], &export.Settings{PassphraseFile: filepath.Join(d.folder, "exchange-passphrase")}
			d.site.Hypervisors[name] = spec
			if name == "sound-gateway" {
				d.file("exchange-passphrase", "tern\n")
				require.NoError(d.t, s.Send(d.t.Context(), http.MethodPut, "/inside/parts/routing?mandatory=true&about=where+calls+go", 9, strings.NewReader("0>trunk-1"), nil))
				require.NoError(d.t, s.Send(d.t.Context(), http.MethodPut, "/inside/parts/history", 5, strings.NewReader("a day"), nil))
			}
		}
		d.site.Policies["nightly-exchange"] = site.Policy{Machines: []string{"sound-gateway"}, Scope: image.Exported, LeaveOut: []string{"history"}, Store: "shelf", Rotation: "newest 5"}
		d.apply()
	default:
		d.t.Fatalf("%q does not happen", what)
	}
}

// call runs a command.
func (d *desk) call(words ...string) (out, told string, code int) {
	args := []string{"keenlodge", "--url", d.url, "--token-file", d.token}
	for _, w := range words {
		for name, is := range d.names {
			w = strings.ReplaceAll(w, name, is)
		}
		args = append(args, w)
	}
	var stdout, stderr bytes.Buffer
	code = execute(d.t.Context(), newApp(&stdout, d.onHost()), args, &stderr)
	return stdout.String(), stderr.String(), code
}

// learn gives names to what is new in a list.
func (d *desk) learn(kind string, words ...string) {
	d.t.Helper()
	out, told, code := d.call(append(words, "-o", "json")...)
	if code != 0 {
		return // there is no such list yet
	}
	var found []struct {
		ID  string `json:"id"`
		Run string `json:"run"` // which a drill is called by
	}
	require.NoError(d.t, json.Unmarshal([]byte(out), &found), told)
	if kind == "RUN" || kind == "SNAPSHOT" {
		slices.Reverse(found) // the newest is first
	}
	for _, f := range found {
		if kind == "DRILL" {
			f.ID = f.Run
		}
		if !slices.Contains(slices.Collect(maps.Values(d.names)), f.ID) {
			d.counts[kind]++
			d.names[fmt.Sprintf("%s-%02d", kind, d.counts[kind])] = f.ID
		}
	}
}

// plain takes away what differs between two runs of a test: moments, identities, durations, and what hangs on their widths.
func (d *desk) plain(text string) string {
	d.learn("DRILL", "drill", "list")
	d.learn("RUN", "run", "list", "--all")
	d.learn("IMAGE", "image", "list", "--all", "--gone", "--sort", "taken")
	d.learn("SNAPSHOT", "snapshot", "list", "--gone")
	d.learn("KEY", "store", "key", "list", "attic")
	for name, is := range d.names {
		text = strings.ReplaceAll(text, is, name)
	}
	for _, r := range varying {
		text = r.form.ReplaceAllString(text, r.with)
	}
	return text
}

var varying = []struct {
	form *regexp.Regexp
	with string
}{
	{regexp.MustCompile(`[A-Za-z0-9+/]{43}=|\b[a-z2-7]{52}\b`), "SECRET"}, // first, for anything may look like a time in it
	{regexp.MustCompile(`\b[2-9a-z]{4}-[2-9a-z]{4}-[2-9a-z]{4}\n|"secret": "[2-9a-z]{12}"`), "CODE\n"},
	{regexp.MustCompile(`rescue-[a-z2-7]{8}`), "rescue-NAME"},
	{regexp.MustCompile(`http://127\.0\.0\.1:\d+`), "URL"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d(T\d\d:\d\d:\d\dZ?| \d\d:\d\d(:\d\d)?)?`), "WHEN"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`), "WHEN"},
	{regexp.MustCompile(`\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun) WHEN`), "WHEN"},
	{regexp.MustCompile(`\b(token|key)=\S+|whsec_\S+`), "SECRET"},
	{regexp.MustCompile(`\b\d+(\.\d+)? [KMG]iB/s`), "SPEED"},
	{regexp.MustCompile(`\b\d+(\.\d+)?(ms|s)\b`), "TIME"},
	{regexp.MustCompile(`\b\d+ (s|min|h) (old|ago)\b`), "TIME $2"},
	{regexp.MustCompile(`"/(root|home)/[^"]*"`), "HOME"},
	{regexp.MustCompile(`\b\d+ pieces\b`), "N pieces"}, // each store cuts otherwise
	{regexp.MustCompile(`\b[\d.]+ [KM]iB each on the mean`), "SIZE each on the mean"},
	{regexp.MustCompile(`\bRUN-\d\d\b`), "RUN"}, // upkeep has runs of its own, when it comes to it
	{regexp.MustCompile(`[ \t]+`), " "},
	{regexp.MustCompile(` \n`), "\n"},
	{regexp.MustCompile(`(?m)^WHEN \S+ [a-z ]*ing\b.* \d\S* (B|KiB|MiB)\n`), ""}, // a step that was long enough to be seen
}

// A day at the desk: what each command shows people is as in testdata, what it gives programs is JSON, and no command is left out.
func TestCommands(t *testing.T) {
	t.Setenv("TZ", "Europe/Lisbon")
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	d := newDesk(t)
	d.file("word", "a long pass phrase of the harbour\n")
	d.file("word2", "another pass phrase of the harbour\n")
	crane := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(crane.Close)
	d.file("site.yaml", "stores:\n  barn: {folder: "+d.folder+"/barn, medium: dir}\nwebhooks:\n  crane: {url: \""+crane.URL+"/hook\", events: [image-broken, run-failed]}\n")
	d.file("try.json", `{"rule": "newest 1", "now": "2026-03-02T10:00:00Z", "zone": "UTC", "images": [{"id": "a", "taken": "2026-03-01T22:00:00Z", "state": "usable"}, {"id": "b", "taken": "2026-03-01T23:00:00Z", "state": "usable"}]}`)
	var transcript strings.Builder
	shown, machines := map[string]bool{}, map[string]bool{}
	for line := range strings.Lines(strings.TrimSpace(day)) {
		line = strings.TrimSpace(line)
		if what, ok := strings.CutPrefix(line, "! "); ok {
			d.do(what)
			continue
		}
		call, ends, _ := strings.Cut(line, " => ")
		words := strings.Fields(call)
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], "·", " ")
		}
		code := map[string]int{"failed": exitFailed, "usage": exitUsage, "warned": exitWarned}[ends] // 0 where it varies
		out, told, got := d.call(words...)
		assert.Equal(t, code, got, "%s\n%s%s", call, out, told)
		verb := d.verb(words[firstWord(words):])
		if code == 0 && slices.Contains(words, "json") {
			machines[verb] = true
			assert.True(t, json.Valid([]byte(out)), "%s:\n%s", call, out)
			continue
		}
		shown[verb] = shown[verb] || code == 0
		out, told = d.plain(out), d.plain(told)
		if ends != "varies" { // with the hour
			fmt.Fprintf(&transcript, "$ keenlodge %s\n%s%s\n", strings.Join(words, " "), out, told)
		}
	}
	d.leaves(newApp(io.Discard, d.onHost()), nil, func(path string, c *cli.Command) {
		elsewhere := path == "agent join" || path == "agent run" || path == "agent parts" || path == "image serve" || path == "image boot" || path == "image unlock" || path == "rescue make" // these need TLS, or go on, or a hypervisor; they are tried with the whole program
		assert.True(t, shown[path] || elsewhere, "no table of %s", path)
		if slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), "output") }) {
			assert.True(t, machines[path] || elsewhere, "no JSON of %s", path)
		}
	})
	file := filepath.Join("testdata", "day.txt")
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(transcript.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, strings.Split(string(want), "\n"), strings.Split(transcript.String(), "\n"), "if this is as it should be: go test ./internal/cli -update")
}

// leaves visits every verb.
func (d *desk) leaves(c *cli.Command, path []string, visit func(string, *cli.Command)) {
	for _, sub := range c.Commands {
		d.leaves(sub, append(slices.Clone(path), sub.Name), visit)
	}
	if len(c.Commands) == 0 {
		visit(strings.Join(path, " "), c)
	}
}

// firstWord is where the noun stands: after the flags that every command has.
func firstWord(words []string) int {
	at := 0
	for strings.HasPrefix(words[at], "--") {
		at += 2
	}
	return at
}

// verb is the path of the verb that words call.
func (d *desk) verb(words []string) (verb string) {
	d.leaves(newApp(io.Discard, d.onHost()), nil, func(path string, _ *cli.Command) {
		if strings.HasPrefix(strings.Join(words, " ")+" ", path+" ") {
			verb = path
		}
	})
	return verb
}

// day is what is called. Each call ends well unless => says how; "·" is a space within a word, "!" something that happens.
const day = `
machine list
machine list -o json
machine list --unprotected
hypervisor list
hypervisor list -o json
hypervisor around quay-1
hypervisor around quay-1 -o json
hypervisor find
hypervisor find -o json
hypervisor probe quay-1
hypervisor probe quay-1 -o json
hypervisor probe --uri qemu+ssh://quay-1/system => failed
hypervisor probe => usage
hypervisor add pier-2 => usage
hypervisor add quay-1 --kind fake --uri cli-pier => failed
hypervisor add pier-2 --uri qemu+tls://pier-2.brindle.example/system => failed
hypervisor add pier-2 --kind fake --uri cli-pier
hypervisor add islet-3 --kind fake --uri cli-islet -o json
hypervisor add pier-3 --kind fake --uri cli-pier => failed
hypervisor list
store list => varies
store list -o json
store probe quay-shelf
store probe quay-shelf -o json
store probe nowhere => failed
policy list
policy list -o json
policy rehearse nightly-guests
policy rehearse nightly-guests -o json
policy run nightly-guests --wait
policy run nightly-guests --wait -o json
policy run weekly-tickets -w --note harbour
policy run weekly-tickets -w -o json
policy run hourly-tickets -w
policy run hourly-tickets -w -o json
policy run hourly-tickets -w -o json
policy run nightley => failed
run list
run list --limit 2
run list --limit 2 -o json
run list --kind bakup => usage
run show RUN-05
run show -o json
run watch RUN-05
run watch -o json
run log RUN-05
run log -o json
run cancel RUN-05 => failed
! hold
policy run weekly-tickets
! held
policy run nightly-guests
! waiting
run cancel RUN-11 --reason harbour
policy run nightly-guests
! waiting
run cancel RUN-12 -o json
! release
run watch RUN-10 -o json
run watch RUN-11 => failed
image list
image list -o json
image list --machine timtable => failed
image list --sort colour => failed
image show IMAGE-01
image show IMAGE-01 -o json
image prove IMAGE-03 --wait
image prove IMAGE-03 --wait -o json
image show IMAGE-03
image prove IMAGE-03 --level boat => usage
image prove IMAGE-03 --level boot => failed
image pin IMAGE-03 --note harbour
image pin IMAGE-03 -o json
image unpin IMAGE-03
image unpin IMAGE-03 -o json
image restore IMAGE-03 --as tickets-two --wait
image restore IMAGE-03 --as tickets-three -w -o json
image restore IMAGE-03 --as tickets-db --wait => failed
image fold IMAGE-03 => failed
image fold IMAGE-06 --wait
image fold IMAGE-07 --wait -o json
image history
image history -o json
rotation preview nightly-guests
rotation preview nightly-guests --rule newest·1,5 => failed
rotation preview nightly-guests -o json
rotation confirm nightly-guests --yes => failed
policy run weekly-tickets -w -o json
policy run weekly-tickets -w -o json
policy run weekly-tickets -w -o json
policy run hourly-tickets -w -o json
policy run hourly-tickets -w -o json
! short
rotation preview weekly-tickets
rotation confirm weekly-tickets --yes
rotation confirm hourly-tickets --yes -o json
image undrop IMAGE-03
image undrop IMAGE-04 -o json
rotation try FOLDER/try.json
rotation try FOLDER/try.json -o json
rotation draw --nights 7 => varies
policy forecast weekly-tickets --days 2 => varies
policy forecast weekly-tickets --days 2 -o json
policy pause nightly-guests --reason harbour
policy list
policy pause nightly-guests -o json
policy resume nightly-guests
schedule next every·day·at·23:00 --from 2026-03-01T00:00:00Z
schedule next every·day·at·23:00 -o json
schedule next every·2nd·tuesday·at·04:00 => usage
schedule explain every·day·at·02:30 --zone Europe/Lisbon --from 2026-03-27T00:00:00Z
schedule explain every·day·at·02:30 -o json
machine retire timetable --yes
machine list
machine unretire timetable
machine retire timetable --yes --keep newest => failed
machine retire timetable --yes -o json
machine unretire timetable
machine continue tickets-db timetable => failed
! anew
hypervisor find
machine list
machine continue timetable u-timetable
machine continue tickets-db u-tickets -o json
machine list
store show quay-shelf
store show quay-shelf -o json
store check quay-shelf
store check quay-shelf -o json
store sweep quay-shelf --dry-run
store sweep quay-shelf
store sweep quay-shelf -o json
store adopt quay-shelf
store adopt quay-shelf -o json
store add attic --folder FOLDER/attic --sealed --yes --passphrase-file FOLDER/word
store add barn --folder FOLDER/barn -o json
store add barn --folder FOLDER/barn => failed
store add crate --folder FOLDER/crate --removable
store release barn => failed
store release crate --undo
store release crate --undo -o json
store key list attic
store key list attic -o json
store key add attic --label second --passphrase-file FOLDER/word2
store key remove attic KEY-02
store key add attic --label third --passphrase-file FOLDER/word2 -o json
store key list attic
store key remove attic KEY-03 -o json
store key remove attic KEY-01 => failed
store key prove attic --passphrase-file FOLDER/word
store key prove attic --passphrase-file FOLDER/word -o json
store key prove attic --passphrase-file FOLDER/word2 => failed
store key prove quay-shelf --passphrase-file FOLDER/word => failed
store unlock attic --passphrase-file FOLDER/word
store unlock attic --passphrase-file FOLDER/word -o json
store unlock attic --passphrase-file FOLDER/try.json => failed
store secret attic => usage
store secret attic --medium s3 --access-key crane --secret-file FOLDER/word
store secret attic --medium s3 --access-key crane --secret-file FOLDER/word -o json
store extract FOLDER/shelf IMAGE-03 --to FOLDER/out
store extract FOLDER/shelf IMAGE-03 --to FOLDER/out2 -o json
store extract FOLDER/nowhere => failed
site show
site show -o json
site apply FOLDER/site.yaml --try
site apply FOLDER/site.yaml
site apply FOLDER/site.yaml -o json
site show
webhook list
webhook list -o json
webhook key crane
webhook key crane -o json
webhook try crane
calendar address
calendar address -o json
audit list --limit 6
audit list --to policies/nightly-guests --result refused
audit list --did run-polciy => failed
audit list --result refusd => usage
audit list --limit 2 -o json
token new night-watch => usage
token new night-watch --role captain => failed
token new Night·Watch --role viewer => failed
token new night-watch --role operator·of·policies·nightly-*
token new web-desk --role viewer·of·tags·role=web;·places·harbour-office,·north-pier --role restorer·of·machines·timetable,·lighthouse --for 30·days --to FOLDER/web-desk
token new web-desk --role viewer => failed
token new rescue --on-this-host => usage
token new rescue --on-this-host --database nowhere --role captain => usage
token new rescue --on-this-host --database nowhere --for 1·hour
token list
token list -o json
token show
token show -o json
token renew web-desk --for 60·days --to FOLDER/web-desk
token renew web-dsk => failed
token renew web-desk --for 2·years => failed
token revoke rescue
token revoke rescue => failed
token revoke first => failed
session list
session list -o json
session end nosuch => failed
session end => usage
session end --all
session end --everybody
--reason left·the·company token revoke night-watch
audit list --limit 3
audit list --limit 2 --lines => varies
audit list --since 1·hour --until 2026-01-01 -o json
audit list --since yesterday => usage
audit verify => varies
token new --on-this-host --database nowhere --to FOLDER/spare-token => varies
authority show => varies
authority show -o json
authority spare --to FOLDER/spare
authority spare --to FOLDER/spare => failed
authority renew => failed
authority renew --spare FOLDER/word => failed
authority renew --spare FOLDER/spare => varies
machine enroll gate-07 => varies
machine enroll gate-07 -o json
machine enroll Gate·07 => failed
machine enroll gate-07 --source quay-1 => failed
machine enroll gate-07 --source north => failed
agent list => varies
agent list -o json
agent join gate-07 => usage
agent join gate-07 --lodge http://lodge.brindle.example --fingerprint x --word-file FOLDER/word => failed
agent run --folder FOLDER/nowhere => failed
machine dismiss gate-07
machine dismiss gate-07 => failed
machine dismiss gate-70 => failed
vault new-key => usage
vault new-key --database nowhere
vault drop-old-keys --database nowhere => failed
vault reseal
vault reseal -o json
vault drop-old-keys --database nowhere
audit verify -o json
--token-file FOLDER/web-desk policy run weekly-tickets => failed
--token-file FOLDER/web-desk token show
--token-file FOLDER/web-desk token new mine --role administrator => failed
--token-file FOLDER/mine sign-in --from FOLDER/token
--token-file FOLDER/mine sign-in --from FOLDER/word => failed
--token-file FOLDER/mine token show
--token-file FOLDER/mine sign-out
--token-file FOLDER/mine policy list => failed
policy pause nightly-guests --help
imgae => usage
policy => usage
! server
hypervisor find -o json
machine parts gate-07
machine parts gate-07 --quick
machine parts gate-07 -o json
machine parts timetable => failed
policy run weekly-system -w => warned
run show --unread
run show --unread -o json
image list --policy weekly-system
image show IMAGE-14
image files IMAGE-14
image files IMAGE-14 /etc/cron.d --part jobs
image files IMAGE-14 --unread
image files IMAGE-14 etc/hosts -o json
image files IMAGE-14 etc -o mtree
image files IMAGE-14 /nope => failed
image files IMAGE-14 sda1:/etc => failed
image cat IMAGE-14 /etc/cron.d/night
image cat IMAGE-14 /etc => failed
image cat IMAGE-14 /nope => failed
image cat IMAGE-14 => usage
image download IMAGE-14 /etc --to FOLDER/etc.tar
image download IMAGE-14 /etc/cron.d/night --to FOLDER/night
image download IMAGE-14 / --to FOLDER/all.zip
image download IMAGE-14 /etc --to FOLDER/etc.tar => failed
image download IMAGE-14 /nope --to FOLDER/nope.zip => failed
image serve IMAGE-14 => failed
image files IMAGE-14 / --below -o mtree
! changed
policy run weekly-system -w => warned
image diff IMAGE-14 IMAGE-15
image diff IMAGE-14 IMAGE-15 /etc/hosts -o json
image diff IMAGE-14 IMAGE-15 /etc/motd
image diff IMAGE-14 IMAGE-15 /nope => failed
image diff IMAGE-14 IMAGE-15 /etc/cron.d
restore files IMAGE-14 /etc/hosts --preview
restore files IMAGE-14 --preview -o json
restore files IMAGE-14 --part jobs --preview
restore files IMAGE-14 --part jobbs --preview => failed
restore files IMAGE-14 /etc/hosts => usage
restore files IMAGE-14 /etc/hosts --existing mine => usage
restore files IMAGE-14 /etc/hosts --into etc --preview => failed
restore files IMAGE-14 /etc --machine timetable --preview
restore files IMAGE-14 /etc/hosts --snapshot --yes -w
restore undo --help
restore undo => usage
restore undo RUN-30 -w
restore undo RUN-30 -w => failed
restore files IMAGE-14 /etc/hosts --yes -w -o json
run list --limit 1
restore undo RUN-33 -w -o json
restore files => usage
restore files IMAGE-14 /etc --here FOLDER/here --preview
restore files IMAGE-14 /etc --here FOLDER/here --preview -o json
restore files IMAGE-14 /etc --here FOLDER/here --yes => failed
restore files IMAGE-14 /etc/hosts /etc --here FOLDER/here --yes => failed
restore files IMAGE-14 --here FOLDER/here => usage
restore files IMAGE-14 /etc --here FOLDER/here --machine timetable => usage
restore files IMAGE-14 /nowhere --here FOLDER/here => failed
image boot IMAGE-13 => failed
restore machine IMAGE-13 --as timetable-three --preview
restore machine IMAGE-13 --as timetable-three --preview -o json
restore machine IMAGE-14 --as gate-08 => failed
restore machine IMAGE-13 --as timetable-two -w
restore machine IMAGE-13 --as timetable-three -w -o json
image files --machine gate-07 --find HOST --open
image files --machine gate-07 --find *.d/* --versions
image files --machine gate-07 --find odd -o json
image files --machine gate-07 --find [ => failed
image files --find hosts => usage
image diff IMAGE-14 --now
image diff IMAGE-14 --now /etc/hosts -o json
image unlock IMAGE-14 vda3 --key-file FOLDER/none => failed
image diff IMAGE-14 IMAGE-13 => failed
image diff IMAGE-14 => usage
image files IMAGE-13 => failed
image files IMAGE-13 /etc => failed
image files => usage
image prove IMAGE-14 --level mount => failed
image prove IMAGE-14 -w
image restore IMAGE-14 --as gate-08 => failed
! trials
group list
group list -o json
promise list --machine timetable
group prove ticketing --wait => varies
group prove ticketing -o json
group prove tickets => failed
promise list
promise list -o json
promise list --standing kept
promise list --standing well => usage
image evidence IMAGE-02 --into FOLDER/out3 => varies
image evidence IMAGE-02 --into FOLDER/out3 -o json
image evidence IMAGE-14 => failed
drill list
drill run ticketing --wait => varies
drill run => failed
drill run nowhere => failed
drill list -o json
drill run timetable -o json
drill show DRILL-01 => varies
drill show DRILL-01 -o json
drill page DRILL-01 --into FOLDER/out4 => varies
drill page DRILL-01 --into FOLDER/out4 -o json
drill show nowhere => failed
image seen IMAGE-02 => failed
! unusual
image show IMAGE-02 => varies
image seen IMAGE-02 --note harbour
! unusual
image seen IMAGE-02 -o json
policy forecast nightly-guests --days 1 => varies
image export IMAGE-02 --as vmdk --disk vda --to FOLDER/out5
image export IMAGE-02 --as vhdx --to FOLDER/out5
image export IMAGE-02 --as vhdx --to FOLDER/out5 => failed
image export IMAGE-02 --as ova --to FOLDER/out5
image export IMAGE-02 --as raw --to FOLDER/out5
image export IMAGE-02 --as raw --to FOLDER/out5 => failed
image export IMAGE-02 --to FOLDER/out5
image export IMAGE-01 --to - => failed
image export IMAGE-02 --disk vdz => failed
image export IMAGE-02 --as iso => failed
image export IMAGE-14 --to FOLDER/out5
rescue code --machine timetable
rescue code -o json
rescue code --machine timetable --for 900·days => failed
rescue make => usage
image restore IMAGE-02 => usage
image restore IMAGE-02 --over timetable --typed timetables => failed
image restore IMAGE-02 --over timetable => failed
image restore IMAGE-02 --into timetable --disk vda --preview
image restore IMAGE-02 --into timetable --disk vdz => failed
image clone IMAGE-02 --as web-{01..03} --preview
image clone IMAGE-02 --as web-{01..03} --preview -o json
image clone IMAGE-02 --as web-{3..1} => usage
image clone IMAGE-02 --as web-{01..200} => failed
image clone IMAGE-02 --as web-a web-b web-a => failed
image restore IMAGE-02 --as web-04 --size vda=8MiB --preview
image restore IMAGE-02 --as web-04 --size vda=8MiB --preview -o json
image restore IMAGE-02 --as web-04 --size vda=large => usage
image restore IMAGE-02 --as web-04 --size vdz=8MiB => failed
image restore IMAGE-02 --as web-04 --size vda=8MiB --at-once => failed
image import FOLDER/out5/timetable-vda.vmdk FOLDER/out5/timetable-vda.vhdx --machine ferry-archive --store quay-shelf --note brought
image import FOLDER/out5/timetable.ova --machine ferry-archive --store quay-shelf -o json
image import FOLDER/out5/timetable.ova --store quay-shelf => failed
image import FOLDER/out5/timetable.ova --machine x --store nowhere => failed
image import FOLDER/out5/timetable.ova FOLDER/out5/timetable-vda.raw --machine x --store quay-shelf => failed
image import FOLDER/out5/gate-07.tar --machine x --store quay-shelf => failed
image import FOLDER/none.vmdk --store quay-shelf => failed
image import --store quay-shelf => usage
image list --machine ferry-archive
! copies
copy list
copy list -o json
copy rehearse to-north-pier
copy rehearse to-north-pier -o json
copy run to-north -w => varies
copy run to-north-pier -w -o json
copy run nowhere => failed
copy export to-north-pier
copy export to-north-pier -o json
copy import to-north-pier
copy import to-north-pier -o json
copy import nowhere => failed
copy images to-north-pier
copy images to-north-pier --force -o json
copy list
copy pause to-north-pier --reason mending
copy pause to-north-pier -o json
copy run to-north-pier => failed
copy resume to-north-pier
policy forecast to-north-pier --days 2 -o json
rotation preview to-north-pier => varies
image list --store north-pier
! elsewhere
rotation preview weekly-tickets
policy gather weekly-tickets
policy gather weekly-tickets -o json
policy gather nightly-guests => failed
rotation preview weekly-tickets
store move north-pier --folder FOLDER/barn2
store move north-pier --folder FOLDER/barn3 -o json
store move north-pier --folder FOLDER/barn3 => failed
store move nowhere --folder FOLDER/barn2 => failed
store move north-pier --folder FOLDER/barn => failed
snapshot list
snapshot take timetable --note before·the·upgrade -w
snapshot take timetable --keep 2·days -w -o json
snapshot take timetable --keep long => failed
snapshot list
snapshot list timetable --others -o json
snapshot list --others => usage
snapshot pin SNAPSHOT-02 --note until·it·is·over
snapshot drop SNAPSHOT-02 => failed
snapshot list
snapshot unpin SNAPSHOT-02
snapshot back SNAPSHOT-02 --show
snapshot back SNAPSHOT-02 --show -o json
snapshot back SNAPSHOT-02 --typed timetable => failed
snapshot back SNAPSHOT-02 --power-off --typed timetables => failed
snapshot back SNAPSHOT-02 --power-off --typed timetable -w
snapshot drop SNAPSHOT-02 -w
snapshot take timetable -w
snapshot drop SNAPSHOT-04 -w -o json
snapshot list --gone
! exchange
machine list --text sound
machine parts sound-gateway
policy rehearse nightly-exchange => varies
policy run nightly-exchange -w
image list --machine sound-gateway
image show IMAGE-23
image prove IMAGE-23 --level mount -w
restore export IMAGE-23 --preview
restore export IMAGE-23 --preview -o json
restore export IMAGE-23 --typed gateway => failed
restore export IMAGE-23 --typed sound-gateway -w
restore export IMAGE-23 --machine sound-spare -o json -w
restore export IMAGE-01 => failed
policy run nightly-exchange
`

// onHost is what the service's program does on its host.
func (d *desk) onHost() Host {
	return Host{
		NewToken: func(ctx context.Context, _, name string, grants []right.Grant, good time.Duration) (string, time.Time, error) {
			t, secret, err := d.lodge.Access.NewToken(ctx, "this host", name, grants, good)
			return secret, t.Expires, err
		},
		NewKey:      func(context.Context, string, string) (string, error) { return "lodge-key", d.lodge.Vault.NewKey() },
		DropOldKeys: func(ctx context.Context, _, _ string) (int, error) { return d.lodge.Vault.DropOldKeys(ctx) },
	}
}

package ignore

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func Example() {
	rules, err := Parse([]string{"*.log", "!gate.log", "/var/cache/"})
	if err != nil {
		panic(err)
	}
	for _, path := range []string{"var/log/boat.log", "var/log/gate.log", "var/cache/list"} {
		by, out := rules.LeftOut(path, false)
		fmt.Println(path, out, rules.Text(by))
	}
	// Output:
	// var/log/boat.log true *.log
	// var/log/gate.log false !gate.log
	// var/cache/list true /var/cache/
}

// git asks git itself which pattern decides on each path; folders end with a slash. -1 is none. Paths that another one is in the way of are left
// out: they are returned, too.
func git(t *testing.T, folder string, patterns, wanted []string) (paths []string, by []int) {
	t.Helper()
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, e := range entries {
		if e.Name() != ".git" {
			require.NoError(t, os.RemoveAll(filepath.Join(folder, e.Name())))
		}
	}
	var asked []string
	for _, path := range wanted {
		name, isFolder := strings.CutSuffix(path, "/")
		full := filepath.Join(folder, name)
		if !isFolder && os.MkdirAll(filepath.Dir(full), 0o700) == nil && os.WriteFile(full, nil, 0o600) == nil || isFolder && os.MkdirAll(full, 0o700) == nil {
			paths, asked = append(paths, path), append(asked, name)
		}
	}
	file := filepath.Join(folder, ".git", "info", "exclude")
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(patterns, "\n")+"\n"), 0o600))
	c := exec.Command("git", "-c", "core.excludesFile=/dev/null", "check-ignore", "--no-index", "--verbose", "--non-matching", "-z", "--stdin")
	c.Dir, c.Stdin = folder, strings.NewReader(strings.Join(asked, "\x00"))
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Run(); err != nil && c.ProcessState.ExitCode() != 1 {
		t.Fatalf("git: %v: %s", err, errs.String())
	}
	fields := strings.Split(strings.TrimSuffix(out.String(), "\x00"), "\x00")
	require.Len(t, fields, 4*len(asked))
	for i := range asked {
		line := 0
		if fields[4*i+1] != "" {
			_, err := fmt.Sscan(fields[4*i+1], &line)
			require.NoError(t, err)
		}
		require.Equal(t, asked[i], fields[4*i+3])
		by = append(by, line-1)
	}
	return paths, by
}

// repository makes an empty one of git's.
func repository(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	c := exec.Command("git", "init", "-q", folder)
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_TEMPLATE_DIR=")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.MkdirAll(filepath.Join(folder, ".git", "info"), 0o700))
	return folder
}

// agree compares our answer on each path with git's.
func agree(t *testing.T, folder string, patterns, paths []string) {
	t.Helper()
	rules, err := Parse(patterns)
	require.NoError(t, err)
	paths, wanted := git(t, folder, patterns, paths)
	for i, want := range wanted {
		path, isFolder := strings.CutSuffix(paths[i], "/")
		by, out := rules.LeftOut(path, isFolder)
		require.Equal(t, want, by, "path %q by patterns %q", paths[i], patterns)
		require.Equal(t, want >= 0 && !strings.HasPrefix(patterns[want], "!"), out, "path %q by patterns %q", paths[i], patterns)
	}
}

func TestAsGitDoes(t *testing.T) {
	folder := repository(t)
	paths := []string{"a/", "b/a", "a/b/c", "x/a/b", "x/y/a/b/c", "a.log", "x/a.log", "foo bar", "foo ", "#x", "!x", "[x", "a-b", "a]b", "a\\b", "ä", "\xff\xfe", "a*b", "a/x/b", "a/b", "abc/def/ghi", "Z", "z", "a\tb", "1", "xx"}
	for _, p := range []string{"a", "/a", "a/", "b/a", "a/b", "/a/b", "**/a", "a/**", "a/**/b", "**", "*", "?", "*.log", "/*.log", "**/*.log", "x/**", "x/**/b", "a**b", "a/**b", "**b", "foo bar", "foo ", `foo\ `, "#x", `\#x`, `\!x`,
		"[a-z]", "[!a-z]", "[^a]", "[]x]", `[\[]x`, `a[\]]b`, "a[]-]b", "[[:upper:]]", "[[:alpha:]", "[[:nope:]]", "[[:digit:]]", "[[:x]", "[a-", "[", "[a", `a\\b`, `a\*b`, `a\`, "\xff*", "ä", "a[b-]b", "[--0]", "[b-a]", "a?b", "a[/]b", "a[!x]b", "*/b", "*/*/b", "***", "a/***/b", "/**/b", "**/", "/", "!", "!a", "", " ", "a/ ", "x**/y", `**\/b`, `a/*\/b`, "[[:space:]]", "a[[:blank:]]b", "x*x", "*x*x*"} {
		agree(t, folder, []string{p}, paths)
	}
	agree(t, folder, []string{"*", "!a/", "!a/b/", "a/b/c"}, paths)
	agree(t, folder, []string{"a", "!a/b/c", "!/b/a"}, paths)
}

// Random rules over random paths: git decides.
func TestAnyRulesAsGitDoes(t *testing.T) {
	folder := repository(t)
	rng := rand.New(rand.NewPCG(16, 3))
	letters := []string{"a", "b", "a", "b", "/", "/", "*", "**", "?", "[ab]", "[!a]", `\a`, `\*`, ".", "[a-b", "]", " ", "**/", "/**/"}
	for range 60 {
		var patterns, paths []string
		for range 1 + rng.IntN(5) {
			p := ""
			if rng.IntN(5) == 0 {
				p = "!"
			}
			for range 1 + rng.IntN(6) {
				p += letters[rng.IntN(len(letters))]
			}
			if rng.IntN(4) == 0 {
				p += "/"
			}
			patterns = append(patterns, p)
		}
		for range 20 {
			var names []string
			for range 1 + rng.IntN(4) {
				name := ""
				for range 1 + rng.IntN(3) {
					name += []string{"a", "b", "*", "]", "c"}[rng.IntN(5)]
				}
				names = append(names, name)
			}
			path := strings.Join(names, "/")
			if rng.IntN(3) == 0 {
				path += "/"
			}
			paths = append(paths, path)
		}
		agree(t, folder, patterns, paths)
	}
}

// Many stars take no time that grows beyond bearing.
func TestManyStars(t *testing.T) {
	rules, err := Parse([]string{strings.Repeat("*a", 60) + "b"})
	require.NoError(t, err)
	_, out := rules.LeftOut(strings.Repeat("a", 250), false)
	require.False(t, out)
	_, err = Parse([]string{"a\nb"})
	require.ErrorContains(t, err, "one line")
}

func FuzzRules(f *testing.F) {
	f.Add("**/[a-z]*\\/x", "a/b/x")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		if rules, err := Parse([]string{pattern}); err == nil {
			rules.LeftOut(path, false)
		}
	})
}

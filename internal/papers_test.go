package internal

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t *testing.T, file string) string {
	t.Helper()
	body, err := os.ReadFile(filepath.Join("..", file))
	require.NoError(t, err)
	return string(body)
}

// The pages lead to files that are there.
func TestPagesNameWhatIsThere(t *testing.T) {
	named := regexp.MustCompile("`((?:internal|web|cmd|demo|e2e)/[A-Za-z0-9_./-]+\\.(?:go|ts|tsx|sql))`")
	pages, err := filepath.Glob("../docs/decisions/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "../README.md", "../docs/how-it-hangs-together.md", "../docs/store-format.md") {
		body, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(body), -1) {
			_, err := os.Stat(filepath.Join("..", m[1]))
			assert.NoError(t, err, "%s names %s", page, m[1])
		}
	}
	require.Greater(t, len(named.FindAllString(read(t, "docs/how-it-hangs-together.md"), -1)), 40)
}

// The licence of each direct dependency is in docs/licences.md, and of nothing else.
func TestLicencesAreListed(t *testing.T) {
	have := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\|").FindAllStringSubmatch(read(t, "docs/licences.md"), -1) {
		have[m[1]] = true
	}
	want := map[string]bool{}
	for line := range strings.Lines(read(t, "go.mod")) {
		if m := regexp.MustCompile(`^\t(\S+) v\S+$`).FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
			want[m[1]] = true
		}
	}
	var npm struct {
		Dependencies, DevDependencies map[string]string
	}
	require.NoError(t, json.Unmarshal([]byte(read(t, "web/package.json")), &npm))
	for _, list := range []map[string]string{npm.Dependencies, npm.DevDependencies} {
		for name, version := range list {
			require.Regexp(t, `^\d`, version, "%s is not pinned", name)
			want[name] = true
		}
	}
	require.Greater(t, len(want), 40)
	require.Equal(t, want, have)
}

// Every screenshot is shown on the front page, and every one that is shown is there.
func TestScreenshotsAreShown(t *testing.T) {
	have, err := filepath.Glob("../docs/screenshots/*.png")
	require.NoError(t, err)
	require.Less(t, len(have), 20)
	shown := regexp.MustCompile(`docs/screenshots/[a-z-]+\.png`).FindAllString(read(t, "README.md"), -1)
	for i := range have {
		have[i] = strings.TrimPrefix(filepath.ToSlash(have[i]), "../")
	}
	require.ElementsMatch(t, have, shown)
}

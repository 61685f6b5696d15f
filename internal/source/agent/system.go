package agent

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
)

// OtherSystem implements [source.Comparer].
func (s *Source) OtherSystem(ctx context.Context, name, definition string) (string, error) {
	var now line.About
	if err := s.ask(ctx, name, line.CallAbout, nil, &now); err != nil {
		return "", err
	}
	return otherSystem(definition, now), nil
}

// otherSystem says in what a server differs from one whose layout a definition is: a configuration of one release may be none of another. A kernel alone
// is no other release.
func otherSystem(definition string, now line.About) string {
	var was struct{ System, Kernel, Arch string } // as a layout has them
	if json.Unmarshal([]byte(definition), &was) != nil || was.System == "" || now.System == "" || was.System == now.System && was.Arch == now.Arch {
		return ""
	}
	var differ []string
	for _, d := range [][3]string{{"release", was.System, now.System}, {"kernel", was.Kernel, now.Kernel}, {"processor", was.Arch, now.Arch}} {
		if d[1] != d[2] {
			differ = append(differ, fmt.Sprintf("%s: %s in the image, %s there now", d[0], plain.Text(d[1], 200), plain.Text(d[2], 200)))
		}
	}
	return "the image is of another system, whose configuration may not fit: " + strings.Join(differ, "; ") + "; bring it back part by part (--part)"
}

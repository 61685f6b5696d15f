package rescue

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"
)

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// console is where a person is asked: the screen and every serial line at once. What is typed at any of them is heard.
type console struct {
	lines chan typed
	mu    sync.Mutex
	files []*os.File
	shown bool // what is typed is
}

// typed is a line that was typed, and at which terminal.
type typed struct {
	text string
	at   *os.File
}

// consoles are the terminals that a machine may have.
var consoles = []string{"/dev/tty1", "/dev/ttyS0", "/dev/hvc0"}

// openConsole opens all of them that are there.
func openConsole() *console {
	c := &console{lines: make(chan typed), shown: true}
	for _, name := range consoles {
		f, err := os.OpenFile(name, os.O_RDWR|unix.O_NOCTTY, 0)
		if err != nil {
			continue
		}
		if _, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS); err != nil { // a serial line that no hardware is behind
			f.Close()
			continue
		}
		c.files = append(c.files, f)
		go c.hear(f)
	}
	return c
}

// hear passes on what is typed.
func (c *console) hear(in *os.File) {
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		c.lines <- typed{strings.TrimSpace(lines.Text()), in}
	}
}

// repeat shows at the other terminals what was typed at one.
func (c *console) repeat(l typed) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.files {
		if f != l.at {
			fmt.Fprintln(f, l.text)
		}
	}
}

// simple has what a screen without our fonts can't show.
var simple = strings.NewReplacer("✓", "ok:", "✗", "!!", "…", "...", "–", "-")

// Write writes to all terminals. One that does not take it is no reason to stop.
func (c *console) Write(p []byte) (int, error) {
	shown := []byte(simple.Replace(string(p)))
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.files {
		f.Write(shown)
	}
	return len(p), nil
}

func (c *console) say(format string, args ...any) { fmt.Fprintf(c, format+"\n", args...) }

// ask asks for a line. What is typed empty is what is proposed.
func (c *console) ask(ctx context.Context, question, proposed string) (string, error) {
	if proposed != "" {
		question += " [" + proposed + "]"
	}
	fmt.Fprintf(c, "%s: ", question)
	select {
	case l := <-c.lines:
		if c.shown {
			c.repeat(l)
		}
		return cmp.Or(l.text, proposed), nil
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}

// secret asks for something that is not shown.
func (c *console) secret(ctx context.Context, question string) (string, error) {
	c.echo(false)
	defer func() { c.echo(true); c.say("") }()
	return c.ask(ctx, question, "")
}

func (c *console) echo(on bool) {
	c.shown = on
	for _, f := range c.files {
		t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
		if err != nil {
			continue
		}
		if t.Lflag &^= unix.ECHO; on {
			t.Lflag |= unix.ECHO
		}
		unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t)
	}
}

// choose asks which of some lines is meant, by number; the first is proposed. Typed words narrow the list.
func (c *console) choose(ctx context.Context, question string, lines []string) (int, error) {
	shown := make([]int, len(lines))
	for i := range lines {
		shown[i] = i
	}
	for {
		c.say("")
		for n, i := range shown {
			if n == mostShown {
				c.say("  … and %d more; type a part of what you look for", len(shown)-n)
				break
			}
			c.say("  %2d  %s", n+1, lines[i])
		}
		text, err := c.ask(ctx, question, "1")
		if err != nil {
			return 0, err
		}
		if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= len(shown) {
			return shown[n-1], nil
		}
		var fit []int
		for i, l := range lines {
			if strings.Contains(strings.ToLower(l), strings.ToLower(text)) {
				fit = append(fit, i)
			}
		}
		if len(fit) == 0 {
			c.say("! nothing of these is %q; type a number, or a part of a line", text)
			continue
		}
		shown = fit
	}
}

// mostShown is how many lines are shown to choose from.
const mostShown = 30

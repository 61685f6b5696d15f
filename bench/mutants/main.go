// Command mutants shows how much tests notice: it changes one token of a room's code at a time, runs the room's own tests, and counts how
// often they fail. Files stay as they are; the compiler is given the changed one in their place (go build -overlay).
//
//	go run ./bench/mutants -n 20 ./internal/core/rotation ./internal/nbd
//	go run ./bench/mutants -n 20 -with ./internal/lodge ./internal/capture ./internal/retention
//
// Rooms of use cases are tested where the lodge puts them together, so the tests of that room are theirs, too: -with names it.
// A change that survives may change nothing (a bound that is never met); look at it before writing a test for it.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// mutant is a change of one token: the text from From to To, byte offsets in File, becomes With.
type mutant struct {
	File, With string
	From, To   int
	Line       int
}

var operators = map[token.Token]string{
	token.EQL: "!=", token.NEQ: "==", token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">",
	token.ADD: "-", token.SUB: "+", token.MUL: "+", token.QUO: "*", token.LAND: "||", token.LOR: "&&", token.SHL: ">>", token.SHR: "<<",
}

// mutants lists every change of a file.
func mutants(file string) (out []mutant, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	parsed, err := parser.ParseFile(set, file, text, 0)
	if err != nil {
		return nil, err
	}
	add := func(at token.Pos, length int, with string) {
		p := set.Position(at)
		out = append(out, mutant{file, with, p.Offset, p.Offset + length, p.Line})
	}
	ast.Inspect(parsed, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GenDecl:
			return n.Tok != token.IMPORT && n.Tok != token.CONST
		case *ast.BinaryExpr:
			if with, ok := operators[n.Op]; ok {
				add(n.OpPos, len(n.Op.String()), with)
			}
		case *ast.UnaryExpr:
			if n.Op == token.NOT {
				add(n.OpPos, 1, "")
			}
		case *ast.BasicLit:
			if i, err := strconv.ParseInt(n.Value, 0, 64); n.Kind == token.INT && err == nil {
				add(n.Pos(), len(n.Value), strconv.FormatInt(i+1, 10))
			}
		case *ast.Ident:
			if other, ok := map[string]string{"true": "false", "false": "true"}[n.Name]; ok {
				add(n.Pos(), len(n.Name), other)
			}
		case *ast.BranchStmt:
			if other, ok := map[token.Token]string{token.CONTINUE: "break", token.BREAK: "continue"}[n.Tok]; ok && n.Label == nil {
				add(n.Pos(), len(n.Tok.String()), other)
			}
		}
		return true
	})
	return out, nil
}

// caught makes a change and reports whether the folders' tests fail, one after the other. A change that does not compile is none.
func caught(folders []string, m mutant, overlay string) (fails, compiles bool, err error) {
	text, err := os.ReadFile(m.File)
	if err != nil {
		return false, false, err
	}
	changed := filepath.Join(overlay, "changed.go")
	if err := os.WriteFile(changed, append(append(bytes.Clone(text[:m.From]), m.With...), text[m.To:]...), 0o600); err != nil {
		return false, false, err
	}
	whole, err := filepath.Abs(m.File)
	if err != nil {
		return false, false, err
	}
	plan, err := json.Marshal(map[string]any{"Replace": map[string]string{whole: changed}})
	if err != nil {
		return false, false, err
	}
	file := filepath.Join(overlay, "overlay.json")
	if err := os.WriteFile(file, plan, 0o600); err != nil {
		return false, false, err
	}
	for _, folder := range folders { // its own first, for they are quick
		out, err := exec.Command("go", "test", "-overlay", file, "-vet=off", "-count=1", "-failfast", "-parallel", "8", "-timeout", "90s", folder).CombinedOutput()
		if err != nil {
			return true, !bytes.Contains(out, []byte("[build failed]")), nil
		}
	}
	return false, true, nil
}

func room(folder, with string, n int, rng *rand.Rand, overlay string) error {
	files, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil {
		return err
	}
	var all []mutant
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		found, err := mutants(f)
		if err != nil {
			return err
		}
		all = append(all, found...)
	}
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	tests := []string{folder}
	if with != "" && with != folder {
		tests = append(tests, with)
	}
	tried, hit := 0, 0
	for _, m := range all {
		if tried == n {
			break
		}
		fails, compiles, err := caught(tests, m, overlay)
		if err != nil {
			return err
		}
		if !compiles {
			continue
		}
		tried++
		if fails {
			hit++
			continue
		}
		text, err := os.ReadFile(m.File)
		if err != nil {
			return err
		}
		fmt.Printf("  survives: %s:%d %q becomes %q\n", m.File, m.Line, text[m.From:m.To], m.With)
	}
	if tried > 0 {
		fmt.Printf("%s: %d of %d caught, %d %%\n", folder, hit, tried, 100*hit/tried)
	}
	return nil
}

func main() {
	n := flag.Int("n", 20, "changes to try in each room")
	with := flag.String("with", "", "another room whose tests are those of each room, too")
	seed := flag.Uint64("seed", 1, "which changes")
	flag.Parse()
	overlay, err := os.MkdirTemp("", "mutants")
	if err == nil {
		defer os.RemoveAll(overlay)
		for _, folder := range flag.Args() {
			if err = room(folder, *with, *n, rand.New(rand.NewPCG(*seed, 0)), overlay); err != nil {
				break
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

package cli

import (
	"fmt"
	"os"
	"reflect"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/media"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/store/medium"
	_ "keenlodge/internal/store/medium/all" // every medium has its flags
	"keenlodge/internal/wire"
)

// setting is a medium's setting as a flag: its name, and what it is for each medium that has it.
type setting struct {
	flag, doc string
	kind      reflect.Kind
}

// settings lists the settings of all media, each once.
func settings() (out []setting) {
	at := map[string]int{}
	for _, name := range medium.Drivers() {
		d, _ := medium.Lookup(name)
		for f := range reflect.TypeOf(d.Settings()).Elem().Fields() {
			flag, doc := flagOf(f), fmt.Sprintf("%s: %s", name, f.Tag.Get("doc"))
			if i, ok := at[flag]; ok {
				out[i].doc += "; " + doc
				continue
			}
			at[flag] = len(out)
			out = append(out, setting{flag, doc, f.Type.Kind()})
		}
	}
	return out
}

// flagOf is the flag of a setting, by its name in the site file.
func flagOf(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("yaml"), ",")
	return strings.ReplaceAll(name, "_", "-")
}

// placeFlags describe a place.
func placeFlags() []cli.Flag {
	var media []string
	for _, name := range medium.Drivers() {
		d, _ := medium.Lookup(name)
		media = append(media, fmt.Sprintf("%s (%s)", name, d.Doc))
	}
	flags := []cli.Flag{
		&cli.StringFlag{Name: "medium", Usage: strings.Join(media, ", "), Value: "dir"},
		&cli.StringFlag{Name: "layout", Usage: "pooled (deduplicated packs) or open (qcow2 files that anyone can read; medium dir)", Value: "pooled"},
	}
	for _, s := range settings() {
		switch s.kind {
		case reflect.Bool:
			flags = append(flags, &cli.BoolFlag{Name: s.flag, Usage: s.doc})
		case reflect.Int:
			flags = append(flags, &cli.IntFlag{Name: s.flag, Usage: s.doc})
		default:
			flags = append(flags, &cli.StringFlag{Name: s.flag, Usage: s.doc})
		}
	}
	return append(flags, secretFlags()...)
}

// secretFlags name where secrets of places are found, and what of them may be told.
func secretFlags() []cli.Flag {
	var flags []cli.Flag
	for _, name := range medium.Drivers() {
		d, _ := medium.Lookup(name)
		for _, s := range d.Secrets {
			switch {
			case s.Public:
				flags = append(flags, &cli.StringFlag{Name: dashed(s.Name), Usage: name + ": " + s.Doc})
			case s.File:
				flags = append(flags, &cli.StringFlag{Name: dashed(s.Name) + "-file", Usage: name + ": file with the " + s.Doc})
			}
		}
	}
	return append(flags, &cli.StringFlag{Name: "secret-file", Usage: "file with the access key's secret, or the password; else KEENLODGE_SECRET, or a prompt"})
}

func dashed(name string) string { return strings.ReplaceAll(name, "_", "-") }

// placeFrom is the place that flags describe. A flag of another medium is a mistake.
func placeFrom(c *cli.Command) (site.Store, error) {
	spec := site.Store{Medium: c.String("medium"), Layout: site.Layout(c.String("layout"))}
	var err error
	if spec.Settings, err = media.Empty(spec.Medium); err != nil {
		return spec, usageError{err}
	}
	into := reflect.ValueOf(spec.Settings).Elem()
	own := map[string]bool{}
	for i := range into.NumField() {
		flag := flagOf(into.Type().Field(i))
		own[flag] = true
		switch into.Field(i).Kind() {
		case reflect.Bool:
			into.Field(i).SetBool(c.Bool(flag))
		case reflect.Int:
			into.Field(i).SetInt(int64(c.Int(flag)))
		default:
			into.Field(i).SetString(c.String(flag))
		}
	}
	for _, s := range settings() {
		if !own[s.flag] && c.IsSet(s.flag) {
			return spec, wrongUse("--%s is no setting of medium %s", s.flag, spec.Medium)
		}
	}
	return spec, nil
}

// credentialsFrom finds what signs in: secrets from files, the environment or a prompt, never from an argument. Nothing is what the
// lodge has already.
func credentialsFrom(c *cli.Command, name, place string) (wire.Credentials, error) {
	d, err := medium.Lookup(name)
	if err != nil {
		return nil, usageError{err}
	}
	out := wire.Credentials{}
	for _, s := range d.Secrets {
		switch {
		case s.Public && c.String(dashed(s.Name)) != "":
			out[s.Name] = c.String(dashed(s.Name))
		case s.Public:
			return nil, nil
		case s.File && c.String(dashed(s.Name)+"-file") != "":
			body, err := os.ReadFile(c.String(dashed(s.Name) + "-file"))
			if err != nil {
				return nil, err
			}
			out[s.Name] = string(body)
		case !s.File && (s.Instead == "" || c.String(dashed(s.Instead)+"-file") == ""):
			if out[s.Name], err = secretWord(c.String("secret-file"), "KEENLODGE_SECRET", s.Doc+" of "+place); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// mediumOfSecrets is the medium whose secrets the flags are about: the one that is named, or the one whose flags are set.
func mediumOfSecrets(c *cli.Command) (string, error) {
	if name := c.String("medium"); name != "" {
		return pick("medium", name, medium.Drivers())
	}
	var with []string
	for _, name := range medium.Drivers() {
		d, _ := medium.Lookup(name)
		if len(d.Secrets) > 0 {
			with = append(with, name)
		}
		for _, s := range d.Secrets {
			if s.Public && c.IsSet(dashed(s.Name)) || s.File && c.IsSet(dashed(s.Name)+"-file") {
				return name, nil
			}
		}
	}
	if c.IsSet("secret-file") || os.Getenv("KEENLODGE_SECRET") != "" || isTerminal(os.Stdin) {
		return "sftp", nil // a password alone
	}
	return "", wrongUse("which medium are the secrets for? Write --medium with one of %s", suggest.List(with))
}

package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/wire"
)

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// imageEvidenceCommand saves what belongs to an image's proofs.
func imageEvidenceCommand() *cli.Command {
	return &cli.Command{Name: "evidence", Usage: "save what belongs to the newest trial of an image: pictures of its screen, what it said", ArgsUsage: "IMAGE",
		Flags: []cli.Flag{output(), &cli.StringFlag{Name: "into", Usage: "folder for the files", Value: "."}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			m, err := k.Image(ctx, id)
			if err != nil {
				return err
			}
			for _, p := range m.Proofs {
				if p.Report != nil {
					return saveExhibits(ctx, c, k, m, p)
				}
			}
			return fmt.Errorf("image %s was not tried yet; try it with: keenlodge image prove %[1]s --level boot --wait", id)
		})}
}

// saved is an exhibit that was saved.
type saved struct {
	trial.Exhibit
	File string `json:"file"`
}

func saveExhibits(ctx context.Context, c *cli.Command, k *client.Client, m wire.ProvenImage, p wire.Proof) error {
	folder := c.String("into")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	out := []saved{}
	for i, e := range p.Report.Exhibits {
		body, err := k.Exhibit(ctx, m.ID, e.Name)
		if err != nil {
			return err
		}
		file := filepath.Join(folder, fmt.Sprintf("%s-%s-%d-%s%s", notInNames.ReplaceAllString(strings.ToLower(m.Machine), "-"), m.ID, i+1, notInNames.ReplaceAllString(strings.ToLower(e.About), "-"), filepath.Ext(e.Name)))
		if err := os.WriteFile(file, body, 0o600); err != nil {
			return err
		}
		out = append(out, saved{e, file})
	}
	return show(c, out, func(w io.Writer) {
		var rows [][]string
		for _, s := range out {
			rows = append(rows, []string{s.About, s.After.Round(100 * time.Millisecond).String(), s.File})
		}
		table(w, []string{"WHAT", "AFTER>", "FILE"}, rows)
	})
}
